#include "tests/support/disturbance.hpp"

#include <chrono>

#include "antcrew/machine/clock.hpp"

namespace test {

using antcrew::now_ns;

Disturbance::Disturbance()
    : began_ns_(now_ns()), sleeper_([this] {
        constexpr std::int64_t nap_ns = 1'000'000;
        while (!over_.load(std::memory_order_relaxed)) {
          const std::int64_t start = now_ns();
          std::this_thread::sleep_for(std::chrono::nanoseconds(nap_ns));
          const std::int64_t late = now_ns() - start - nap_ns;
          if (late > nap_ns) late_ns_.fetch_add(late, std::memory_order_relaxed);
        }
      }) {}

Disturbance::~Disturbance() {
  over_.store(true, std::memory_order_relaxed);
  sleeper_.join();
}

double Disturbance::taken() const {
  const antcrew::machine_layer::MachineTimes now = antcrew::machine_layer::machine_times();
  const double wall_s = static_cast<double>(now_ns() - began_ns_) * 1e-9;
  return (now.steal_s - before_.steal_s + now.throttled_s - before_.throttled_s) / wall_s;
}

double Disturbance::late() const {
  return static_cast<double>(late_ns_.load(std::memory_order_relaxed)) / static_cast<double>(now_ns() - began_ns_);
}

}  // namespace test
