#include "antcrew/crew/internal/here.hpp"

#include <pthread.h>

#include <algorithm>
#include <cstddef>
#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

std::uintptr_t find_stack_floor() noexcept {
  constexpr std::size_t margin = 256 * 1024;
  if (stack_floor_here != ~std::uintptr_t{0}) return stack_floor_here;
  const auto here = reinterpret_cast<std::uintptr_t>(__builtin_frame_address(0));
  pthread_attr_t attributes;
  if (pthread_getattr_np(pthread_self(), &attributes) != 0) {
    // The system does not tell: no smaller than usual, and mostly unused as yet.
    std::size_t usual = 8u << 20;
    if (pthread_getattr_default_np(&attributes) == 0) {
      pthread_attr_getstacksize(&attributes, &usual);
      pthread_attr_destroy(&attributes);
    }
    return stack_floor_here = here - usual * 3 / 4;
  }
  stack_floor_here = 0;
  void* lowest = nullptr;
  std::size_t bytes = 0;
  if (pthread_attr_getstack(&attributes, &lowest, &bytes) == 0) {
    stack_floor_here = reinterpret_cast<std::uintptr_t>(lowest) + std::min(margin, bytes / 4);
  }
  pthread_attr_destroy(&attributes);
  return stack_floor_here;
}

void refuse_busy(const char* crew) {
  could_not_run("crew.busy", crew, "another thread's call is under way on this crew",
                "give each calling thread a crew of its own");
}

void refuse_depth(const char* crew, const char* call) {
  could_not_run("crew.stack", std::string(crew) + ", " + call, "recursion has come near the end of a stack",
                "go on sequentially below some depth, or raise CrewOptions::stack_bytes and `ulimit -s`");
}

}  // namespace antcrew::internal
