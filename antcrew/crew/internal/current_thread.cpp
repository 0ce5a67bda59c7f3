#include "antcrew/crew/internal/current_thread.hpp"

#include <pthread.h>

#include <algorithm>
#include <cstddef>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/own_stack.hpp"

namespace antcrew::internal {

namespace {

struct StackEnds {
  std::uintptr_t lowest = 0;
  std::uintptr_t top = 0;  // 0: not found yet, or not told
  std::uintptr_t floor = 0;
  bool holds(std::uintptr_t address) const noexcept { return lowest <= address && address < top; }
};

constinit thread_local StackEnds of_thread = {};
constinit thread_local StackEnds current_stack = {};

StackEnds ends_of(std::uintptr_t lowest, std::size_t bytes) noexcept {
  constexpr std::size_t margin = 256 * 1024;
  return {lowest, lowest + bytes, lowest + std::min(margin, bytes / 4)};
}

void find_stack_of_thread(std::uintptr_t here) noexcept {
  pthread_attr_t attributes;
  if (pthread_getattr_np(pthread_self(), &attributes) != 0) {
    // The system does not tell: no smaller than usual, and mostly unused as yet.
    std::size_t usual = 8u << 20;
    if (pthread_getattr_default_np(&attributes) == 0) {
      pthread_attr_getstacksize(&attributes, &usual);
      pthread_attr_destroy(&attributes);
    }
    of_thread = {here - usual, ~std::uintptr_t{0}, here - usual * 3 / 4};
    return;
  }
  void* lowest = nullptr;
  std::size_t bytes = 0;
  const bool known = pthread_attr_getstack(&attributes, &lowest, &bytes) == 0;
  of_thread = known ? ends_of(reinterpret_cast<std::uintptr_t>(lowest), bytes) : StackEnds{0, ~std::uintptr_t{0}, 0};
  pthread_attr_destroy(&attributes);
}

}  // namespace

bool ends_soon(std::uintptr_t address) noexcept {
  if (current_stack.holds(address)) return address < current_stack.floor;
  if (of_thread.top == 0) find_stack_of_thread(address);
  if (current_stack.top == 0) current_stack_floor = of_thread.floor;
  return of_thread.holds(address) && address < of_thread.floor;
}

}  // namespace antcrew::internal

namespace antcrew {

using namespace base_layer;

OwnStack::OwnStack(const void* lowest, std::size_t bytes) noexcept
    : before_{internal::current_stack.lowest, internal::current_stack.top, internal::current_stack.floor,
              internal::current_stack_floor} {
  internal::current_stack = internal::ends_of(reinterpret_cast<std::uintptr_t>(lowest), bytes);
  internal::current_stack_floor = internal::current_stack.floor;
}

OwnStack::~OwnStack() {
  internal::current_stack = {before_.lowest, before_.top, before_.floor};
  internal::current_stack_floor = before_.current_floor;
}

}  // namespace antcrew

namespace antcrew::internal {

void refuse_busy(const char* crew) {
  could_not_run("crew.busy", crew, "another thread's call is under way on this crew",
                "give each calling thread a crew of its own");
}

void refuse_own_wait() {
  bad_input("group.wait", "TaskGroup", "a child of the group waits for the group, and so for itself",
            "let a child have a group of its own for what it begins and waits for");
}

void refuse_nested(const char* crew, const char* call) {
  bad_input("crew.nested", std::string(crew) + ", " + call,
            "it is called inside a body of the same crew, whose other workers are at that body's call",
            "call it outside, or with a crew of its own");
}

void refuse_depth(const char* crew, const char* call) {
  could_not_run("crew.stack", std::string(crew) + ", " + call, "recursion has come near the end of a stack",
                "go on sequentially below some depth, or raise CrewOptions::stack_bytes and `ulimit -s`");
}

}  // namespace antcrew::internal
