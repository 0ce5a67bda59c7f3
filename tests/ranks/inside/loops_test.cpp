#include <doctest/doctest.h>
#include <malloc.h>
#include <unistd.h>

#include <atomic>
#include <cmath>
#include <cstdint>
#include <fstream>
#include <initializer_list>
#include <numeric>
#include <stdexcept>
#include <string>
#include <thread>
#include <tuple>
#include <utility>
#include <vector>

#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/machine/clock.hpp"
#include "ranks/inside/crew.hpp"

using namespace antcrew;

namespace {

double tide_at(std::size_t i) {
  double height = 0;
  for (int wave = 1; wave < 6; ++wave) height += std::sin(static_cast<double>(i) * 0.37 / wave) / wave;
  return height;
}

const std::vector<Split>& splits() {
  static const std::vector<Split> all{Split::even(), Split::chunks(1), Split::chunks(17), Split::tapering(3)};
  return all;
}

// A text as long as its number says, some longer than any letter.
std::string text_of(std::size_t i) {
  return std::string(i % 7 == 3 ? 20'000 + i : i % 50, static_cast<char>('a' + i % 26));
}

struct Buoy {
  std::string name;
  std::vector<double> drift;
  static inline std::atomic<int> alive{0};
  static inline int unpacked = 0;
  Buoy() { ++alive; }
  Buoy(const Buoy& other) : name(other.name), drift(other.drift) { ++alive; }
  Buoy(Buoy&& other) noexcept : name(std::move(other.name)), drift(std::move(other.drift)) { ++alive; }
  ~Buoy() { --alive; }
};
void pack(Packer& to, const Buoy& buoy) {
  to.put(buoy.name);
  to.put(buoy.drift);
}
void unpack(Unpacker& from, Buoy& buoy) {
  from.get(buoy.name);
  from.get(buoy.drift);
  ++Buoy::unpacked;
}

// Cannot be unpacked.
struct Sour {
  std::vector<double> much;
};
void pack(Packer& to, const Sour& sour) {
  to.put(sour.much);
}
void unpack(Unpacker&, Sour&) {
  throw std::runtime_error("too sour");
}

#if !defined(ANTCREW_SANITIZED)
// Without what was freed before and kept for later.
long resident_kib() {
  ::malloc_trim(0);
  std::ifstream status("/proc/self/statm");
  long all = 0;
  long resident = 0;
  status >> all >> resident;
  return resident * (::sysconf(_SC_PAGESIZE) / 1024);
}
#endif

}  // namespace

TEST_CASE("collect gives every item in order, with every split and any number of items") {
  RankCrew& crew = test::crew();
  for (const std::size_t n : std::initializer_list<std::size_t>{0, 1, 2, 7, 1000, 100'003}) {
    for (const Split& split : splits()) {
      if (n > 2000 && split.kind() == Split::Kind::chunks) continue;
      CAPTURE(n);
      const auto heights = crew.collect(n, split, [](std::size_t i) { return tide_at(i); });
      REQUIRE(heights.size() == n);
      std::size_t wrong = 0;
      for (std::size_t i = 0; i < n; ++i) wrong += heights[i] != tide_at(i) ? 1 : 0;
      CHECK(wrong == 0);
    }
  }
}

TEST_CASE("items that are packed come back whole, short and long") {
  RankCrew& crew = test::crew();
  for (const Split& split : splits()) {
    const auto texts = crew.collect(60, split, [](std::size_t i) { return text_of(i); });
    std::size_t wrong = 0;
    for (std::size_t i = 0; i < 60; ++i) wrong += texts[i] != text_of(i) ? 1 : 0;
    CHECK(wrong == 0);
  }
  const auto buoys = crew.collect(5, [](std::size_t i) {
    Buoy buoy;
    buoy.name = std::to_string(i);
    buoy.drift.assign(3000 * i, static_cast<double>(i));
    return buoy;
  });
  for (std::size_t i = 0; i < 5; ++i) CHECK(buoys[i].drift.size() == 3000 * i);
}

TEST_CASE("fold gives the answer of every other crew to the last bit") {
  RankCrew& crew = test::crew();
  constexpr std::size_t n = 200'001;
  const auto part = [](Range range) {
    double sum = 0;
    for (const std::size_t i : range) sum += tide_at(i);
    return sum;
  };
  ThreadCrew threads(2);
  const double expected = threads.fold(n, 0.25, part, std::plus<>());
  for (const Split& split : splits()) CHECK(crew.fold(n, split, 0.25, part, std::plus<>()) == expected);
  CHECK(crew.fold(n, 0.25, part, std::plus<>()) == expected);
  CHECK(crew.fold(0, 0.25, part, std::plus<>()) == 0.25);
}

TEST_CASE("on_each runs once in every rank, in all of them at once") {
  RankCrew& crew = test::crew();
  const auto when = crew.on_each([] {
    const std::int64_t begun = now_ns();
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
    return std::tuple(current_rank().rank, begun, now_ns());
  });
  REQUIRE(when.size() == static_cast<std::size_t>(crew.workers()));
  std::int64_t last_begin = 0;
  std::int64_t first_end = INT64_MAX;
  for (std::size_t k = 0; k < when.size(); ++k) {
    CHECK(std::get<0>(when[k]) == static_cast<int>(k));
    last_begin = std::max(last_begin, std::get<1>(when[k]));
    first_end = std::min(first_end, std::get<2>(when[k]));
  }
  CHECK(last_begin < first_end);
}

TEST_CASE("arguments of every length arrive in every rank") {
  RankCrew& crew = test::crew();
  std::vector<double> large(2'500'001);
  std::iota(large.begin(), large.end(), 0.5);
  const std::vector<std::string> words{"ebb", std::string(5'000, 'x'), std::string(40'000, 'y'), ""};
  for (int round = 0; round < 3; ++round) {
    const auto sums = crew.on_each(
        [](const std::vector<double>& values, const std::vector<std::string>& texts, const int& number) {
          double sum = number;
          for (const double value : values) sum += value;
          for (const std::string& text : texts) sum += static_cast<double>(text.size());
          return sum;
        },
        large, words, round);
    for (const double sum : sums) CHECK(sum == sums[0]);
    CHECK(sums[0] > 3.1e12);
  }
}

TEST_CASE("what a body throws comes out with rank, host, range, type and text, and the crew stays usable") {
  RankCrew& crew = test::crew();
  for (const Split& split : splits()) {
    for (const std::size_t bad : std::initializer_list<std::size_t>{0, 41, 99}) {
      CAPTURE(bad);
      try {
        crew.collect(
            100, split,
            [](std::size_t i, const std::size_t& wrong) {
              if (i == wrong) throw std::out_of_range("no sounding " + std::to_string(i));
              return text_of(i);
            },
            bad);
        FAIL("nothing was thrown");
      } catch (const RankThrew& thrown) {
        CHECK(thrown.range().first <= bad);
        CHECK(thrown.range().last > bad);
        CHECK(thrown.type() == "std::out_of_range");
        CHECK(thrown.text() == "no sounding " + std::to_string(bad));
        CHECK(thrown.host() == crew.host_of(thrown.rank()));
        if (split.kind() == Split::Kind::even) {
          CHECK(thrown.rank() == static_cast<int>(bad) * crew.workers() / 100);
        }
      }
      CHECK(crew.fold(
                10, 0, [](Range range) { return static_cast<int>(range.size()); }, std::plus<>()) == 10);
    }
  }
  CHECK_THROWS_AS(crew.on_each([] { throw 7; }), RankThrew);
  CHECK(crew.on_each([] { return 1; }).size() == static_cast<std::size_t>(crew.workers()));
}

TEST_CASE("after a fault no further pieces are handed out") {
  static int done = 0;
  RankCrew& crew = test::crew();
  for (const std::size_t bad : std::initializer_list<std::size_t>{0, 1, 4}) {
    CAPTURE(bad);
    crew.on_each([] { done = 0; });
    const auto some = [](std::size_t i, const std::size_t& wrong) {
      if (i == wrong) throw std::runtime_error("dry");
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      return ++done;
    };
    CHECK_THROWS_AS(crew.collect(1'500, Split::chunks(1), some, bad), RankThrew);
    const auto counts = crew.on_each([] { return done; });
    const int all = std::accumulate(counts.begin(), counts.end(), 0);
    MESSAGE(all << " of 1,500 were done");
    CHECK(all < 700);
  }
}

TEST_CASE("a dear piece of rank 0 keeps nobody waiting for the others") {
  RankCrew& crew = test::crew();
  if (crew.workers() == 1) return;
  const auto who = crew.collect(100, Split::chunks(1), [](std::size_t i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(i == 0 ? 1'500 : 1));
    return current_rank().rank;
  });
  CHECK(who[0] == 0);
  std::size_t of_rank_0 = 0;
  for (const int rank : who) of_rank_0 += rank == 0 ? 1 : 0;
  MESSAGE("rank 0 did " << of_rank_0 << " of 100");
  CHECK(of_rank_0 < 50);
}

TEST_CASE("who asks is answered while rank 0 computes, though it has one processor") {
  RankCrew& crew = test::crew();
  if (crew.workers() == 1) return;
  const auto who = crew.collect(400, Split::chunks(1), [](std::size_t i) {
    const std::int64_t end = now_ns() + (i == 0 ? 500'000'000 : 100'000);
    double sum = 0;
    while (now_ns() < end) sum += tide_at(i);
    return sum > 1e300 ? -1 : current_rank().rank;
  });
  std::size_t of_rank_0 = 0;
  for (const int rank : who) of_rank_0 += rank == 0 ? 1 : 0;
  MESSAGE("rank 0 did " << of_rank_0 << " of 400");
  CHECK(of_rank_0 < 150);
}

TEST_CASE("what is kept is sent once, and gone from all ranks with its last handle") {
  RankCrew& crew = test::crew();
  const auto living = [&] { return crew.on_each([] { return Buoy::alive.load(); }); };
  const auto before = living();
  const auto unpacked_before = crew.on_each([] { return Buoy::unpacked; });
  {
    Buoy made;
    made.name = "mouth";
    made.drift.assign(100'000, 0.5);
    const Kept<Buoy> kept = crew.keep(std::move(made));
    for (int round = 0; round < 3; ++round) {
      const Kept<Buoy> copy = kept;
      const auto sizes = crew.collect(
          20, [](std::size_t i, const Buoy& buoy) { return buoy.drift.size() + i; }, copy);
      CHECK(sizes[19] == 100'019);
    }
    const auto unpacked = crew.on_each([] { return Buoy::unpacked; });
    for (std::size_t rank = 1; rank < unpacked.size(); ++rank) CHECK(unpacked[rank] == unpacked_before[rank] + 1);
  }
  const auto after = living();
  for (std::size_t rank = 0; rank < after.size(); ++rank) CHECK(after[rank] == before[rank]);
}

TEST_CASE("what fails where nobody waits is told by the next call that does, and what was not read is not in the way") {
  RankCrew& crew = test::crew();
  if (crew.workers() == 1) return;
  const std::vector<double> much(300'000, 1.0);
  const auto kept = crew.keep(Sour{much});
  CHECK_THROWS_WITH_AS(crew.on_each([] { return 1; }), doctest::Contains("too sour"), RankThrew);
  CHECK(crew.on_each([] { return 1; })[0] == 1);
  // What was not kept there cannot be had there.
  CHECK_THROWS_WITH_AS(crew.on_each([](const Sour& sour) { return sour.much.size(); }, kept),
                       doctest::Contains("does not have"), RankThrew);
  for (int round = 0; round < 3; ++round) {
    CHECK_THROWS_WITH_AS(crew.on_each([](const Sour& sour) { return sour.much.size(); }, Sour{much}),
                         doctest::Contains("too sour"), RankThrew);
    const auto sizes = crew.on_each([](const std::vector<double>& all) { return all.size(); }, much);
    CHECK(sizes[sizes.size() - 1] == much.size());
  }
}

TEST_CASE("a body may use threads of its own, and MPI among the ranks") {
  RankCrew& crew = test::crew();
  const auto sums = crew.on_each([] {
    ThreadCrew threads(current_rank().threads);
    return threads.fold(
        1000, 0, [](Range range) { return static_cast<int>(range.size()); }, std::plus<>());
  });
  for (const int sum : sums) CHECK(sum == 1000);
  const auto all = crew.on_each([] {
    const int mine = current_rank().rank + 1;
    int sum = 0;
    MPI_Allreduce(&mine, &sum, 1, MPI_INT, MPI_SUM, current_rank().communicator);
    return sum;
  });
  for (const int sum : all) CHECK(sum == crew.workers() * (crew.workers() + 1) / 2);
  CHECK(current_rank().communicator == MPI_COMM_NULL);
}

TEST_CASE("a second thread is refused while a call is under way") {
  RankCrew& crew = test::crew();
  std::atomic<bool> begun{false};
  std::string refused;
  std::thread second([&] {
    while (!begun.load()) std::this_thread::yield();
    try {
      crew.on_each([] {});
    } catch (const Error& error) {
      refused = error.id();
    }
  });
  // Rank 0's own part is done by the thread that calls.
  static std::atomic<bool>* signal = nullptr;
  signal = &begun;
  crew.on_each([] {
    if (current_rank().rank == 0) signal->store(true);
    std::this_thread::sleep_for(std::chrono::milliseconds(300));
  });
  second.join();
  CHECK(refused == "crew.busy");
}

TEST_CASE("a body that calls its own crew is refused, and so is serving in rank 0") {
  const auto calls_itself = [] {
    if (current_rank().rank == 0) test::crew().on_each([] {});
  };
  CHECK_THROWS_WITH_AS(test::crew().on_each(calls_itself), doctest::Contains("a body calls it"), RankThrew);
  CHECK_THROWS_WITH_AS(test::crew().serve(), doctest::Contains("rank 0 cannot serve"), Error);
  CHECK(test::crew().on_each([] { return 1; })[0] == 1);
}

TEST_CASE("an array of one machine's memory is refused as an argument") {
  const CommonArray<double> common(10);
  CHECK_THROWS_WITH_AS(test::crew().collect(
                           3, [](std::size_t i, const CommonArray<double>& all) { return all.size() + i; }, common),
                       doctest::Contains("one machine"), Error);
  CHECK(test::crew().on_each([] { return 1; })[0] == 1);
}

// A sanitizer keeps what was freed.
#if !defined(ANTCREW_SANITIZED)
TEST_CASE("memory stays as it is over thousands of calls of every kind") {
  RankCrew& crew = test::crew();
  const std::vector<int> argument(2'000, 1);
  RankArray<double> array = crew.spread(std::vector<double>(400), {.halo = 20});
  const auto calls = [&](int count) {
    for (int k = 0; k < count; ++k) {
      crew.on_each([](const std::vector<int>& some) { return some.size(); }, argument);
      crew.collect(64, Split::chunks(8), [](std::size_t i) { return text_of(i % 3); });
      array.exchange();
      const auto kept = crew.keep(argument);
      const auto other = crew.array<int>(100);
    }
  };
  const auto resident = [&] { return crew.on_each([] { return resident_kib(); }); };
  calls(300);
  const auto before = resident();
  calls(1'500);
  const auto after = resident();
  for (std::size_t rank = 0; rank < after.size(); ++rank) {
    CAPTURE(rank);
    MESSAGE("rank " << rank << " grew by " << after[rank] - before[rank] << " KiB");
    CHECK(after[rank] - before[rank] < 1'024);
  }
}
#endif
