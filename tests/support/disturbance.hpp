// Whether the machine let a stretch of time alone: what a hypervisor took, and how late a sleeper woke.
#pragma once

#include <atomic>
#include <thread>

#include "antcrew/machine/noise.hpp"

namespace test {

// From its making on, a thread of its own sleeps a millisecond at a time.
class Disturbance {
 public:
  Disturbance();
  ~Disturbance();
  Disturbance(const Disturbance&) = delete;
  Disturbance& operator=(const Disturbance&) = delete;

  // So far: processor-seconds taken by the hypervisor or a quota, per second.
  double taken() const;
  // So far: the share of the time by which the sleeper woke more than a millisecond too late.
  double late() const;
  bool too_much() const { return taken() > 0.15 || late() > 0.1; }

 private:
  antcrew::machine_layer::MachineTimes before_ = antcrew::machine_layer::machine_times();
  std::int64_t began_ns_;
  std::atomic<std::int64_t> late_ns_{0};
  std::atomic<bool> over_{false};
  std::thread sleeper_;
};

}  // namespace test
