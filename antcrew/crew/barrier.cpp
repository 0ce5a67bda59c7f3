#include "antcrew/crew/barrier.hpp"

#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew {

void Barrier::wait() {
  if (abandoned_.load(std::memory_order_acquire)) throw Abandoned();
  const std::uint32_t here = step_.load(std::memory_order_acquire);
  if (missing_.fetch_sub(1, std::memory_order_acq_rel) == 1) return complete();
  internal::Lane* lane = internal::current_lane;
  const internal::InFrame waiting(
      {internal::Doing::waiting, internal::Shortage::none, lane == nullptr ? 0 : lane->at().region, nullptr, nullptr},
      lane);
  const auto over = [&] { return step_.load(std::memory_order_acquire) != here; };
  if (!processors_.known() || !internal::looked(over)) {
    processors_.look_again();
    asleep_.fetch_add(1, std::memory_order_seq_cst);
    while (step_.load(std::memory_order_seq_cst) == here) internal::sleep_while(step_, here);
    asleep_.fetch_sub(1, std::memory_order_relaxed);
  }
  if (abandoned_.load(std::memory_order_acquire)) throw Abandoned();
}

void Barrier::complete() noexcept {
  missing_.store(expected_.load(std::memory_order_relaxed), std::memory_order_relaxed);
  next_step();
}

// In one total order with a waiter's counting itself asleep and its last look at the number: either this sees the
// sleeper, or the sleeper saw the new number.
void Barrier::next_step() noexcept {
  step_.fetch_add(1, std::memory_order_seq_cst);
  if (asleep_.load(std::memory_order_seq_cst) > 0) internal::wake_all(step_);
}

// Relaxed: the step that counts on it ends by the next line, or later.
void Barrier::leave() noexcept {
  expected_.fetch_sub(1, std::memory_order_relaxed);
  if (missing_.fetch_sub(1, std::memory_order_acq_rel) == 1) complete();
}

void Barrier::give_up() noexcept {
  abandoned_.store(true, std::memory_order_release);
  next_step();
}

}  // namespace antcrew
