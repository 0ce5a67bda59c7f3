// Naming stretches of a trial, and counting what it did.
//
//   Phase phase("merge");      // from here to the end of the scope
//   Work nodes("nodes");            // what the work consists of: twice as many are twice the work
//   Quantity buffers("buffers");    // anything else that is worth seeing
//   for (…) nodes.add(1);
//
// Outside a study both do nothing. Inside, a phase costs two readings of the clock and a slot of a journal (under
// 100 ns); a counter is added up locally and written once, when it leaves its scope. Any worker may open them, threads
// and forked processes alike; phases nest, and each is logged with its whole time. Names must be string literals: only
// the pointer is kept.
#pragma once

#include <cstdint>

#include "antcrew/log/journal.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew {

namespace internal {

// What crews of processes log: phases of their workers and of their parent, the time of page faults in the parent on
// memory that a fork made shared, and a counter. What is too short for a socket is not logged.
inline constexpr const char* moving_data = "moving data";
inline constexpr const char* taking_data = "taking in moved data";
inline constexpr const char* touching_again = "touching memory again after the fork";
inline constexpr const char* bytes_moved = "bytes moved";
// A counter, too: of work that a body began and nobody waited for, so that its crew waited at the end of the call.
inline constexpr const char* unwaited_work = "pieces of work nobody waited for";

}  // namespace internal

class [[nodiscard]] Phase {
 public:
  // Nodiscard: a phase without a name for its variable would end at once.
  [[nodiscard]] explicit Phase(const char* name) noexcept
      : journal_(internal::open_journal.load(std::memory_order_relaxed)), name_(name) {
    if (journal_ == nullptr) return;
    start_ns_ = now_ns();
    lane_ = internal::current_lane;
    if (lane_ != nullptr) outer_ = lane_->enter_phase(name_);
  }
  ~Phase() {
    if (journal_ == nullptr) return;
    journal_->log(name_, start_ns_, now_ns());
    if (lane_ != nullptr && lane_ == internal::current_lane) lane_->leave_phase(outer_);
  }
  Phase(const Phase&) = delete;
  Phase& operator=(const Phase&) = delete;

 private:
  internal::Journal* journal_;
  const char* name_;
  std::int64_t start_ns_ = 0;
  internal::Lane* lane_ = nullptr;
  const char* outer_ = nullptr;
};

namespace internal {

template <bool work>
class [[nodiscard]] Counted {
 public:
  [[nodiscard]] explicit Counted(const char* name) noexcept
      : journal_(open_journal.load(std::memory_order_relaxed)), name_(name) {}
  ~Counted() {
    if (journal_ != nullptr && count_ != 0) journal_->count(name_, count_, work);
  }
  Counted(const Counted&) = delete;
  Counted& operator=(const Counted&) = delete;

  void add(std::uint64_t k) noexcept { count_ += k; }

 private:
  Journal* journal_;
  const char* name_;
  std::uint64_t count_ = 0;
};

}  // namespace internal

// What baseline and variant both count so tells how much of the work each of them did (`extra-work`, `skipped-work`).
using Work = internal::Counted<true>;

// Shown beside the work, and no measure of it: buffers, allocations, tries, bytes.
using Quantity = internal::Counted<false>;

}  // namespace antcrew
