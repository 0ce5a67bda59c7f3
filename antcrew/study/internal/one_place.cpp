#include "antcrew/study/internal/one_place.hpp"

#include <dirent.h>
#include <unistd.h>

#include <chrono>
#include <condition_variable>
#include <cstdlib>
#include <memory>
#include <mutex>
#include <thread>
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

struct OnOnePlace::Watch {
  std::mutex lock;
  std::condition_variable ended;
  bool over = false;
  std::thread thread;
};

OnOnePlace::OnOnePlace(int processor, double longest_s) {
  allowed_ = ::sched_getaffinity(0, sizeof own_, &own_) == 0;
  if (!allowed_) return;
  // Before the others are moved, so that the watch itself is not among them.
  watch_ = Owned<Watch>(new Watch);
  watch_->thread = std::thread([this, longest_s] {
    std::unique_lock<std::mutex> held(watch_->lock);
    if (watch_->ended.wait_for(held, std::chrono::duration<double>(longest_s), [this] { return watch_->over; })) return;
    allowed_ = false;
    put_back();
  });
  const std::lock_guard<std::mutex> held(watch_->lock);
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
  if (!watch_) return;
  {
    const std::lock_guard<std::mutex> held(watch_->lock);
    watch_->over = true;
    put_back();
  }
  watch_->ended.notify_one();
  watch_->thread.join();
}

bool OnOnePlace::kept() {
  if (!watch_) return false;
  const std::lock_guard<std::mutex> held(watch_->lock);
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
