// Threads that stay: started together, pinned and given stacks as asked, joined together. Worker 0 is whoever calls the
// crew and is not among them; it is pinned for the length of a call only (PinnedHere with pin_of_caller()).
#pragma once

#include <pthread.h>

#include <atomic>
#include <cstdint>
#include <exception>
#include <vector>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/machine/processors.hpp"

namespace antcrew::internal {

class StandingThreads {
 public:
  StandingThreads(int workers, const CrewOptions& options);
  ~StandingThreads() = default;  // they must have been joined
  StandingThreads(const StandingThreads&) = delete;
  StandingThreads& operator=(const StandingThreads&) = delete;

  // Starts entry(context, worker) for workers 1 and up, and waits for their hooks. Throws Error (crew.start), or what a
  // hook threw; those that did start then still run, and join() waits for them.
  void start(void (*entry)(void* context, int worker), void* context);
  void join() noexcept;
  // For a forked process, which has none of them.
  void forget() noexcept { threads_.clear(); }

  const CrewFacts& facts() const noexcept { return facts_; }
  int pin_of_caller() const noexcept { return pin_of_caller_; }

 private:
  struct Start;
  void start_one(int worker, const pthread_attr_t& attributes, void (*entry)(void*, int), void* context);
  void choose_processors();
  static void* thread_main(void* start);
  void begin_hook(int worker) noexcept;
  void await_hooks();

  int workers_;
  CrewFacts facts_;
  ProcessorSet own_;  // of the maker, without any pin
  int pin_of_caller_ = -1;
  std::vector<pthread_t> threads_;
  std::atomic<std::uint32_t> hooks_done_{0};
  std::atomic<bool> hook_threw_{false};
  std::exception_ptr hook_error_;
};

}  // namespace antcrew::internal
