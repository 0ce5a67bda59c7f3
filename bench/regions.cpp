// What a region costs, against the machine's floor: back to back against a flag handed to another thread and back;
// after a serial gap, when the worker has gone to sleep, against one wake-up by the kernel.
//
// The cost after a gap is the phase "handed over and back", since the gap is most of the call.
#include <antcrew/antcrew.hpp>
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

// Each flag on a cache line of its own, handed over by exchange: a plain store may lie in the processor's buffer for a
// while, which no program can wait for. First both threads find processors of their own.
std::size_t hand_flags(const std::size_t& trips) {
  alignas(64) std::atomic<std::size_t> there{0};
  alignas(64) std::atomic<std::size_t> back{0};
  const std::jthread other([&] {
    for (std::size_t k = 1; k <= trips; ++k) {
      look_for(there, k);
      back.exchange(k, std::memory_order_acq_rel);
    }
  });
  for (std::size_t k = 1; k <= trips; ++k) {
    there.exchange(k, std::memory_order_acq_rel);
    look_for(back, k);
  }
  return trips;
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

  Study pairs("Empty regions of two workers, back to back", same, hand_flags);
  pairs.sizes({20'000});
  pairs.workers({2});
  pairs.variant<ThreadCrew>("regions", [](const std::size_t& n, auto& crew) {
    for (std::size_t k = 0; k < n; ++k) crew.ranges(2, [](Range) {});
    return n;
  });
  pairs.variant<ThreadCrew>("each", [](const std::size_t& n, auto& crew) {
    for (std::size_t k = 0; k < n; ++k) crew.each(2, [](std::size_t) {});
    return n;
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
