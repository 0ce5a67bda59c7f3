// What the stress tests of the building blocks have in common: random worker counts, bursts of random delays at the
// borders of pieces, a seed that is printed when a check fails; ANTCREW_STRESS_SEED repeats it.
#pragma once

#include <atomic>
#include <chrono>
#include <cstdlib>
#include <random>
#include <thread>

#include "antcrew/machine/random_delays.hpp"

namespace test {

#if defined(__SANITIZE_THREAD__)
inline constexpr std::size_t operations = 100'000;
#elif defined(__SANITIZE_ADDRESS__)
inline constexpr std::size_t operations = 300'000;
#else
inline constexpr std::size_t operations = 1'000'000;
#endif

inline std::uint64_t seed() {
  static const std::uint64_t chosen = [] {
    const char* asked = std::getenv("ANTCREW_STRESS_SEED");
    return asked != nullptr ? std::strtoull(asked, nullptr, 10) : std::random_device()() | 1u;
  }();
  return chosen;
}

// Delays that are on for a moment now and then: always on, a million operations would take minutes.
class Bursts {
 public:
  Bursts()
      : thread_([this] {
          std::mt19937_64 random(seed());
          while (!over_) {
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 4000));
            antcrew::internal::delay_seed.store(random() | 1);
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 300));
            antcrew::internal::delay_seed.store(0);
          }
        }) {}
  ~Bursts() {
    over_ = true;
    thread_.join();
  }

 private:
  std::atomic<bool> over_{false};
  std::thread thread_;
};

struct Stress {
  std::mt19937_64 random{seed()};
  Bursts bursts;
  int workers() { return 1 + static_cast<int>(random() % 16); }
};

}  // namespace test
