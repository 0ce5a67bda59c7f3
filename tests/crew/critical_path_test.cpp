#include <doctest/doctest.h>

#include <chrono>
#include <thread>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_graph.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/log/lanes.hpp"

using namespace antcrew;
using doctest::Approx;

namespace {

void nap(int ms) {
  std::this_thread::sleep_for(std::chrono::milliseconds(ms));
}

// Of a call with a log, in milliseconds; 0 = it has none.
template <class Fn>
double path_ms(int workers, Fn fn) {
  TaskCrew crew(workers);
  internal::LaneBook* book = internal::LaneBook::create(workers, workers);
  book->open();
  fn(crew);
  book->close();
  const double path_s = internal::sums_of(book->log()).critical_path_s;
  internal::LaneBook::destroy(book);
  return path_s * 1e3;
}

// Depth d of a tree whose leaves take 10 ms and whose joins take 2 ms.
void tree(TaskCrew& crew, int depth) {
  if (depth == 0) return nap(10);
  crew.both([&] { tree(crew, depth - 1); }, [&] { tree(crew, depth - 1); });
  nap(2);
}

}  // namespace

TEST_CASE("the critical path of recursion is the same for every number of workers") {
  for (const int workers : {2, 3, 8}) {
    CAPTURE(workers);
    CHECK(path_ms(workers, [](TaskCrew& crew) { tree(crew, 3); }) == Approx(10 + 3 * 2).epsilon(0.25));
  }
}

TEST_CASE("of unlike halves the longer one counts, whoever runs it") {
  const auto halves = [](int first, int second) {
    return [=](TaskCrew& crew) { crew.both([=] { nap(first); }, [=] { nap(second); }); };
  };
  CHECK(path_ms(2, halves(30, 5)) == Approx(30).epsilon(0.2));
  CHECK(path_ms(2, halves(5, 30)) == Approx(30).epsilon(0.2));
  // Both halves by one worker, the other being kept busy elsewhere.
  CHECK(path_ms(2, [](TaskCrew& crew) {
          crew.both([&] { crew.both([] { nap(10); }, [] { nap(10); }); },
                    [&] { crew.both([] { nap(10); }, [] { nap(10); }); });
        }) == Approx(10).epsilon(0.4));
}

TEST_CASE("the critical path of a graph is its longest way") {
  CHECK(path_ms(3, [](TaskCrew& crew) {
          TaskGraph graph;
          const auto first = graph.step("first", [] { nap(10); });
          const auto left = graph.step("left", [] { nap(20); }, {first});
          const auto right = graph.step("right", [] { nap(5); }, {first});
          graph.step("last", [] { nap(10); }, {left, right});
          for (int k = 0; k < 6; ++k) graph.step("aside " + std::to_string(k), [] { nap(10); });
          graph.run(crew);
        }) == Approx(40).epsilon(0.2));
}

TEST_CASE("children of a group are on paths of their own from where they were begun") {
  const auto in_a_group = [](TaskCrew& crew) {
    TaskGroup group(crew);
    for (int k = 0; k < 6; ++k) group.begin([] { nap(10); });
    group.wait();
    nap(5);  // in turn
  };
  CHECK(path_ms(2, in_a_group) == Approx(15).epsilon(0.3));
  CHECK(path_ms(2, [&](TaskCrew& crew) { crew.both([&] { in_a_group(crew); }, [] { nap(2); }); }) ==
        Approx(15).epsilon(0.3));
}

TEST_CASE("what is in turn counts, a loop does not, and without tasks there is no path to tell") {
  CHECK(path_ms(2, [](TaskCrew& crew) {
          nap(20);
          crew.both([&] { crew.each(8, Grain{1}, [](std::size_t) { nap(5); }); }, [] {});
        }) == Approx(20).epsilon(0.2));
  CHECK(path_ms(2, [](TaskCrew& crew) { crew.each(8, Grain{1}, [](std::size_t) { nap(5); }); }) == 0);
}

TEST_CASE("a half that throws leaves the path usable") {
  CHECK(path_ms(2, [](TaskCrew& crew) {
          crew.both(
              [&] {
                try {
                  crew.both([] { nap(10); }, [] { throw 1; });
                } catch (int) {
                }
                nap(10);
              },
              [] {});
        }) == Approx(20).epsilon(0.3));
}
