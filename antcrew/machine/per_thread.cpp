#include "antcrew/machine/per_thread.hpp"

#include <pthread.h>

#include <algorithm>
#include <functional>
#include <mutex>
#include <utility>
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

// At a thread's end, after its thread-local objects have gone. Asked again after that, it has a new number.
void give_back(void*) {
  const int number = std::exchange(current_thread_number, -1);
  Numbers& all = numbers();
  const std::lock_guard<std::mutex> lock(all.mutex);
  all.returned.push_back(number);
  std::push_heap(all.returned.begin(), all.returned.end(), std::greater<>());
}

// Not a thread-local object: to register the end of one, a thread takes the loader's lock, which is held by whoever
// waits for this thread in an initialiser of a library that is just being loaded. Threads that end after the library
// has gone, or the program's static objects, keep their numbers.
class AtEndOfThread {
 public:
  AtEndOfThread() noexcept : made_(pthread_key_create(&key_, give_back) == 0) {}
  ~AtEndOfThread() {
    if (std::exchange(made_, false)) pthread_key_delete(key_);
  }
  AtEndOfThread(const AtEndOfThread&) = delete;
  AtEndOfThread& operator=(const AtEndOfThread&) = delete;
  void mark() noexcept {
    if (made_) pthread_setspecific(key_, &key_);
  }

 private:
  pthread_key_t key_{};
  bool made_;
};

AtEndOfThread& at_end_of_thread() {
  static AtEndOfThread at_end;
  return at_end;
}

}  // namespace

int take_thread_number() {
  {
    Numbers& all = numbers();
    const std::lock_guard<std::mutex> lock(all.mutex);
    if (all.returned.empty()) {
      current_thread_number = all.next++;
    } else {
      std::pop_heap(all.returned.begin(), all.returned.end(), std::greater<>());
      current_thread_number = all.returned.back();
      all.returned.pop_back();
    }
  }
  at_end_of_thread().mark();
  return current_thread_number;
}

}  // namespace antcrew::internal
