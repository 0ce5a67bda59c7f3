// Loops over items and iterators, and stop tokens: the same for both crews.
#include <doctest/doctest.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <deque>
#include <functional>
#include <memory>
#include <numeric>
#include <span>
#include <stdexcept>
#include <stop_token>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

TEST_CASE_TEMPLATE("items, iterators and spans", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    std::vector<int> numbers(1000);
    std::iota(numbers.begin(), numbers.end(), 0);
    crew.each(numbers, [](int& x) { x *= 2; });
    CHECK(std::accumulate(numbers.begin(), numbers.end(), 0) == 999'000);
    std::deque<int> queue(numbers.begin(), numbers.end());
    crew.each(queue.begin() + 10, queue.end(), Crew::small_pieces(7), [](int& x) { x = 1; });
    CHECK(std::accumulate(queue.begin(), queue.end(), 0) == 90 + 990);
    std::array<double, 5> five{};
    crew.each(five, [&](double& x) { x = static_cast<double>(&x - five.data()); });
    CHECK(five[4] == 4);
    std::atomic<std::size_t> seen{0};
    crew.ranges(std::span<const int>(numbers).subspan(100), Crew::small_pieces(30), [&](std::span<const int> part) {
      REQUIRE(part.size() <= 30);
      for (const int& x : part) seen += x == 2 * static_cast<int>(&x - numbers.data()) ? 1u : 0u;
    });
    CHECK(seen == 900);
    crew.ranges(numbers, [&](std::span<int> part) { part[0] = -1; });
    CHECK(numbers[0] == -1);
    const std::vector<std::string> none;
    crew.each(none, [](const std::string&) { FAIL("an item of nothing"); });
  }
}

namespace {

std::atomic<std::size_t> indices_added{0};
void add_index(std::size_t i) {
  indices_added += i;
}
void add_range(Range range) {
  for (const std::size_t i : range) indices_added += i;
}
std::size_t doubled_index(std::size_t i) {
  return 2 * i;
}
std::size_t range_length(Range range) {
  return range.size();
}

}  // namespace

TEST_CASE_TEMPLATE("bodies may be plain functions, const objects and functions that are moved in", Crew, ThreadCrew,
                   TaskCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    indices_added = 0;
    crew.each(100, add_index);
    crew.ranges(100, Crew::small_pieces(7), add_range);
    crew.ranges(100, &add_range);
    CHECK(indices_added == 3 * 4950);
    CHECK(crew.collect(100, doubled_index)[99] == 198);
    CHECK(crew.fold(1000, std::size_t{0}, range_length, std::plus<>()) == 1000);
    const auto const_body = [](std::size_t i) { indices_added += i; };
    crew.each(100, const_body);
    crew.each(100, [mine = std::make_unique<int>(1)](std::size_t i) {
      indices_added += i * static_cast<std::size_t>(*mine);
    });
    CHECK(indices_added == 5 * 4950);
  }
}

namespace {

// A stop of one's own: counts its copies, so that one that is lost or destroyed twice is seen.
struct OwnStop {
  explicit OwnStop(std::atomic<int>& alive) noexcept : alive_(alive) { ++alive_; }
  OwnStop(const OwnStop& other) noexcept : alive_(other.alive_) { ++alive_; }
  ~OwnStop() { --alive_; }
  bool stop_possible() const noexcept { return true; }
  bool stop_requested() const noexcept { return false; }
  std::atomic<int>& alive_;
};

}  // namespace

TEST_CASE("an AnyStopToken copies its token, whatever type that is, and gives back every copy") {
  std::atomic<int> alive{0};
  {
    const OwnStop token(alive);
    AnyStopToken stop(token);
    AnyStopToken copy = stop;
    copy = stop;
    AnyStopToken& itself = copy;
    copy = itself;
    stop = AnyStopToken();
    CHECK(copy.stop_possible());
    CHECK_FALSE(stop.stop_possible());
    CHECK(alive == 2);
    ThreadCrew crew(2);
    crew.each(
        10, Split::chunks(1), [](std::size_t) {}, token);
  }
  CHECK(alive == 0);
  const AnyStopToken none = std::stop_token();  // of no source: nobody can ask
  CHECK_FALSE(none.stop_possible());
  CHECK_FALSE(none.stop_requested());
  std::stop_source source;
  const AnyStopToken asked = source.get_token();
  CHECK_FALSE(asked.stop_requested());
  source.request_stop();
  CHECK(asked.stop_requested());
}

TEST_CASE_TEMPLATE("a stop request ends a loop early, whoever asks", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 4}) {
    Crew crew(workers);
    std::stop_source stop;
    std::atomic<int> done{0};
    const auto body = [&](std::size_t) {
      if (++done == 20) stop.request_stop();
      std::this_thread::sleep_for(50us);
    };
    crew.each(100'000, Crew::small_pieces(1), body, stop.get_token());
    CHECK(done >= 20);
    CHECK(done < 1000);
    const int before = done;
    crew.each(100, Crew::small_pieces(1), body, stop.get_token());  // asked before it began
    CHECK(done == before);
    std::stop_source other;
    std::thread asker([&] {
      std::this_thread::sleep_for(5ms);
      other.request_stop();
    });
    std::atomic<int> waited{0};
    crew.each(
        1'000'000, Crew::usual,
        [&](std::size_t) {
          ++waited;
          std::this_thread::sleep_for(1ms);
        },
        other.get_token());
    asker.join();
    CHECK(waited < 100'000);
    std::stop_source never;
    int sum = crew.fold(
        100, 0, [](Range range) { return static_cast<int>(range.size()); }, std::plus<>(), never.get_token());
    CHECK(sum == 100);
  }
}

TEST_CASE_TEMPLATE("a loop that was asked to stop before it began takes no piece", Crew, ThreadCrew, TaskCrew) {
  std::stop_source stop;
  stop.request_stop();
  const AnyStopToken asked = stop.get_token();
  for (const int workers : {1, 2, 3, 64}) {
    Crew crew(workers);
    std::atomic<int> called{0};
    const auto on_range = [&](Range) { ++called; };
    const auto on_item = [&](std::size_t) { ++called; };
    for (const auto how : {Crew::usual, Crew::small_pieces(1), Crew::small_pieces(7)}) {
      crew.ranges(100, how, on_range, asked);
      crew.each(100, how, on_item, asked);
      crew.each_with([] { return 0; }, 100, how, [&](std::size_t, int) { ++called; }, asked);
      crew.tiles(
          10, 10, TileSize{2, 2}, how, [&](Tile) { ++called; }, asked);
    }
    crew.each(3, [&](std::size_t) { crew.ranges(5, Crew::usual, on_range, asked); });
    CHECK(called == 0);
  }
}

// Pieces of every length around the sizes at which blocks grow, by all that cut a piece up.
TEST_CASE_TEMPLATE("each index once, whatever the length of a piece", Crew, ThreadCrew, TaskCrew) {
  std::stop_source never_asked;
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    for (std::size_t n : {1u, 2u, 3u, 15u, 16u, 17u, 31u, 32u, 33u, 255u, 1000u, 4099u}) {
      for (const auto how : {Crew::usual, Crew::small_pieces(1), Crew::small_pieces(5), Crew::small_pieces(64)}) {
        std::vector<std::atomic<int>> seen(n);
        const auto count = [&](std::size_t i) { ++seen[i]; };
        crew.each(n, how, count);
        crew.each(n, how, count, never_asked.get_token());
        crew.each_with([] { return 1; }, n, how, [&](std::size_t i, int one) { seen[i] += one; },
                       never_asked.get_token());
        const auto numbers = crew.collect(n, how, [&](std::size_t i) { return ++seen[i], i; });
        const auto texts = crew.collect(n, how, [&](std::size_t i) { return ++seen[i], std::to_string(i); });
        for (std::size_t i = 0; i < n; ++i) {
          REQUIRE(seen[i] == 5);
          REQUIRE(numbers[i] == i);
          REQUIRE(texts[i] == std::to_string(i));
        }
      }
    }
  }
}

TEST_CASE_TEMPLATE("collect and fold have nothing whole to return when they were stopped", Crew, ThreadCrew, TaskCrew) {
  Crew crew(2);
  std::stop_source stop;
  const auto fn = [&](std::size_t i) {
    if (i == 0) stop.request_stop();
    return std::to_string(i);
  };
  CHECK_THROWS_WITH_AS(crew.collect(10'000, Crew::usual, fn, stop.get_token()),
                       doctest::Contains("of 10000 were done; catch this error where the stop was asked for"), Error);
  CHECK_THROWS_AS(crew.fold(
                      1000, 0.0, [](Range) { return 1.0; }, std::plus<>(), stop.get_token()),
                  Error);
}

TEST_CASE_TEMPLATE("exceptions go before a stop, and the crew works on", Crew, ThreadCrew, TaskCrew) {
  Crew crew(3);
  std::stop_source stop;
  const auto throws = [](std::size_t i) {
    if (i == 5) throw std::runtime_error("gauge 5");
  };
  CHECK_THROWS_WITH_AS(crew.each(100, Crew::small_pieces(1), throws, stop.get_token()), "gauge 5", std::runtime_error);
  std::atomic<int> done{0};
  crew.each(100, [&](std::size_t) { ++done; });
  CHECK(done == 100);
}

TEST_CASE_TEMPLATE("tiles: every place once, none larger than asked", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    for (const auto& [rows, columns] :
         {std::pair<std::size_t, std::size_t>{0, 5}, {5, 0}, {1, 1}, {100, 70}, {64, 129}}) {
      std::vector<std::atomic<int>> places(rows * columns);
      std::atomic<bool> small{true};
      const auto body = [&, columns = columns](Tile tile) {
        if (tile.rows.size() > 8 || tile.columns.size() > 9 || tile.rows.empty() || tile.columns.empty()) small = false;
        for (const std::size_t r : tile.rows) {
          for (const std::size_t c : tile.columns) ++places[r * columns + c];
        }
      };
      crew.tiles(rows, columns, TileSize{8, 9}, body);
      crew.tiles(rows, columns, TileSize{8, 9}, Crew::small_pieces(3), body);
      CHECK(small);
      CHECK(std::all_of(places.begin(), places.end(), [](const auto& times) { return times == 2; }));
    }
    std::atomic<std::size_t> covered{0};
    crew.tiles(1000, 1000, [&](const Tile& tile) { covered += tile.rows.size() * tile.columns.size(); });
    CHECK(covered == 1'000'000);
  }
}

TEST_CASE_TEMPLATE("a worker's scratch value: made once a call by those that take part, used by one at a time", Crew,
                   ThreadCrew, TaskCrew) {
  struct Buffer {
    int uses = 0;
    std::atomic<bool>* in_use = nullptr;
  };
  for (const int workers : {1, 4}) {
    Crew crew(workers);
    for (int again = 0; again < 3; ++again) {
      std::atomic<int> made{0};
      std::atomic<int> uses{0};
      std::atomic<int> shared{0};
      std::vector<std::atomic<bool>> in_use(8);
      const auto make = [&] { return Buffer{0, &in_use[static_cast<std::size_t>(made++)]}; };
      crew.each_with(make, 500, Crew::small_pieces(3), [&](std::size_t, Buffer& mine) {
        if (mine.in_use->exchange(true)) ++shared;
        ++mine.uses;
        ++uses;
        mine.in_use->store(false);
      });
      CHECK(uses == 500);
      CHECK(shared == 0);
      CHECK(made >= 1);
      CHECK(made <= workers);
    }
    std::atomic<std::size_t> items{0};
    crew.ranges_with([] { return std::vector<int>(10); }, 1000,
                     [&](Range range, std::vector<int>& mine) { items += range.size() * mine.size() / 10; });
    CHECK(items == 1000);
    const auto cannot = []() -> int { throw std::runtime_error("no buffer"); };
    CHECK_THROWS_WITH_AS(crew.each_with(cannot, 10, [](std::size_t, int&) {}), "no buffer", std::runtime_error);
  }
}

TEST_CASE_TEMPLATE("collected values with destructors are all destroyed, also after a fault", Crew, ThreadCrew,
                   TaskCrew) {
  struct Counted {
    explicit Counted(std::atomic<int>& all) : alive(&all) { ++*alive; }
    Counted(Counted&& from) noexcept : alive(from.alive) { ++*alive; }
    ~Counted() { --*alive; }
    std::atomic<int>* alive;
  };
  std::atomic<int> alive{0};
  Crew crew(4);
  for (const std::size_t throwing : {std::size_t{0}, std::size_t{777}, std::size_t{5000}}) {
    const auto make = [&](std::size_t i) {
      if (i == throwing) throw std::runtime_error("cannot be made");
      return Counted(alive);
    };
    try {
      const auto all = crew.collect(3000, Crew::small_pieces(7), make);
      CHECK(alive == 3000);
    } catch (const std::runtime_error&) {
    }
    CHECK(alive == 0);
  }
}

// An expression that must not compile.
template <class Crew, class All>
concept loops_over = requires(Crew crew, All all) {
  requires internal::HasPlaces<decltype(std::begin(all))>;
};
static_assert(!loops_over<ThreadCrew&, std::vector<bool>&>);
static_assert(loops_over<ThreadCrew&, std::vector<char>&>);
static_assert(loops_over<ThreadCrew&, const std::vector<bool>&>);

namespace {

template <class Crew>
auto pieces_of(std::size_t k) {
  if constexpr (std::is_same_v<Crew, ThreadCrew>) {
    return typename Crew::Options{.split = Crew::small_pieces(k)};
  } else {
    return typename Crew::Options{.grain = Crew::small_pieces(k)};
  }
}

}  // namespace

TEST_CASE_TEMPLATE("options by name do what they do before and behind the body", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    std::atomic<std::size_t> longest{0};
    const auto note = [&](Range range) {
      std::size_t seen = longest.load();
      while (range.size() > seen && !longest.compare_exchange_weak(seen, range.size())) {
      }
    };
    const auto longest_of = [&](auto&& loop) {
      longest = 0;
      loop();
      return longest.load();
    };
    const auto named = pieces_of<Crew>(7);
    CHECK(longest_of([&] { crew.ranges(100, note, named); }) ==
          longest_of([&] { crew.ranges(100, Crew::small_pieces(7), note); }));
    CHECK(longest_of([&] { crew.ranges(100, note, named); }) == 7);
    std::vector<double> numbers(1000, 0.1);
    const auto sum = [](std::span<double> part) { return std::accumulate(part.begin(), part.end(), 0.0); };
    const double usual = crew.fold(numbers, 0.0, sum, std::plus<>());
    CHECK(crew.fold(numbers, 0.0, sum, std::plus<>(), pieces_of<Crew>(9)) == usual);
    CHECK(crew.fold(numbers, Crew::small_pieces(9), 0.0, sum, std::plus<>()) == usual);
    CHECK(crew.collect(
              5, [](std::size_t i) { return i; }, named)[4] == 4);
    int tiles = 0;
    crew.tiles(
        4, 4, TileSize{2, 2}, [&](const Tile&) { std::atomic_ref<int>(tiles).fetch_add(1); }, named);
    CHECK(tiles == 4);

    std::stop_source source;
    source.request_stop();
    std::atomic<int> done{0};
    const auto count = [&](std::size_t) { ++done; };
    crew.each(1000, count, {.stop = source.get_token()});
    CHECK(done == 0);
    CHECK_THROWS_AS(crew.collect(1000, [](std::size_t i) { return i; }, {.stop = source.get_token()}), Error);
    CHECK_THROWS_AS(crew.fold(numbers, 0.0, sum, std::plus<>(), {.stop = source.get_token()}), Error);
    CHECK_THROWS_AS(crew.fold(numbers, 0.0, sum, std::plus<>(), source.get_token()), Error);
  }
}
