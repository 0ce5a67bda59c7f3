// All threads of this process on one processor, for a while.
//
//   { const OnOnePlace place(processor, 0.5); call(); if (place.kept()) use(cpu time); }
//
// Threads that are begun meanwhile come to it, too. Programs whose threads wait for each other without sleeping may
// take very long there: after longest_s every thread may go where it was allowed before, and kept() is false.
#pragma once

#include <sched.h>
#include <sys/types.h>

#include <map>

#include "antcrew/base/owned.hpp"

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class OnOnePlace {
 public:
  OnOnePlace(int processor, double longest_s);
  ~OnOnePlace();
  OnOnePlace(const OnOnePlace&) = delete;
  OnOnePlace& operator=(const OnOnePlace&) = delete;

  // Whether the system allowed it, for all threads and until now.
  bool kept();

 private:
  void put_back() noexcept;  // with the lock held

  std::map<pid_t, cpu_set_t> before_;
  cpu_set_t own_;  // of the thread that made this: where those begun meanwhile go
  bool allowed_ = true;
  struct Watch;
  Owned<Watch> watch_;  // that lets all go when it takes too long; guards what is above
};

}  // namespace antcrew::internal
