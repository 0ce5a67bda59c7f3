// Instructions and cycles of this process and everything that it begins later, where the kernel counts them.
//
//   HardwareCounters counters;      // before threads and processes are begun: those that are there are not counted
//   const auto before = counters.read();  …  const auto after = counters.read();
//
// Not thread-safe; for the thread that made it.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

class HardwareCounters {
 public:
  HardwareCounters();
  ~HardwareCounters();
  HardwareCounters(const HardwareCounters&) = delete;
  HardwareCounters& operator=(const HardwareCounters&) = delete;

  struct Counts {
    double instructions = 0;
    double cycles = 0;
  };
  // User and kernel mode, or user mode alone where only that is granted. None where the kernel does not count.
  std::optional<Counts> read() const;

  // Why it does not, in words; empty when it counts.
  const std::string& refused() const noexcept { return refused_; }

 private:
  int instructions_ = -1;
  int cycles_ = -1;
  std::string refused_;
};

}  // namespace antcrew::machine_layer
