#include <doctest/doctest.h>

#include <algorithm>
#include <chrono>
#include <string>
#include <thread>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/clock.hpp"
#include "support/disturbance.hpp"

using namespace antcrew;

namespace {

// Milliseconds that it really took: on a busy machine, more than asked.
double nap(int ms) {
  const std::int64_t start = now_ns();
  std::this_thread::sleep_for(std::chrono::milliseconds(ms));
  return static_cast<double>(now_ns() - start) * 1e-6;
}

struct Paths {
  double found_ms = 0;  // 0 = the log has none
  double napped_ms = 0;
  double call_ms = 0;
};

// fn gives the longest chain of the naps that it took, in milliseconds.
template <class Fn>
Paths paths(int workers, Fn fn) {
  TaskCrew crew(workers);
  internal::LaneBook* book = internal::LaneBook::create(workers, workers);
  const std::int64_t start = now_ns();
  book->open();
  const double napped_ms = fn(crew);
  book->close();
  const double call_ms = static_cast<double>(now_ns() - start) * 1e-6;
  const double path_s = internal::sums_of(book->log()).critical_path_s;
  internal::LaneBook::destroy(book);
  return {path_s * 1e3, napped_ms, call_ms};
}

// Never shorter than the naps in a row, never longer than the call; and what a busy machine puts in between is left
// out by the best of some goes.
template <class Fn>
void check_path(int workers, Fn fn) {
  CAPTURE(workers);
  double between_ms = 1e9;
  for (int go = 0; go < 20 && between_ms > 1; ++go) {
    const test::Disturbance machine;
    const Paths seen = paths(workers, fn);
    // A nap that ends late for want of a processor is longer to its thread than to the log, which knows of the waiting.
    constexpr double wake_up_ms = 0.1;
    const double least_ms = seen.napped_ms * 0.999 - wake_up_ms;
    const bool late = seen.found_ms < least_ms && machine.too_much();
    if (late && go < 19) continue;
    if (late) {
      MESSAGE("not judged: the machine was taken away in the last go, too");
      return;
    }
    CHECK(seen.found_ms >= least_ms);
    CHECK(seen.found_ms <= seen.call_ms * 1.001);
    between_ms = std::min(between_ms, seen.found_ms - seen.napped_ms);
  }
  CHECK(between_ms <= 1);
}

// Depth d of a tree whose leaves take 10 ms and whose joins take 2 ms.
double tree(TaskCrew& crew, int depth) {
  if (depth == 0) return nap(10);
  double left = 0, right = 0;
  crew.both([&] { left = tree(crew, depth - 1); }, [&] { right = tree(crew, depth - 1); });
  return std::max(left, right) + nap(2);
}

double both(TaskCrew& crew, int first, int second) {
  double left = 0, right = 0;
  crew.both([&] { left = nap(first); }, [&] { right = nap(second); });
  return std::max(left, right);
}

double in_a_group(TaskCrew& crew) {
  double took[6] = {};
  TaskGroup group(crew);
  for (double& one : took) group.begin([&one] { one = nap(10); });
  group.wait();
  return *std::max_element(std::begin(took), std::end(took)) + nap(5);  // in turn
}

}  // namespace

TEST_CASE("the critical path of recursion is the same for every number of workers") {
  for (const int workers : {2, 3, 8}) check_path(workers, [](TaskCrew& crew) { return tree(crew, 3); });
}

TEST_CASE("of unlike halves the longer one counts, whoever runs it") {
  check_path(2, [](TaskCrew& crew) { return both(crew, 30, 5); });
  check_path(2, [](TaskCrew& crew) { return both(crew, 5, 30); });
  // Both halves by one worker, the other being kept busy elsewhere.
  check_path(2, [](TaskCrew& crew) {
    double left = 0, right = 0;
    crew.both([&] { left = both(crew, 10, 10); }, [&] { right = both(crew, 10, 10); });
    return std::max(left, right);
  });
}

TEST_CASE("the critical path of a graph is its longest way") {
  check_path(3, [](TaskCrew& crew) {
    double took[4] = {};
    double aside[6] = {};
    TaskGraph graph;
    const auto first = graph.step("first", [&] { took[0] = nap(10); });
    const auto left = graph.step("left", [&] { took[1] = nap(20); }, {first});
    const auto right = graph.step("right", [&] { took[2] = nap(5); }, {first});
    graph.step("last", [&] { took[3] = nap(10); }, {left, right});
    for (int k = 0; k < 6; ++k) graph.step("aside " + std::to_string(k), [&aside, k] { aside[k] = nap(10); });
    graph.run(crew);
    return std::max(took[0] + std::max(took[1], took[2]) + took[3],
                    *std::max_element(std::begin(aside), std::end(aside)));
  });
}

TEST_CASE("children of a group are on paths of their own from where they were begun") {
  check_path(2, in_a_group);
  check_path(2, [](TaskCrew& crew) {
    double left = 0, right = 0;
    crew.both([&] { left = in_a_group(crew); }, [&] { right = nap(2); });
    return std::max(left, right);
  });
}

TEST_CASE("what is in turn counts, a loop does not, and without tasks there is no path to tell") {
  check_path(2, [](TaskCrew& crew) {
    const double in_turn = nap(20);
    crew.both([&] { crew.each(8, Grain{1}, [](std::size_t) { nap(5); }); }, [] {});
    return in_turn;
  });
  CHECK(paths(2, [](TaskCrew& crew) {
          crew.each(8, Grain{1}, [](std::size_t) { nap(5); });
          return 0.0;
        }).found_ms == 0);
}

TEST_CASE("a half that throws leaves the path usable") {
  check_path(2, [](TaskCrew& crew) {
    double napped = 0;
    crew.both(
        [&] {
          double first = 0;
          try {
            crew.both([&] { first = nap(10); }, [] { throw 1; });
          } catch (int) {
          }
          napped = first + nap(10);
        },
        [] {});
    return napped;
  });
}
