// What this process may use, which is often less than the machine has. A study on more workers than the usable
// processors measures the scheduler, so every record keeps these.
//
// Any thread may call read_limits(); it reads the kernel's files each time.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "antcrew/machine/control_group.hpp"
#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

struct Limits {
  int online_processors = 1;                        // logical processors the kernel runs
  int affinity_processors = 1;                      // those this process may be scheduled on
  std::optional<double> quota_cpus;                 // CPU quota of the control group, in processors; none = no quota
  std::uint64_t stack_bytes = 0;                    // soft limit of the main thread's stack; 0 = unlimited
  std::uint64_t memory_bytes = 0;                   // installed
  std::uint64_t available_bytes = 0;                // what can be used without swapping, and within the group's limit
  std::optional<std::uint64_t> memory_limit_bytes;  // of the control group, or the address-space limit

  // The smallest of online, affinity and quota (rounded down, at least 1).
  int usable_processors() const noexcept;
};

Limits read_limits(const LimitSources& sources = {});

// As Limits::usable_processors(), for callers who ask often: the control group's quota is read once per process.
int usable_processors_now();

}  // namespace antcrew::machine_layer

namespace antcrew {

using machine_layer::usable_processors_now;

}  // namespace antcrew
