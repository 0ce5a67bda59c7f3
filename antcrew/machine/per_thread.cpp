#include "antcrew/machine/per_thread.hpp"

#include <algorithm>
#include <functional>
#include <mutex>
#include <vector>

namespace antcrew::internal {
namespace {

// Never destroyed: threads may end after static objects have.
struct Numbers {
  std::mutex mutex;
  std::vector<int> returned;  // a heap, smallest first
  int next = 0;
};

Numbers& numbers() {
  static auto* all = new Numbers;
  return *all;
}

struct Return {
  ~Return() {
    Numbers& all = numbers();
    const std::lock_guard<std::mutex> lock(all.mutex);
    all.returned.push_back(thread_number_here);
    std::push_heap(all.returned.begin(), all.returned.end(), std::greater<>());
  }
};

}  // namespace

int take_thread_number() {
  {
    Numbers& all = numbers();
    const std::lock_guard<std::mutex> lock(all.mutex);
    if (all.returned.empty()) {
      thread_number_here = all.next++;
    } else {
      std::pop_heap(all.returned.begin(), all.returned.end(), std::greater<>());
      thread_number_here = all.returned.back();
      all.returned.pop_back();
    }
  }
  thread_local const Return at_end;
  static_cast<void>(&at_end);
  return thread_number_here;
}

}  // namespace antcrew::internal
