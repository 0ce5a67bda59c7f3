#include "antcrew/machine/clock.hpp"

#include <time.h>

#include <algorithm>
#include <array>

namespace antcrew {
namespace {

std::int64_t read(clockid_t clock) noexcept {
  timespec t{};
  clock_gettime(clock, &t);
  return static_cast<std::int64_t>(t.tv_sec) * 1'000'000'000 + t.tv_nsec;
}

double smallest_step_ns() {
  std::int64_t smallest = 1'000'000'000;
  for (int i = 0; i < 2000; ++i) {
    const std::int64_t start = now_ns();
    std::int64_t next = start;
    while (next == start) next = now_ns();
    smallest = std::min(smallest, next - start);
  }
  return static_cast<double>(smallest);
}

double cost_of_reading_ns() {
  constexpr int calls = 200;
  std::array<double, 51> batches{};
  for (double& batch : batches) {
    const std::int64_t start = now_ns();
    for (int i = 1; i < calls; ++i) now_ns();
    batch = static_cast<double>(now_ns() - start) / calls;
  }
  std::nth_element(batches.begin(), batches.begin() + batches.size() / 2, batches.end());
  return batches[batches.size() / 2];
}

}  // namespace

std::int64_t now_ns() noexcept {
  return read(CLOCK_MONOTONIC);
}
double asleep_s() noexcept {
  return static_cast<double>(read(CLOCK_BOOTTIME) - read(CLOCK_MONOTONIC)) * 1e-9;
}

std::int64_t thread_cpu_ns() noexcept {
  return read(CLOCK_THREAD_CPUTIME_ID);
}
std::int64_t process_cpu_ns() noexcept {
  return read(CLOCK_PROCESS_CPUTIME_ID);
}

ClockFacts measure_clock() {
  return {smallest_step_ns(), cost_of_reading_ns()};
}

}  // namespace antcrew
