#include "antcrew/machine/tree_memory.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <string>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/usage.hpp"

namespace antcrew::machine_layer {
namespace {

constexpr std::int64_t shortest_pause_ns = 1'000'000;
constexpr std::int64_t pauses_for_a_look = 4;  // at most a fifth of a processor

std::uint64_t kib_after(const char* text, const char* field) noexcept {
  const char* at = std::strstr(text, field);
  return at == nullptr ? 0 : std::strtoull(at + std::strlen(field), nullptr, 10) * 1024;
}

}  // namespace

std::uint64_t private_bytes_of(int process) {
  const std::string path = "/proc/" + std::to_string(process) + "/smaps_rollup";
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return 0;
  char text[2048] = {};
  const ssize_t got = ::read(file, text, sizeof text - 1);
  ::close(file);
  return got <= 0 ? 0 : kib_after(text, "Private_Clean:") + kib_after(text, "Private_Dirty:");
}

class TreeMemory::Watcher {
 public:
  Watcher() : thread_([this] { watch(); }) {}
  ~Watcher() {
    enough_ = true;
    thread_.join();
  }
  Watcher(const Watcher&) = delete;
  Watcher& operator=(const Watcher&) = delete;
  std::uint64_t peak_bytes() const noexcept { return peak_.load(std::memory_order_relaxed); }
  int looks() const noexcept { return looks_.load(std::memory_order_relaxed); }

 private:
  void watch() {
    while (!enough_) {
      const std::int64_t start = now_ns();
      look();
      const std::int64_t took = now_ns() - start;
      std::this_thread::sleep_for(std::chrono::nanoseconds(std::max(shortest_pause_ns, pauses_for_a_look * took)));
    }
  }
  void look() {
    std::uint64_t sum = resident_bytes();
    const auto below = living_descendants();
    for (const int process : below) sum += private_bytes_of(process);
    if (!below.empty()) looks_.fetch_add(1, std::memory_order_relaxed);
    peak_.store(std::max(peak_.load(std::memory_order_relaxed), sum), std::memory_order_relaxed);
  }

  std::atomic<std::uint64_t> peak_{0};
  std::atomic<int> looks_{0};
  std::atomic<bool> enough_{false};
  std::thread thread_;
};

TreeMemory::TreeMemory() : watcher_(std::make_unique<Watcher>()) {}
TreeMemory::~TreeMemory() = default;

std::uint64_t TreeMemory::peak_bytes() const noexcept {
  return watcher_->peak_bytes();
}
int TreeMemory::looks() const noexcept {
  return watcher_->looks();
}

}  // namespace antcrew::machine_layer
