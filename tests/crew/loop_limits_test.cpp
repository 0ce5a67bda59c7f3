// Loops that are stopped, have a deadline, are watched, or are for some workers; over what has no indices; and where
// what they threw was thrown.
#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <forward_list>
#include <list>
#include <map>
#include <numeric>
#include <optional>
#include <stdexcept>
#include <stop_token>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

namespace {

// For a crew of threads and one of tasks, with so many workers each.
template <class Fn>
void with_both(std::initializer_list<int> counts, Fn&& fn) {
  for (const int workers : counts) {
    CAPTURE(workers);
    {
      ThreadCrew crew(workers);
      fn(crew);
    }
    TaskCrew crew(workers);
    fn(crew);
  }
}

template <class Fn>
Error error_of(Fn&& fn) {
  try {
    fn();
  } catch (const Error& error) {
    return error;
  }
  return {Error::Kind::bad_input, "nothing", "", "", ""};
}

bool says(const Error& error, const char* what) {
  return std::string(error.what()).find(what) != std::string::npos;
}

}  // namespace

TEST_CASE("a loop says how many items were done, also when it was stopped") {
  const Deadline deadline("stopped");
  with_both({1, 2, 3, 64}, [](auto& crew) {
    CHECK(crew.each(1000, [](std::size_t) {}) == 1000);
    CHECK(crew.ranges(0, [](Range) {}) == 0);
    for (const std::size_t stop_at : {std::size_t{0}, std::size_t{70}, std::size_t{100'000}}) {
      std::stop_source source;
      std::atomic<std::size_t> ran{0};
      const auto body = [&](std::size_t) {
        if (++ran == stop_at + 1) source.request_stop();
        if (ran > stop_at / 2) std::this_thread::sleep_for(10us);
      };
      const std::size_t done = crew.each(3000, body, {.stop = source.get_token()});
      CHECK(done == ran);
      if (stop_at == 100'000) CHECK(done == 3000);
      if (stop_at == 70) CHECK(done < 3000);
    }
    std::stop_source source;
    std::atomic<int> ran{0};
    const Error half = error_of([&] {
      static_cast<void>(crew.collect(500,
                                     [&](std::size_t i) {
                                       if (++ran == 20) source.request_stop();
                                       std::this_thread::sleep_for(20us);
                                       return std::to_string(i);
                                     },
                                     {.stop = source.get_token()}));
    });
    CHECK(half.id() == "crew.stopped");
    CHECK(says(half, "of 500 were done"));
    // Stopped after its last item, it is whole.
    std::stop_source late;
    std::atomic<int> counted{0};
    const auto all = crew.collect(100,
                                  [&](std::size_t i) {
                                    if (++counted == 100) late.request_stop();
                                    return i;
                                  },
                                  {.stop = late.get_token()});
    CHECK(std::accumulate(all.begin(), all.end(), std::size_t{0}) == 4950);
  });
}

TEST_CASE("a deadline: what has not begun is not begun, and the error says how far it came") {
  const Deadline deadline("deadline");
  with_both({1, 2, 5}, [](auto& crew) {
    std::atomic<std::size_t> ran{0};
    const auto slow = [&](std::size_t) {
      std::this_thread::sleep_for(2ms);
      ++ran;
    };
    const Error late = error_of([&] { crew.each(100'000, slow, {.deadline_s = 0.03}); });
    CHECK(late.id() == "crew.loop_deadline");
    CHECK(says(late, (std::to_string(ran) + " of 100000 were done").c_str()));
    CHECK(ran > 0);
    // An even share of sixteen stretches at the most: the first of them are short.
    CHECK(ran < 20'000);
    CHECK(crew.each(10, slow, {.deadline_s = 3600}) == 10);
    CHECK(error_of([&] { crew.each(9, slow, {.deadline_s = -1}); }).id() == "crew.options");
    CHECK(error_of([&] { crew.each(9, slow, {.at_most = -1}); }).id() == "crew.options");
    CHECK(error_of([&] {
            static_cast<void>(crew.collect(10'000, [&](std::size_t i) { return slow(i), std::string("a text"); },
                                           {.deadline_s = 0.02}));
          }).id() == "crew.loop_deadline");
    CHECK(error_of([&] {
            static_cast<void>(crew.fold(10'000, 0.0,
                                        [&](Range range) { return slow(0), static_cast<double>(range.size()); },
                                        std::plus<>(), {.deadline_s = 0.02}));
          }).id() == "crew.loop_deadline");
    // What a body throws goes before it.
    CHECK_THROWS_WITH(crew.each(1000,
                                [&](std::size_t) {
                                  std::this_thread::sleep_for(1ms);
                                  throw std::runtime_error("dry");
                                },
                                {.deadline_s = 0.0005}),
                      "dry");
  });
}

TEST_CASE("progress grows to the number of items, seen from another thread") {
  const Deadline deadline("progress");
  with_both({1, 2, 20}, [](auto& crew) {
    LoopProgress progress;
    CHECK(progress.share() == 0.0);
    std::atomic<bool> over{false};
    bool fell = false;
    bool between = false;
    std::thread bar([&] {
      std::size_t before = 0;
      while (!over) {
        const std::size_t now = progress.done();
        fell = fell || now < before;
        between = between || (now > 0 && now < 400);
        before = now;
        std::this_thread::sleep_for(100us);
      }
    });
    crew.each(400, [](std::size_t) { std::this_thread::sleep_for(200us); }, {.progress = &progress});
    over = true;
    bar.join();
    CHECK_FALSE(fell);
    CHECK(between);
    CHECK(progress.done() == 400);
    CHECK(progress.items() == 400);
    CHECK(progress.share() == 1.0);
    // The next loop begins anew.
    crew.each(7, [](std::size_t) {}, {.progress = &progress});
    CHECK(progress.done() == 7);
    CHECK(progress.items() == 7);
  });
}

TEST_CASE("at most so many workers are in a loop at once, and all of it is done") {
  const Deadline deadline("at most");
  with_both({1, 2, 4, 64}, [](auto& crew) {
    using Options = typename std::remove_reference_t<decltype(crew)>::Options;
    for (const int at_most : {1, 2, 3, 100}) {
      for (const bool small : {false, true}) {
        test::AtOnce at_once;
        std::vector<std::atomic<int>> visits(60);
        Options options{.at_most = at_most};
        if constexpr (requires { options.split; }) {
          if (small) options.split = Split::chunks(1);
        } else if (small) {
          options.grain = Grain{1};
        }
        const auto body = [&](std::size_t i) {
          at_once.stay(300us);
          ++visits[i];
        };
        CHECK(crew.each(60, body, options) == 60);
        CHECK(at_once.most() <= std::min(at_most, crew.workers()));
        if (crew.workers() == 4 && at_most < 4 && small) CHECK(at_once.most() == at_most);
        CHECK(std::all_of(visits.begin(), visits.end(), [](const auto& count) { return count == 1; }));
        CHECK(crew.each(0, body, options) == 0);
      }
    }
    CHECK_THROWS_WITH(
        crew.each(50, [](std::size_t i) { i == 17 ? throw std::runtime_error("17") : void(); }, {.at_most = 2}), "17");
    CHECK(last_loop_fault().items == Range{17, 18});
  });
}

TEST_CASE("lists, maps and generators: each item once, several workers at once, slow ones hold up nobody") {
  const Deadline deadline("without indices", 120s);
  with_both({1, 2, 4, 64}, [](auto& crew) {
    std::list<int> list(3000);
    std::iota(list.begin(), list.end(), 0);
    CHECK(crew.each(list, [](int& item) { item = 2 * item + 1; }) == 3000);
    int expected = -1;
    CHECK(std::all_of(list.begin(), list.end(), [&](int item) { return item == (expected += 2); }));
    std::map<std::string, int> depths{{"bar", 3}, {"pool", 9}, {"sill", 1}};
    CHECK(crew.each(depths, [](auto& entry) { entry.second += 1; }) == 3);
    CHECK(depths["pool"] == 10);
    const std::forward_list<int> none;
    CHECK(crew.each(none, [](int) {}) == 0);
    int given = 0;
    std::atomic<long> sum{0};
    const auto next = [&]() -> std::optional<int> {
      if (given == 10'000) return {};
      return given++;
    };
    CHECK(crew.each_from(next, [&](int item) { sum += item; }) == 10'000);
    CHECK(sum == 49'995'000L);
    // One item takes a thousand times as long; and bodies that wait are many at once.
    test::AtOnce at_once;
    std::vector<int> workers_of(crew.workers() == 4 ? 400 : 40);
    std::list<std::size_t> places;
    for (std::size_t k = 0; k < workers_of.size(); ++k) places.push_back(k);
    crew.each(places, [&](std::size_t k) {
      at_once.stay(k == 0 ? 40ms : 500us);
      workers_of[k] = this_worker();
    });
    if (crew.workers() == 4) {
      CHECK(at_once.most() == 4);
      for (int worker = 0; worker < 4; ++worker) CHECK(std::count(workers_of.begin(), workers_of.end(), worker) <= 160);
    }
    // Limits hold here, too.
    std::stop_source source;
    std::atomic<std::size_t> ran{0};
    const std::size_t done = crew.each(list,
                                       [&](int) {
                                         if (++ran == 100) source.request_stop();
                                       },
                                       {.stop = source.get_token()});
    CHECK(done == ran);
    CHECK(error_of([&] {
            crew.each_from([]() -> std::optional<int> { return 1; }, [](int) { std::this_thread::sleep_for(1ms); },
                           {.deadline_s = 0.02, .at_most = 2});
          }).id() == "crew.loop_deadline");
    // What the generator gave before it threw is worked on.
    int calls = 0;
    std::atomic<int> worked{0};
    CHECK_THROWS_WITH(crew.each_from(
                          [&]() -> std::optional<int> {
                            if (++calls == 50) throw std::runtime_error("torn");
                            return calls;
                          },
                          [&](int) { ++worked; }),
                      "torn");
    CHECK(worked == 49);
    CHECK(calls == 50);
  });
}

TEST_CASE("every so many-th index, and tiles of three dimensions: each place once") {
  with_both({1, 3}, [](auto& crew) {
    std::vector<std::atomic<int>> seen(100);
    CHECK(crew.each(StridedRange{3, 100, 7}, [&](std::size_t i) { ++seen[i]; }) == 14);
    for (std::size_t i = 0; i < 100; ++i) CHECK(seen[i] == (i >= 3 && (i - 3) % 7 == 0 ? 1 : 0));
    CHECK(crew.each(StridedRange{5, 5, 2}, [](std::size_t) {}) == 0);
    CHECK(crew.each(StridedRange{9, 5, 2}, [](std::size_t) {}) == 0);
    CHECK(crew.each(StridedRange{0, 4, 0}, [](std::size_t) {}) == 4);
    std::vector<std::atomic<int>> places(5 * 7 * 11);
    const std::size_t tiles = crew.tiles(5, 7, 11, TileSize3{2, 3, 4}, [&](Tile3 tile) {
      for (const std::size_t p : tile.planes)
        for (const std::size_t r : tile.rows)
          for (const std::size_t c : tile.columns) ++places[(p * 7 + r) * 11 + c];
    });
    CHECK(tiles == 27);
    CHECK(std::all_of(places.begin(), places.end(), [](const auto& count) { return count == 1; }));
    CHECK(crew.tiles(0, 7, 11, TileSize3{0, 0, 0}, [](Tile3) {}) == 0);
  });
}

TEST_CASE("where what a loop threw was thrown, and how many others there were") {
  const Deadline deadline("faults");
  with_both({1, 2, 4}, [](auto& crew) {
    const auto bad = [](std::size_t i) {
      if (i == 321) throw std::runtime_error("dry");
    };
    CHECK_THROWS(crew.each(1000, bad));
    CHECK(last_loop_fault().items == Range{321, 322});
    CHECK(last_loop_fault().others == 0);
    std::vector<int> items(50);
    CHECK_THROWS(crew.each(items, [&](int& item) { bad(&item == &items[42] ? 321 : 0); }));
    CHECK(last_loop_fault().items == Range{42, 43});
    CHECK_THROWS(static_cast<void>(crew.collect(1000, [&](std::size_t i) { return bad(i), i; })));
    CHECK(last_loop_fault().items == Range{321, 322});
    CHECK_THROWS(static_cast<void>(crew.collect(1000, [&](std::size_t i) { return bad(i), std::string("a"); })));
    CHECK(last_loop_fault().items == Range{321, 322});
    CHECK_THROWS(static_cast<void>(crew.fold(
        1000, 0,
        [&](Range range) {
          for (const std::size_t i : range) bad(i);
          return 0;
        },
        std::plus<>())));
    CHECK(last_loop_fault().items.first <= 321);
    CHECK(last_loop_fault().items.last > 321);
    CHECK_THROWS(crew.each(std::list<int>(400), [&](int) { throw 5; }));
    CHECK(last_loop_fault().items.size() == 1);
    // A loop inside a body: the outer one's item is told.
    CHECK_THROWS(crew.each(30, [&](std::size_t i) {
      if (i == 11) crew.each(5, [](std::size_t j) { j == 2 ? throw 1 : void(); });
    }));
    CHECK(last_loop_fault().items == Range{11, 12});
    // All are inside before the first one throws.
    std::atomic<int> here{0};
    const auto workers = static_cast<std::size_t>(crew.workers());
    CHECK_THROWS(crew.each(workers, std::remove_reference_t<decltype(crew)>::small_pieces(1), [&](std::size_t) {
      CHECK(test::meet(here, static_cast<int>(workers)));
      throw std::runtime_error("all of them");
    }));
    CHECK(last_loop_fault().others == workers - 1);
    CHECK_THROWS(crew.each(1000, bad));
    CHECK(last_loop_fault().others == 0);
  });
}
