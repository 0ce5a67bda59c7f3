// Fixed pieces of work of our own, timed along with a study's rounds: what the machine was like while it ran. The times
// of two runs can be compared where these are.
//
//   Yardstick yardstick;
//   double s = yardstick.arithmetic_s();
//
// One thread makes and uses it; its process must have one thread when it is made, since it forks a helper that sleeps
// until it is woken. Where the system refuses that, wake_s() is 0.
#pragma once

#include <sys/types.h>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

// Of the pieces: changed with them, so that times of different ones are never compared.
inline constexpr int yardstick_edition = 1;

class Yardstick {
 public:
  Yardstick();
  ~Yardstick();
  Yardstick(const Yardstick&) = delete;
  Yardstick& operator=(const Yardstick&) = delete;

  // Seconds of 20,000 multiplications, each of which needs the one before: the median of five. About 0.1 ms in all.
  double arithmetic_s() const;
  // Seconds to wake a sleeping process and to be woken by it: the median of five. About 0.1 ms in all.
  double wake_s() const;
  // Seconds to read 8 MiB that are in no cache, the shortest of three. About 15 ms in all, and 8 MiB of memory
  // meanwhile.
  double stream_s() const;

 private:
  pid_t helper_ = -1;
  int socket_ = -1;
};

}  // namespace antcrew::machine_layer
