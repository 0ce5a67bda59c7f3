#include "antcrew/crew/internal/ancestry.hpp"

#include <pthread.h>

#include <string>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {
namespace {

void one_deeper() {
  fork_depth_now.fetch_add(1, std::memory_order_relaxed);
}
[[gnu::constructor]] void count_forks() {
  pthread_atfork(nullptr, nullptr, one_deeper);
}

}  // namespace

void refuse_inherited(const char* crew) {
  could_not_run("crew.forked", crew,
                "it was made before this process was forked, and a fork takes no other threads or workers along",
                "make a crew of its own in this process");
}

}  // namespace antcrew::internal
