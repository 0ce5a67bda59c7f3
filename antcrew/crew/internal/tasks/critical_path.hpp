// The critical path of a metered call, gathered on the way: how long what the calling worker does would take with any
// number of workers.
//
// At a fork both halves begin where the path was, and the longer one goes on after the join; a step of a graph, and a
// child of a group, likewise (Blumofe and Leiserson 1999, "Scheduling multithreaded computations by work stealing":
// work and span). What a loop takes is left out, so that the path is no longer than it truly is. Kept only while a log
// is open; a clock reading at each end of a half.
#pragma once

#include <atomic>
#include <cstdint>

#include "antcrew/base/smaller.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Of the calling thread.
class CriticalPath {
 public:
  // The path up to now.
  std::int64_t now() noexcept {
    const std::int64_t time = now_ns();
    path_ns_ += time - since_ns_;
    since_ns_ = time;
    return path_ns_;
  }
  void go_on(std::int64_t path_ns) noexcept {
    path_ns_ = path_ns;
    since_ns_ = now_ns();
  }

 private:
  std::int64_t path_ns_ = 0;
  std::int64_t since_ns_ = 0;
};
inline constinit thread_local CriticalPath current_path;

// Goes on after what is begun here with the longer path of the two, also when something is thrown.
class LongerPath {
 public:
  LongerPath(std::int64_t first_ns, const std::int64_t* second_ns) noexcept
      : first_ns_(first_ns), second_ns_(second_ns) {}
  // second_ns null: the path that the calling thread is on.
  ~LongerPath() { current_path.go_on(larger_of(first_ns_, second_ns_ == nullptr ? current_path.now() : *second_ns_)); }
  LongerPath(const LongerPath&) = delete;
  LongerPath& operator=(const LongerPath&) = delete;

 private:
  std::int64_t first_ns_;
  const std::int64_t* second_ns_;
};

// Work taken up from elsewhere is on a path of its own; afterwards the calling thread is where it was.
class OtherPath {
 public:
  explicit OtherPath(std::int64_t path_ns) noexcept : before_(current_path) { current_path.go_on(path_ns); }
  ~OtherPath() { current_path = before_; }
  OtherPath(const OtherPath&) = delete;
  OtherPath& operator=(const OtherPath&) = delete;

 private:
  CriticalPath before_;
};

// What is done meanwhile counts for nothing.
class OffPath {
 public:
  OffPath() noexcept : path_ns_(current_path.now()) {}
  ~OffPath() { current_path.go_on(path_ns_); }
  OffPath(const OffPath&) = delete;
  OffPath& operator=(const OffPath&) = delete;

 private:
  std::int64_t path_ns_;
};

inline void keep_longest(std::atomic<std::int64_t>& longest, std::int64_t path_ns) noexcept {
  std::int64_t known = longest.load(std::memory_order_relaxed);
  while (known < path_ns && !longest.compare_exchange_weak(known, path_ns, std::memory_order_relaxed)) {
  }
}

}  // namespace antcrew::internal
