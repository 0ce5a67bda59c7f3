#include "antcrew/machine/together.hpp"

#include <pthread.h>
#include <sched.h>
#include <sys/mman.h>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <system_error>
#include <thread>
#include <vector>

#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::machine_layer {
namespace {

using internal::line_bytes;

constexpr int pieces = 40;
constexpr int turns = 2000;
constexpr std::size_t least_bytes = std::size_t{64} << 20;
constexpr std::size_t most_bytes = std::size_t{256} << 20;

void stay_on(int processor) noexcept {
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(static_cast<std::size_t>(processor), &one);
  ::pthread_setaffinity_np(::pthread_self(), sizeof one, &one);
}

double middle(std::vector<double> times) {
  std::nth_element(times.begin(), times.begin() + static_cast<std::ptrdiff_t>(times.size() / 2), times.end());
  return times[times.size() / 2];
}

// As many as all, some milliseconds of it: the middle piece.
double arithmetic_s() {
  std::vector<double> times;
  for (int piece = 0; piece < pieces; ++piece) {
    const std::int64_t start = now_ns();
    std::uint64_t value = 1;
    asm volatile("" : "+r"(value));
    for (int k = 0; k < 20'000; ++k) value = value * 6364136223846793005u + 1442695040888963407u;
    asm volatile("" : : "r"(value));
    times.push_back(seconds_since(start));
  }
  return middle(times);
}

std::uint64_t read_all(const std::uint64_t* from, std::size_t words) noexcept {
  std::uint64_t a = 0;
  std::uint64_t b = 0;
  std::uint64_t c = 0;
  std::uint64_t d = 0;
  for (std::size_t k = 0; k + 4 <= words; k += 4) {
    a += from[k];
    b += from[k + 1];
    c += from[k + 2];
    d += from[k + 3];
  }
  return a + b + c + d;
}

// Comes to each step when all have come to it.
class Meeting {
 public:
  explicit Meeting(int workers) noexcept : workers_(workers) {}
  void meet(int step) noexcept {
    come_.fetch_add(1, std::memory_order_acq_rel);
    while (come_.load(std::memory_order_acquire) < workers_ * (step + 1) && !off_.load(std::memory_order_acquire))
      ::sched_yield();
  }
  void call_off() noexcept { off_.store(true, std::memory_order_release); }

 private:
  int workers_;
  std::atomic<int> come_{0};
  std::atomic<bool> off_{false};
};

struct alignas(line_bytes) Ball {
  std::atomic<int> turn{0};
};

// Of the first two: each waits for its turn, and writes.
double moves_s(Ball& ball, int which) noexcept {
  const std::int64_t start = now_ns();
  for (int k = 0; k < turns; ++k) {
    while (ball.turn.load(std::memory_order_acquire) % 2 != which) {
      if (seconds_since(start) > 0.1) return 0;  // the other one has no processor
    }
    ball.turn.fetch_add(1, std::memory_order_release);
  }
  return seconds_since(start) / (2 * turns);
}

}  // namespace

TogetherTimes times_together(int workers) {
  const std::vector<int> processors = processor_order(Nearness::apart);
  const auto count = static_cast<std::size_t>(workers);
  if (workers < 1 || count > processors.size()) return {};
  std::size_t cache = 0;
  for (const auto& one : topology().caches) cache = std::max<std::size_t>(cache, one.bytes);
  const std::size_t bytes = std::clamp(4 * cache, least_bytes, most_bytes) / count / line_bytes * line_bytes;
  std::vector<double> computed(count);  // each written by one worker, read when all have been joined
  std::vector<double> began(count);
  std::vector<double> ended(count);
  std::vector<double> moved(count);
  std::atomic<bool> no_memory{false};
  Meeting meeting(workers);
  Ball ball;
  const auto work = [&](std::size_t k) {
    stay_on(processors[k]);
    void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) {
      no_memory = true;
    } else {
      std::fill_n(static_cast<std::uint64_t*>(memory), bytes / sizeof(std::uint64_t), k);
    }
    meeting.meet(0);
    computed[k] = arithmetic_s();
    meeting.meet(1);
    if (!no_memory) {
      const std::int64_t start = now_ns();
      const std::uint64_t sum = read_all(static_cast<const std::uint64_t*>(memory), bytes / sizeof(std::uint64_t));
      asm volatile("" : : "r"(sum));
      began[k] = static_cast<double>(start) * 1e-9;
      ended[k] = static_cast<double>(now_ns()) * 1e-9;
    }
    meeting.meet(2);
    if (k < 2 && count > 1) moved[k] = moves_s(ball, static_cast<int>(k));
    if (memory != MAP_FAILED) ::munmap(memory, bytes);
  };
  std::vector<std::thread> threads;
  try {
    threads.reserve(count);
    for (std::size_t k = 0; k < count; ++k) threads.emplace_back(work, k);
  } catch (const std::system_error&) {
    meeting.call_off();
  }
  for (std::thread& thread : threads) thread.join();
  if (threads.size() < count) return {};
  TogetherTimes times;
  times.arithmetic_s = middle(computed);
  const double took_s = *std::max_element(ended.begin(), ended.end()) - *std::min_element(began.begin(), began.end());
  if (!no_memory && took_s > 0) times.bytes_per_s = static_cast<double>(count * bytes) / took_s;
  if (count > 1) times.line_move_s = std::max(moved[0], moved[1]);
  return times;
}

}  // namespace antcrew::machine_layer
