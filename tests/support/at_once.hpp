// How many ran at once, and how long it took.
#pragma once

#include <atomic>
#include <chrono>
#include <thread>

#include "antcrew/machine/clock.hpp"

namespace test {

// Counts who is inside at the same time.
class AtOnce {
 public:
  class Inside {
   public:
    explicit Inside(AtOnce& all) : all_(all) {
      const int now = all_.now_.fetch_add(1) + 1;
      int most = all_.most_.load();
      while (now > most && !all_.most_.compare_exchange_weak(most, now)) {
      }
    }
    ~Inside() { all_.now_.fetch_sub(1); }
    Inside(const Inside&) = delete;
    Inside& operator=(const Inside&) = delete;

   private:
    AtOnce& all_;
  };
  // Sleeps inside.
  void stay(std::chrono::nanoseconds time) {
    const Inside inside(*this);
    std::this_thread::sleep_for(time);
  }
  int most() const { return most_.load(); }

 private:
  std::atomic<int> now_{0};
  std::atomic<int> most_{0};
};

// Seconds that fn takes.
template <class Fn>
double seconds_of(Fn&& fn) {
  const std::int64_t start = antcrew::now_ns();
  fn();
  return static_cast<double>(antcrew::now_ns() - start) * 1e-9;
}

// True when `expected` are in this call at the same time, within ten seconds.
inline bool meet(std::atomic<int>& here, int expected) {
  ++here;
  const std::int64_t end = antcrew::now_ns() + 10'000'000'000;
  while (here < expected && antcrew::now_ns() < end) std::this_thread::sleep_for(std::chrono::microseconds(100));
  return here >= expected;
}

// Ends the program with a sentence when the work does not end: a hang is a failure, not a wait for the test's limit.
class Deadline {
 public:
  explicit Deadline(const char* what, std::chrono::seconds limit = std::chrono::seconds(60));
  ~Deadline();
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;

 private:
  std::atomic<bool> over_{false};
  std::thread watch_;
};

}  // namespace test
