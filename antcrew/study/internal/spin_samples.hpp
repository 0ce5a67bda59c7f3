// Where the threads of this process spend their CPU time: whether in loops that only wait.
//
//   { SpinSamples samples; call(); use(samples.spinning(), samples.all()); }
//
// A timer of the process's CPU time interrupts whoever computes, some 250 times a second of it at the most (the
// kernel's tick), and the handler keeps the address. Afterwards the code there is looked at: a loop that waits tells
// the processor so (pause, yield), as runtimes and barriers do, or it does nothing but read, compare and jump back
// (spin_loop.hpp). Of a worker in a lane, only its bodies. One at a time in a process.
#pragma once

#include <csignal>
#include <cstddef>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class SpinSamples {
 public:
  SpinSamples();
  ~SpinSamples();
  SpinSamples(const SpinSamples&) = delete;
  SpinSamples& operator=(const SpinSamples&) = delete;

  std::size_t all() const noexcept;
  // Of these, those next to an instruction by which a loop waits.
  std::size_t spinning() const;

 private:
  struct sigaction before_ = {};
  bool on_ = false;
};

}  // namespace antcrew::internal
