#include "antcrew/share/pipeline.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <memory>
#include <numeric>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/log/lanes.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

namespace {

// 0 … n - 1, then the end.
struct CountTo {
  int n;
  int next = 0;
  std::optional<int> operator()() { return next < n ? std::optional<int>(next++) : std::nullopt; }
};

template <class Crew>
void keeps_order_and_drops(int workers) {
  Crew crew(workers);
  std::vector<std::string> packed;
  std::atomic<int> at_once{0};
  std::atomic<bool> alone{true};
  auto line = pipeline(CountTo{2000})
                  .many("halve",
                        [](int i) -> std::optional<double> {
                          if (i % 3 == 0) return std::nullopt;
                          if (i % 50 == 0) std::this_thread::sleep_for(100us);
                          return i / 2.0;
                        })
                  .alone("name",
                         [&](double x) {
                           if (++at_once != 1) alone = false;
                           --at_once;
                           return std::make_unique<std::string>(std::to_string(x));
                         })
                  .as_read("pack", [&](std::unique_ptr<std::string> s) { packed.push_back(*s); });
  const PipelineFacts facts = line.run(crew, {.items = 7});
  CHECK(facts.read == 2000);
  CHECK(facts.passed == 1333);
  CHECK(facts.dropped == 667);
  REQUIRE(facts.stages.size() == 4);
  CHECK(facts.stages[1].name == "halve");
  CHECK(facts.stages[1].busy_s > 0);
  CHECK(alone);
  std::vector<std::string> expected;
  for (int i = 0; i < 2000; ++i) {
    if (i % 3 != 0) expected.push_back(std::to_string(i / 2.0));
  }
  CHECK(packed == expected);
}

}  // namespace

TEST_CASE("items pass all stages, in order where asked, with some left out") {
  for (const int workers : {1, 2, 5}) {
    keeps_order_and_drops<ThreadCrew>(workers);
    keeps_order_and_drops<TaskCrew>(workers);
  }
}

TEST_CASE("stages really overlap, and many items of one stage too") {
  ThreadCrew crew(4);
  std::atomic<int> here{0};
  std::atomic<int> met{0};
  auto line = pipeline(CountTo{4}).many("meet", [&](int) {
    ++here;
    for (int tries = 0; tries < 100'000 && here < 4; ++tries) std::this_thread::sleep_for(100us);
    if (here >= 4) ++met;
  });
  line.run(crew);
  CHECK(met == 4);
}

TEST_CASE("no more items are under way than asked for") {
  ThreadCrew crew(6);
  std::atomic<int> under_way{0};
  std::atomic<int> most{0};
  auto line = pipeline([&, next = 0]() mutable -> std::optional<int> {
                if (next == 300) return std::nullopt;
                const int now = ++under_way;
                if (now > most) most = now;
                return next++;
              }).many("work", [](int i) {
                  return i;
                }).as_read("end", [&](int) { --under_way; });
  line.run(crew, {.items = 3});
  CHECK(most <= 3);
  CHECK(most >= 1);
}

TEST_CASE("an exception from any stage or the source comes out, and what was under way is dropped") {
  for (const int where : {0, 1, 2}) {
    TaskCrew crew(3);
    std::atomic<int> packed{0};
    auto line = pipeline([&, next = 0]() mutable -> std::optional<int> {
                  if (where == 0 && next == 20) throw std::runtime_error("stage 0");
                  return next < 10'000 ? std::optional<int>(next++) : std::nullopt;
                })
                    .many("work",
                          [&](int i) {
                            if (where == 1 && i == 20) throw std::runtime_error("stage 1");
                            return i;
                          })
                    .as_read("pack", [&](int i) {
                      if (where == 2 && i == 20) throw std::runtime_error("stage 2");
                      ++packed;
                    });
    CHECK_THROWS_WITH_AS(line.run(crew), ("stage " + std::to_string(where)).c_str(), std::runtime_error);
    CHECK(packed <= 20);
  }
}

TEST_CASE("a stop request ends the reading; what was read comes to its end") {
  ThreadCrew crew(3);
  std::stop_source stop;
  std::atomic<int> ended{0};
  auto line = pipeline([&, next = 0]() mutable -> std::optional<int> { return next++; })
                  .many("work",
                        [&](int i) {
                          if (i == 100) stop.request_stop();
                          return i;
                        })
                  .as_read("end", [&](int) { ++ended; });
  const PipelineFacts facts = line.run(crew, {.stop = stop.get_token()});
  CHECK(facts.read >= 101);
  CHECK(facts.passed == facts.read);
  CHECK(static_cast<std::size_t>(ended) == facts.read);
}

// Each of these waited for ever, or within some hundred runs.
TEST_CASE("stages that wait for work of the same crew, fork, loop, and run a pipeline of their own") {
  for (const int workers : {1, 2, 3, 8}) {
    CAPTURE(workers);
    const test::Deadline deadline("stages that wait");
    TaskCrew crew(workers);
    for (int again = 0; again < 30; ++again) {
      long packed = 0;
      auto line = pipeline(CountTo{40})
                      .many("fork",
                            [&](int i) {
                              auto [a, b] = crew.both([&] { return i; }, [&] { return 1; });
                              return a + b;
                            })
                      .many("loop",
                            [&](int i) {
                              std::atomic<int> sum{0};
                              crew.each(8, Grain{1}, [&](std::size_t) { ++sum; });
                              return i + sum;
                            })
                      .alone("group",
                             [&](int i) {
                               TaskGroup group(crew);
                               std::atomic<int> ran{0};
                               for (int k = 0; k < 3; ++k) group.begin([&] { ++ran; });
                               group.wait();
                               return i + ran;
                             })
                      .as_read("later", [&](int i) { packed += crew.begin([i] { return i; }).get(); });
      line.run(crew);
      CHECK(packed == 40 * 39 / 2 + 40 * 12);
    }
    std::atomic<int> inner_items{0};
    auto outer = pipeline(CountTo{6}).many("inner", [&](int i) {
      pipeline(CountTo{i}).many("count", [&](int) { ++inner_items; }).run(crew);
    });
    outer.run(crew);
    CHECK(inner_items == 15);
  }
}

TEST_CASE("a stage for many takes as many items at once as there are workers") {
  const test::Deadline deadline("many at once");
  const auto runs = [](auto&& crew) {
    std::atomic<int> here{0};
    std::atomic<int> met{0};
    pipeline(CountTo{6}).many("meet", [&](int) { met += test::meet(here, 6) ? 1 : 0; }).run(crew, {.items = 6});
    CHECK(met == 6);
  };
  runs(ThreadCrew(6));
  runs(TaskCrew(6));
}

TEST_CASE("a stage for some has so many workers at once, and no more") {
  for (const int workers : {1, 2, 4}) {
    CAPTURE(workers);
    ThreadCrew crew(workers);
    for (const int at_most : {1, 2, 9}) {
      test::AtOnce before, inside;
      int given = 0;
      const PipelineFacts facts = pipeline([&]() -> std::optional<int> {
                                    if (given == 60) return {};
                                    return given++;
                                  })
                                      .many("before",
                                            [&](int item) {
                                              before.stay(200us);
                                              return item;
                                            })
                                      .at_most(at_most, "some", [&](int) { inside.stay(500us); })
                                      .run(crew);
      CHECK(facts.passed == 60);
      CHECK(inside.most() <= std::min(at_most, workers));
      if (workers == 4) CHECK(inside.most() == std::min(at_most, 4));
    }
  }
}

// One item at a time, so that all workers but one are without a step nearly always.
TEST_CASE("workers without a step help with the loops, forks and groups in the stages") {
  for (const bool logged : {false, true}) {
    for (const int workers : {2, 4, 8}) {
      CAPTURE(logged);
      CAPTURE(workers);
      const test::Deadline deadline("helping in stages");
      TaskCrew crew(workers);
      internal::LaneBook* book = logged ? internal::LaneBook::create(workers, workers) : nullptr;
      if (book != nullptr) book->open();
      test::AtOnce loop;
      test::AtOnce tasks;
      std::vector<int> items;
      auto line = pipeline(CountTo{3})
                      .as_read("loop",
                               [&](int i) {
                                 crew.each(24, Grain{1}, [&](std::size_t) { loop.stay(5ms); });
                                 return i;
                               })
                      .as_read("group", [&](int i) {
                        TaskGroup group(crew);
                        for (int k = 0; k < 24; ++k) group.begin([&] { tasks.stay(5ms); });
                        group.wait();
                        items.push_back(i);
                      });
      line.run(crew, {.items = 1});
      if (book != nullptr) {
        book->close();
        const internal::LaneSums sums = internal::sums_of(book->log());
        const double bodies_s = std::accumulate(sums.lane_body_s.begin(), sums.lane_body_s.end(), 0.0);
        CHECK(bodies_s > 3 * 48 * 0.005);  // who helps is in a body, and not waiting for a stage
        internal::LaneBook::destroy(book);
      }
      CHECK(items == std::vector<int>{0, 1, 2});
      CHECK(loop.most() == workers);
      CHECK(tasks.most() == workers);
    }
  }
}

TEST_CASE("a step that comes up while all others help is done, and a throw in a helped loop comes out") {
  const test::Deadline deadline("helped loops that throw");
  for (const int workers : {2, 3, 8}) {
    CAPTURE(workers);
    TaskCrew crew(workers);
    for (int again = 0; again < 50; ++again) {
      std::atomic<long> sum{0};
      std::vector<int> in_order;
      auto line = pipeline(CountTo{60})
                      .many("loop",
                            [&](int i) {
                              crew.each(i % 7 == 0 ? 300 : 3, Grain{1}, [&](std::size_t k) {
                                if (again % 5 == 4 && i == 42 && k == 200) throw std::runtime_error("broke");
                                sum += static_cast<long>(k);
                              });
                              return i;
                            })
                      .as_read("order", [&](int i) { in_order.push_back(i); });
      if (again % 5 == 4) {
        CHECK_THROWS_WITH_AS(line.run(crew), "broke", std::runtime_error);
        CHECK(in_order.size() <= 42);
      } else {
        line.run(crew);
        CHECK(sum == 9 * (299 * 300 / 2) + 51 * 3);
        CHECK(in_order.size() == 60);
      }
      CHECK(std::is_sorted(in_order.begin(), in_order.end()));
    }
  }
}

// In a stage's loop every number is one thread's, also of those who help; what was dropped in a stage belongs to the
// run.
TEST_CASE("who helps in a stage has a number of its own, and dropped work belongs to the run") {
  const test::Deadline deadline("numbers in stages");
  TaskCrew crew(4);
  for (int again = 0; again < 100; ++again) {
    std::atomic<bool> unique{true};
    std::atomic<int> dropped{0};
    auto line = pipeline(CountTo{8}).many("loop", [&](int) {
      std::array<std::atomic<bool>, 4> taken{};
      crew.each(64, Grain{1}, [&](std::size_t) {
        std::atomic<bool>& mine = taken[static_cast<std::size_t>(this_worker())];
        if (mine.exchange(true)) unique = false;
        std::this_thread::yield();
        mine = false;
      });
      static_cast<void>(crew.begin([&] { ++dropped; }));
    });
    line.run(crew);
    CHECK(unique);
    CHECK(dropped == 8);
  }
}

TEST_CASE("who fell asleep while the source was at work, and then lacked room, is said to lack room") {
  ThreadCrew crew(4);
  internal::LaneBook* book = internal::LaneBook::create(4, 4);
  book->open();
  int read = 0;
  auto line = pipeline([&]() -> std::optional<int> {
                std::this_thread::sleep_for(2ms);
                return read == 2 ? std::nullopt : std::optional<int>(read++);
              }).many("decode", [](int) { std::this_thread::sleep_for(50ms); });
  PipelineOptions options;
  options.items = 2;
  line.run(crew, options);
  book->close();
  const internal::LaneSums sums = internal::sums_of(book->log());
  internal::LaneBook::destroy(book);
  CHECK(sums.buffer_full_s > 0.05);  // two workers, for nearly 50 ms each
  CHECK(sums.source_s < sums.buffer_full_s);
}
