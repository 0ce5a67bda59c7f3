// Where a sleeping worker is woken: not on the processor of whoever wakes it.
//
// The kernel wakes a thread where it slept last, also when the waker computes there by now; then both share that
// processor for milliseconds, whatever else is idle. In a virtual machine it may also take the sleeper to the waker's
// processor, since an idle one that the host has taken away for the time being does not count as idle. So a worker
// notes on which processor it goes to sleep; whoever wakes it from that very processor (in a virtual machine, from any
// one) takes its own out of the worker's set first, and the worker puts its set back when it is up. The set is put back
// as it was read, and only while it is still the narrowed one: what the user changes meanwhile holds. A set that would
// be empty (a pinned worker's) is left alone.
//
// Invariant: the sets are the waker's while `room_` is `taking`, and the sleeper's while it is `taken`. Nobody leaves a
// placement narrowed: the sleeper says that it is up (slept_on_) and then looks at room_, the waker takes room_ and
// then looks whether the sleeper is up; all four sequentially consistent, so either the waker stops, or the sleeper
// waits for the system calls that the waker is at. The sleeper may be a thread or another process: the placement may
// lie in memory that they share. One wakes at a time.
#pragma once

#include <atomic>

#include "antcrew/machine/forks.hpp"
#include "antcrew/machine/layer.hpp"
#include "antcrew/machine/processors.hpp"

namespace antcrew::internal {

class WakePlacement {
 public:
  // By the sleeper: before it tells that it sleeps, and when it is up again.
  void lie_down() noexcept {
    thread_.store(static_cast<int>(kernel_thread()), std::memory_order_relaxed);
    slept_on_.store(current_processor(), std::memory_order_release);
  }
  void get_up() noexcept {
    slept_on_.store(-1, std::memory_order_seq_cst);
    if (room_.load(std::memory_order_seq_cst) != Room::free) [[unlikely]]
      put_back();
  }

  // By the waker, after the sleeper was told and before the kernel wakes it. taken: the waker's processor, and those
  // where it has just woken others.
  void make_room(const ProcessorSet& taken) noexcept {
    const int there = slept_on_.load(std::memory_order_acquire);
    if (there >= 0 && (taken.has(there) || in_virtual_machine())) take_out(taken);
  }
  void make_room(int here) noexcept {
    const int there = slept_on_.load(std::memory_order_acquire);
    if (here < 0 || there < 0 || (there != here && !in_virtual_machine())) return;
    ProcessorSet one;
    one.add(here);
    take_out(one);
  }
  int slept_on() const noexcept { return slept_on_.load(std::memory_order_relaxed); }

 private:
  enum class Room : int { free, taking, taken };

  void take_out(const ProcessorSet& taken) noexcept;
  void put_back() noexcept;

  std::atomic<int> thread_{0};  // of the sleeper; published by slept_on_
  std::atomic<int> slept_on_{-1};
  std::atomic<Room> room_{Room::free};
  ProcessorSet before_;
  ProcessorSet narrowed_;
  bool had_all_ = false;  // before_ named all processors that were there
};

}  // namespace antcrew::internal
