#include "antcrew/study/internal/one_place.hpp"

#include <dirent.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <memory>
#include <vector>

namespace antcrew::internal {
namespace {

std::vector<pid_t> own_threads() {
  std::vector<pid_t> threads;
  const std::unique_ptr<DIR, int (*)(DIR*)> folder(::opendir("/proc/self/task"), &::closedir);
  if (!folder) return threads;
  while (const dirent* entry = ::readdir(folder.get())) {
    const int number = std::atoi(entry->d_name);
    if (number > 0) threads.push_back(number);
  }
  return threads;
}

}  // namespace

OnOnePlace::OnOnePlace(int processor, double longest_s) {
  allowed_ = ::sched_getaffinity(0, sizeof own_, &own_) == 0;
  if (!allowed_) return;
  // Before the others are moved, so that the watch itself is not among them.
  watch_ = std::thread([this, longest_s] {
    std::unique_lock<std::mutex> held(lock_);
    if (ended_.wait_for(held, std::chrono::duration<double>(longest_s), [this] { return over_; })) return;
    allowed_ = false;
    put_back();
  });
  const std::lock_guard<std::mutex> held(lock_);
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(static_cast<std::size_t>(processor), &one);
  for (const pid_t thread : own_threads()) {
    cpu_set_t its;
    if (::sched_getaffinity(thread, sizeof its, &its) != 0) continue;  // it has ended
    if (::sched_setaffinity(thread, sizeof one, &one) != 0) {
      allowed_ = false;
      continue;
    }
    before_[thread] = its;
  }
}

OnOnePlace::~OnOnePlace() {
  if (!watch_.joinable()) return;
  {
    const std::lock_guard<std::mutex> held(lock_);
    over_ = true;
    put_back();
  }
  ended_.notify_one();
  watch_.join();
}

bool OnOnePlace::kept() {
  const std::lock_guard<std::mutex> held(lock_);
  return allowed_;
}

// Threads that were begun meanwhile had the place of who began them.
void OnOnePlace::put_back() noexcept {
  for (const pid_t thread : own_threads()) {
    const auto known = before_.find(thread);
    const cpu_set_t& its = known == before_.end() ? own_ : known->second;
    ::sched_setaffinity(thread, sizeof its, &its);
  }
}

}  // namespace antcrew::internal
