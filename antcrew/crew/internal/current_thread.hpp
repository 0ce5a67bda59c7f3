// What the calling thread is at present: which worker, of which crew, and how much of its stack is left.
#pragma once

#include <cstdint>
#include <utility>

#include "antcrew/crew/worker.hpp"

namespace antcrew::internal {

class TaskWorker;

// The worker of a TaskCrew in whose body the calling thread is; null outside, and in bodies of other crews inside it.
inline constinit thread_local TaskWorker* current_task_worker = nullptr;

// For the length of a body: the calling thread is this worker of its crew, whatever it was outside.
class AsWorker {
 public:
  explicit AsWorker(int number, TaskWorker* task_worker = nullptr) noexcept
      : number_(std::exchange(current_worker_number, number)),
        task_worker_(std::exchange(current_task_worker, task_worker)) {}
  ~AsWorker() {
    current_worker_number = number_;
    current_task_worker = task_worker_;
  }
  AsWorker(const AsWorker&) = delete;
  AsWorker& operator=(const AsWorker&) = delete;

 private:
  int number_;
  TaskWorker* task_worker_;
};

// Address below which recursion is refused: what a body may still need lies below it. Found once a thread; until then
// everything is below.
inline constinit thread_local std::uintptr_t current_stack_floor = ~std::uintptr_t{0};
// Whether the stack that this address is on ends soon: the thread's, one that an OwnStack told of, or else nobody knows
// where it ends, and it goes on.
bool ends_soon(std::uintptr_t address) noexcept;

// May say no where some is left: when the floor has not been found yet.
inline bool stack_surely_left() noexcept {
  return reinterpret_cast<std::uintptr_t>(__builtin_frame_address(0)) >= current_stack_floor;
}
inline bool stack_nearly_full() noexcept {
  if (stack_surely_left()) [[likely]]
    return false;
  return ends_soon(reinterpret_cast<std::uintptr_t>(__builtin_frame_address(0)));
}

// An address of the calling thread's own, as long as it lives.
inline constinit thread_local char mark_of_thread = 0;
inline const void* thread_mark() noexcept {
  return &mark_of_thread;
}

// Throws Error (crew.busy).
[[noreturn]] void refuse_busy(const char* crew);
// Throws Error (group.wait).
[[noreturn]] void refuse_own_wait();
// Throws Error (crew.nested).
[[noreturn]] void refuse_nested(const char* crew, const char* call);
// Throws Error (crew.stack).
[[noreturn]] void refuse_depth(const char* crew, const char* call);

}  // namespace antcrew::internal
