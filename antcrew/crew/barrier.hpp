// Where all workers of one call meet, again and again: for stencils and wavefronts, whose steps need what the others
// wrote in the step before.
//
//   crew.on_each([&](int worker, Barrier& step) {
//     for (int k = 0; k < steps; ++k) {
//       relax_rows(own_rows(worker), k);
//       step.wait();                       // what all wrote before it is seen by all behind it
//     }
//   });
//
// A body that ends is waited for no more; where one throws, the others' waits end at once, by an exception that no body
// should keep, and the call throws what the first one threw. Workers look for the others for a while before they sleep;
// with fewer processors than workers they sleep at once.
#pragma once

#include <atomic>
#include <cstdint>
#include <utility>

#include "antcrew/machine/enough_processors.hpp"

namespace antcrew {

// Any worker of the call.
class Barrier {
 public:
  explicit Barrier(int workers) : missing_(workers), expected_(workers), processors_(workers) {}
  Barrier(const Barrier&) = delete;
  Barrier& operator=(const Barrier&) = delete;

  // Until all whose body has not ended are here. One worker's wait costs nothing but two atomic steps.
  void wait();

  // For crews: a body, of one worker. What it throws comes out, but for what ended its waits.
  template <class Body>
  void run(Body&& body) {
    try {
      body();
    } catch (const Abandoned&) {
    } catch (...) {
      give_up();
      throw;
    }
    leave();
  }

 private:
  struct Abandoned {};

  void complete() noexcept;
  void next_step() noexcept;
  void leave() noexcept;
  void give_up() noexcept;

  // Invariant: a step ends when `missing_` falls to 0, and whoever brought it there sets it to `expected_` before the
  // step's number changes. Nobody comes to the next step before. Who leaves lowers `expected_` first and counts as one
  // who has come, so no step ends in between. Arriving is acquire and release on `missing_`, and the number is
  // published by a release (or more): what each wrote before a step is seen by all after it.
  std::atomic<int> missing_;
  std::atomic<int> expected_;
  std::atomic<std::uint32_t> step_{0};
  std::atomic<int> asleep_{0};
  std::atomic<bool> abandoned_{false};
  internal::EnoughProcessors processors_;
};

}  // namespace antcrew
