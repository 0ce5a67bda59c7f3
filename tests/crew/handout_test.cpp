// Handing out pieces, one worker's view at a time: what must hold whatever the schedule.
#include "antcrew/crew/internal/handout.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <memory>
#include <thread>
#include <vector>

#include "antcrew/base/enough.hpp"
#include "antcrew/machine/lock.hpp"

using namespace antcrew;
using internal::Enough;
using internal::Handout;
using internal::Share;

TEST_CASE("a worker that comes first does everybody's chunks, each once and whole") {
  const auto shares = std::make_unique<Share[]>(3);
  Handout handout(1003, Split::chunks(10), 3, shares.get());
  std::vector<Range> pieces;
  auto note = [&](Range range, const Enough&) { pieces.push_back(range); };
  CHECK(handout.drain(1, internal::never_enough, note) == 101);
  CHECK(handout.drain(0, internal::never_enough, note) == 0);
  CHECK(handout.drain(2, internal::never_enough, note) == 0);
  std::sort(pieces.begin(), pieces.end(), [](const Range& a, const Range& b) { return a.first < b.first; });
  REQUIRE(pieces.size() == 101);
  for (std::size_t k = 0; k < 101; ++k) CHECK(pieces[k] == Range{10 * k, std::min<std::size_t>(10 * k + 10, 1003)});
}

TEST_CASE("an idle worker takes the back half of another's share, not its next piece") {
  const auto shares = std::make_unique<Share[]>(2);
  Handout handout(16, Split::chunks(1), 2, shares.get());
  std::vector<std::size_t> first;
  std::atomic<bool> nine_done{false};
  auto one = [&](Range range, const Enough&) {
    first.push_back(range.first);
    nine_done = first.size() == 9;
  };
  handout.drain(1, Enough(nine_done), one);
  // Its own share in order, then from the middle of the other's.
  CHECK(std::vector<std::size_t>(first.begin(), first.begin() + 8) ==
        std::vector<std::size_t>{8, 9, 10, 11, 12, 13, 14, 15});
  CHECK(std::find(first.begin(), first.end(), 0) == first.end());
}

TEST_CASE("more pieces than 32 bits can number are handed out in groups") {
  constexpr std::size_t n = (std::size_t{1} << 34) + 7;
  const auto shares = std::make_unique<Share[]>(4);
  Handout handout(n, Split::chunks(1), 4, shares.get());
  for (const int worker : {0, 1, 3}) {
    std::vector<Range> pieces;
    std::atomic<bool> many_done{false};
    auto note = [&](Range range, const Enough&) {
      pieces.push_back(range);
      many_done = pieces.size() >= 1000;
    };
    handout.drain(worker, Enough(many_done), note);
    REQUIRE(pieces.size() == 1000);
    const std::size_t begin = static_cast<std::size_t>(worker) * (n / 4);
    CHECK(pieces[0].first >= (begin > 16 ? begin - 16 : 0));
    CHECK(pieces[0].first <= begin + 16);
    for (std::size_t k = 1; k < 1000; ++k) REQUIRE(pieces[k] == Range{pieces[k - 1].last, pieces[k - 1].last + 1});
  }
}

TEST_CASE("tapering pieces shrink to the smallest and cover everything") {
  Handout handout(10'000, Split::tapering(16), 4, nullptr);
  std::vector<Range> pieces;
  auto note = [&](Range range, const Enough&) { pieces.push_back(range); };
  handout.drain(2, internal::never_enough, note);
  CHECK(pieces.front() == Range{0, 1250});
  CHECK(pieces.back().last == 10'000);
  for (std::size_t k = 1; k < pieces.size(); ++k) {
    CHECK(pieces[k].first == pieces[k - 1].last);
    CHECK(pieces[k].size() <= pieces[k - 1].size());
    if (k + 1 < pieces.size()) CHECK(pieces[k].size() >= 16);
  }
}

TEST_CASE("locks let one in at a time") {
  internal::Lock lock;
  long count = 0;  // plain: the lock alone keeps it right
  std::vector<std::thread> threads;
  for (int t = 0; t < 6; ++t) {
    threads.emplace_back([&] {
      for (int k = 0; k < 20'000; ++k) {
        lock.lock();
        ++count;
        lock.unlock();
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  CHECK(count == 120'000);
}
