// What a watched crew notes down, worker by worker; nothing while nobody watches.
//
// A lane is written by its worker only, and read by whoever watches: hence relaxed atomics, which cost that one writer
// no more than plain numbers. The crew owns its meter, so a worker that is late may still write.
#pragma once

#include <atomic>
#include <cstddef>
#include <cstdint>

#include "antcrew/base/owned.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// A number with one writer at a time and any readers.
class Noted {
 public:
  void add(std::int64_t k) noexcept {
    value_.store(value_.load(std::memory_order_relaxed) + k, std::memory_order_relaxed);
  }
  std::int64_t get() const noexcept { return value_.load(std::memory_order_relaxed); }

 private:
  std::atomic<std::int64_t> value_{0};
};

struct alignas(line_bytes) BusyLane {
  Noted busy_ns;  // from taking up work to finding none left
  Noted cpu_ns;   // of that, running on a processor
  Noted pieces;
  Noted stolen;  // of them, taken from another worker
};

struct Meter {
  explicit Meter(int workers) : lanes(static_cast<std::size_t>(workers)), lane_count(workers) {}
  BusyLane* lane(int worker) noexcept { return &lanes[static_cast<std::size_t>(worker)]; }

  OwnedArray<BusyLane> lanes;
  int lane_count;
  Noted calls;
  Noted calls_ns;  // the caller, from the start of each outermost call to its end
  int depth = 0;   // of calls inside each other in a crew of one
};

// The meter that workers write to; null while nobody watches. Made at the first watch, kept until the crew's end.
class MeterSwitch {
 public:
  Meter* now() const noexcept { return on_.load(std::memory_order_acquire); }
  Meter& turn_on(int workers) {
    if (!meter_) meter_ = Owned<Meter>(new Meter(workers));
    on_.store(meter_.get(), std::memory_order_release);
    return *meter_;
  }
  void turn_off() noexcept { on_.store(nullptr, std::memory_order_release); }

 private:
  Owned<Meter> meter_;
  std::atomic<Meter*> on_{nullptr};
};

// Adds the stretch between its making and its end to a lane. Does nothing without a lane.
class Busy {
 public:
  explicit Busy(BusyLane* lane) noexcept : lane_(lane) {
    if (lane_ == nullptr) return;
    start_ns_ = now_ns();
    cpu_ns_ = thread_cpu_ns();
  }
  ~Busy() {
    if (lane_ == nullptr) return;
    lane_->busy_ns.add(now_ns() - start_ns_);
    lane_->cpu_ns.add(thread_cpu_ns() - cpu_ns_);
  }
  Busy(const Busy&) = delete;
  Busy& operator=(const Busy&) = delete;

 private:
  BusyLane* lane_;
  std::int64_t start_ns_ = 0;
  std::int64_t cpu_ns_ = 0;
};

// How many calls of a crew of one are inside each other, this one included.
class Inner {
 public:
  explicit Inner(int& depth) noexcept : depth_(depth) { ++depth_; }
  ~Inner() { --depth_; }
  Inner(const Inner&) = delete;
  Inner& operator=(const Inner&) = delete;
  int depth() const noexcept { return depth_; }

 private:
  int& depth_;
};

// One outermost call, measured by its caller. Does nothing without a meter.
class CallMeter {
 public:
  explicit CallMeter(Meter* meter) noexcept : meter_(meter), start_ns_(meter == nullptr ? 0 : now_ns()) {}
  ~CallMeter() {
    if (meter_ == nullptr) return;
    meter_->calls.add(1);
    meter_->calls_ns.add(now_ns() - start_ns_);
  }
  CallMeter(const CallMeter&) = delete;
  CallMeter& operator=(const CallMeter&) = delete;

 private:
  Meter* meter_;
  std::int64_t start_ns_;
};

}  // namespace antcrew::internal
