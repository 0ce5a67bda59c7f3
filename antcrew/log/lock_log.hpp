// How long locks are held while a call is metered.
#pragma once

#include <cstdint>

#include "antcrew/log/lane_book.hpp"

namespace antcrew::internal {

// What a lock remembers of the book under way. Written by who holds the lock.
class LockLog {
 public:
  // How long a hold takes is measured of each while they are few or long, else of one among sixteen.
  class Holding {
   public:
    Holding(LockLog& log, const void* lock, const char* name) noexcept {
      if (current_lane != nullptr) [[unlikely]]
        begin(log, lock, name);
    }
    ~Holding() {
      if (entry_ != nullptr) [[unlikely]]
        end();
    }
    Holding(const Holding&) = delete;
    Holding& operator=(const Holding&) = delete;

   private:
    void begin(LockLog& log, const void* lock, const char* name) noexcept;
    void end() noexcept;
    LaneBook::LockEntry* entry_ = nullptr;
    std::int64_t start_ns_ = 0;
    std::int64_t start_cpu_ns_ = 0;
  };

 private:
  LaneBook::LockEntry* entry_ = nullptr;
};

}  // namespace antcrew::internal
