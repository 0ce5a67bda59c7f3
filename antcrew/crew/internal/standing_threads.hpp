// Threads that stay: started together, pinned and given stacks as asked, joined together. Worker 0 is the thread that
// made them and is not among them.
#pragma once

#include <pthread.h>

#include <vector>

#include "antcrew/crew/crew_options.hpp"

namespace antcrew::internal {

class StandingThreads {
 public:
  StandingThreads(int workers, const CrewOptions& options);
  ~StandingThreads();  // they must have been joined
  StandingThreads(const StandingThreads&) = delete;
  StandingThreads& operator=(const StandingThreads&) = delete;

  // Starts entry(context, worker) for workers 1 and up. Throws Error (crew.start); those that did start then still
  // run, and join() waits for them.
  void start(void (*entry)(void* context, int worker), void* context);
  void join() noexcept;
  // For a forked process, which has none of them.
  void forget() noexcept { threads_.clear(); }

  const CrewFacts& facts() const noexcept { return facts_; }

 private:
  void start_one(int worker, const pthread_attr_t& attributes, void (*entry)(void*, int), void* context);
  void pin();

  int workers_;
  CrewFacts facts_;
  std::vector<pthread_t> threads_;
  std::vector<int> caller_mask_;  // the caller's processors before it was pinned
  pthread_t caller_;
};

}  // namespace antcrew::internal
