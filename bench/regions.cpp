// What a region costs, against the machine's floor: back to back against a flag handed to another thread and back, in
// the quickest of several forms; after a serial gap, when the worker has gone to sleep, against one wake-up by the
// kernel.
//
// The cost is a phase of the call: back to back what follows when both threads have found their processors, after a gap
// what is no gap.
#include <antcrew/antcrew.hpp>
#include <array>
#include <atomic>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/parking.hpp"

namespace {

using antcrew::now_ns;

// Gives way after a long while only: when copies of it are more than the processors.
void look_for(const std::atomic<std::size_t>& flag, std::size_t value) {
  for (int look = 0; flag.load(std::memory_order_acquire) != value; ++look) {
    if (look > 20'000) antcrew::internal::give_way();
  }
}

// Which form is the quickest depends on the processor: a plain store may lie in its buffer for a while, an exchange
// waits until it is out; one line has to travel, or two.
enum class Flags { exchanged, stored, one_line };

template <Flags form>
void set_flag(std::atomic<std::size_t>& flag, std::size_t value) {
  if constexpr (form == Flags::stored) {
    flag.store(value, std::memory_order_release);
  } else {
    flag.exchange(value, std::memory_order_acq_rel);
  }
}

constexpr std::size_t trips_before = 5'000;  // both threads find processors of their own

template <Flags form>
std::size_t hand_flags(const std::size_t& trips) {
  struct alignas(64) Line {
    std::atomic<std::size_t> flag{0};
  };
  std::array<Line, 2> lines;
  std::atomic<std::size_t>& there = lines[0].flag;
  std::atomic<std::size_t>& back = lines[form == Flags::one_line ? 0 : 1].flag;
  const std::jthread other([&] {
    for (std::size_t k = 1; k <= trips_before + trips; ++k) {
      look_for(there, 2 * k);
      set_flag<form>(back, 2 * k + 1);
    }
  });
  const auto go = [&](std::size_t first, std::size_t last) {
    for (std::size_t k = first; k <= last; ++k) {
      set_flag<form>(there, 2 * k);
      look_for(back, 2 * k + 1);
    }
  };
  go(1, trips_before);
  const antcrew::Phase phase("there and back");
  go(trips_before + 1, trips_before + trips);
  return trips;
}

template <class Crew, class Call>
std::size_t begin_regions(const std::size_t& times, Crew& crew, Call call) {
  for (std::size_t k = 0; k < trips_before; ++k) call(crew);
  const antcrew::Phase phase("there and back");
  for (std::size_t k = 0; k < times; ++k) call(crew);
  return times;
}

std::size_t call_a_function(const std::size_t& times) {
  std::size_t done = 0;
  for (std::size_t k = 0; k < times; ++k) {
    ++done;
    antcrew::internal::keep_alive(&done);
  }
  return done;
}

void pass_time(std::int64_t ns) {
  const std::int64_t end = now_ns() + ns;
  while (now_ns() < end) {
  }
}

constexpr std::size_t gaps_each = 20;

// A thread that sleeps until it is woken, answers through a flag, and sleeps again.
std::size_t wake_by_kernel(const antcrew::StudyPoint& at) {
  alignas(64) std::atomic<std::uint32_t> there{0};
  alignas(64) std::atomic<std::uint32_t> back{0};
  const std::jthread other([&] {
    for (std::uint32_t k = 1; k <= gaps_each; ++k) {
      while (there.load(std::memory_order_acquire) != k) antcrew::internal::sleep_while(there, k - 1);
      back.store(k, std::memory_order_release);
    }
  });
  for (std::uint32_t k = 1; k <= gaps_each; ++k) {
    pass_time(static_cast<std::int64_t>(at["gap_us"]) * 1000);
    const antcrew::Phase phase("handed over and back");
    there.store(k, std::memory_order_release);
    antcrew::internal::wake_one(there);
    while (back.load(std::memory_order_acquire) != k) {
    }
  }
  return gaps_each;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto same = [](std::size_t n) { return n; };

  Study pairs("Empty regions of two workers, back to back", same, hand_flags<Flags::exchanged>);
  pairs.sizes({20'000});
  pairs.workers({2});
  pairs.variant<Workers>("flags, stored", [](const std::size_t& n, Workers) { return hand_flags<Flags::stored>(n); });
  pairs.variant<Workers>("one flag", [](const std::size_t& n, Workers) { return hand_flags<Flags::one_line>(n); });
  pairs.variant<ThreadCrew>("regions", [](const std::size_t& n, auto& crew) {
    return begin_regions(n, crew, [](auto& its) { its.ranges(2, [](Range) {}); });
  });
  pairs.variant<ThreadCrew>("each", [](const std::size_t& n, auto& crew) {
    return begin_regions(n, crew, [](auto& its) { its.each(2, [](std::size_t) {}); });
  });

  Study alone("Empty regions of one worker", same, call_a_function);
  alone.sizes({1'000'000});
  alone.workers({1});
  alone.variant<ThreadCrew>("regions", [](const std::size_t& n, auto& crew) {
    std::size_t done = 0;
    for (std::size_t k = 0; k < n; ++k) {
      crew.ranges(1, [&](Range) { ++done; });
      internal::keep_alive(&done);
    }
    return done;
  });

  Study gaps(
      "Empty regions of two workers, after a serial gap", [](const Point& at) { return at; }, wake_by_kernel);
  gaps.sizes({gaps_each});
  gaps.dimension("gap_us", {5, 50, 500, 5000});
  gaps.workers({2});
  gaps.variant<ThreadCrew>("regions", [](const Point& at, auto& crew) {
    for (std::size_t k = 0; k < gaps_each; ++k) {
      pass_time(static_cast<std::int64_t>(at["gap_us"]) * 1000);
      const Phase phase("handed over and back");
      crew.ranges(2, [](Range) {});
    }
    return gaps_each;
  });
  return study_main(argc, argv, pairs, alone, gaps);
}
