#include "antcrew/crew/task_graph.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <cstdlib>
#include <new>
#include <stdexcept>
#include <stop_token>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "support/allocations.hpp"

using namespace antcrew;

TEST_CASE("steps run after what they depend on, and results can be read") {
  for (const int workers : {1, 2, 5}) {
    TaskCrew crew(workers);
    TaskGraph graph;
    int tide = 1;
    auto depth = graph.step("depth", [&] { return 10 * tide; });
    auto slope = graph.step("slope", [&] { return depth.result() + 1; }, {depth});
    auto chart = graph.step(
        "chart", [&] { return std::to_string(depth.result()) + "/" + std::to_string(slope.result()); }, {depth, slope});
    CHECK_THROWS_WITH_AS(chart.result(),
                         "step 'chart': its result was read before it ran; run the graph first, or make the reader "
                         "depend on this step",
                         Error);
    for (; tide < 200; ++tide) {
      graph.run(crew);
      REQUIRE(chart.result() == std::to_string(10 * tide) + "/" + std::to_string(10 * tide + 1));
    }
  }
}

TEST_CASE("cycles are refused by name, also a step that waits for itself") {
  TaskCrew crew(2);
  TaskGraph graph;
  auto free = graph.step("free", [] {});
  auto a = graph.step("sound", [] {}, {free});
  auto b = graph.step("clean", [] {}, {a});
  auto c = graph.step("draw", [] {}, {b});
  graph.run(crew);
  graph.order(c, a);
  try {
    graph.run(crew);
    FAIL("a cycle was run");
  } catch (const Error& error) {
    CHECK(error.id() == "graph.cycle");
    const std::string text = error.what();
    CHECK(text.find("'sound'") != std::string::npos);
    CHECK(text.find("'clean' → 'draw'") != std::string::npos);
    CHECK(text.find("'free'") == std::string::npos);
  }
  TaskGraph own;
  auto alone = own.step("alone", [] {});
  own.order(alone, alone);
  CHECK_THROWS_WITH_AS(own.run(crew),
                       "TaskGraph: steps wait for each other: 'alone' → 'alone'; take one of these dependencies out",
                       Error);
}

TEST_CASE("two steps of one name are refused") {
  TaskGraph graph;
  graph.step("tide", [] {});
  CHECK_THROWS_AS(graph.step("tide", [] {}), Error);
}

TEST_CASE("after an exception steps not begun are left out, and the next run is whole") {
  TaskCrew crew(3);
  TaskGraph graph;
  bool faulty = true;
  std::atomic<int> later{0};
  auto first = graph.step("first", [&] {
    if (faulty) throw std::runtime_error("no water");
  });
  for (int k = 0; k < 50; ++k) {
    graph.step("later " + std::to_string(k), [&] { ++later; }, {first});
  }
  CHECK_THROWS_WITH_AS(graph.run(crew), "no water", std::runtime_error);
  CHECK(later == 0);
  faulty = false;
  graph.run(crew);
  CHECK(later == 50);
  std::stop_source stop;
  stop.request_stop();
  CHECK_THROWS_WITH_AS(graph.run(crew, stop.get_token()),
                       "TaskGraph: the stop token ended it before every step had run; catch this error where the stop "
                       "was asked for",
                       Error);
  CHECK(later == 50);
  graph.run(crew);
  CHECK(later == 100);
}

TEST_CASE("no step shows the result of an earlier run, and steps of another graph are refused") {
  for (const int workers : {1, 2}) {
    TaskCrew crew(workers);
    TaskGraph graph;
    std::stop_source stop;
    int tide = 0;
    auto first = graph.step("first", [&] {
      if (tide == 2) stop.request_stop();
      return ++tide;
    });
    auto second = graph.step("second", [&] { return 10 * first.result(); }, {first});
    graph.run(crew);
    graph.run(crew);
    CHECK(second.result() == 20);
    CHECK_THROWS_AS(graph.run(crew, stop.get_token()), Error);
    CHECK(first.result() == 3);
    CHECK_THROWS_WITH_AS(second.result(),
                         "step 'second': its result was read, but it has not run in this run of the graph; run the "
                         "graph first, or make the reader depend on this step",
                         Error);
    TaskGraph other;
    auto strange = other.step("strange", [] {});
    CHECK_THROWS_AS(graph.order(strange, first), Error);
    CHECK_THROWS_AS(graph.order(first, strange), Error);
    CHECK_THROWS_AS(graph.step("third", [] {}, {strange}), Error);
    CHECK(graph.size() == 2);
    graph.run(crew);
    CHECK(second.result() == 40);
  }
}

TEST_CASE("running again allocates nothing") {
  TaskCrew crew(1);
  TaskGraph graph;
  std::vector<TaskGraph::Step<internal::Nothing>> steps;
  int ran = 0;
  for (int k = 0; k < 2000; ++k) {
    const auto run = [&ran] { ++ran; };
    steps.push_back(graph.step("s" + std::to_string(k), run));
    if (k >= 50) graph.order(steps[static_cast<std::size_t>(k - 50)], steps.back());
    if (k >= 71) graph.order(steps[static_cast<std::size_t>(k - 71)], steps.back());
  }
  graph.run(crew);
  const std::size_t before = test::allocations();
  for (int again = 0; again < 10; ++again) graph.run(crew);
  CHECK(test::allocations() == before);
  CHECK(ran == 11 * 2000);
}

TEST_CASE("a graph inside a graph's step, and an empty one") {
  TaskCrew crew(2);
  TaskGraph inner;
  std::atomic<int> ran{0};
  for (int k = 0; k < 20; ++k) inner.step("i" + std::to_string(k), [&] { ++ran; });
  TaskGraph outer;
  outer.step("all", [&] { inner.run(crew); });
  outer.run(crew);
  CHECK(ran == 20);
  TaskGraph().run(crew);
}
