#include "antcrew/machine/processors.hpp"

#if defined(__x86_64__)
#include <cpuid.h>
#endif
#include <fcntl.h>
#include <sched.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <charconv>
#include <limits>
#include <new>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {
namespace {

constinit thread_local const ProcessorSet* without_pins = nullptr;
// What the kernel made of all processors when this thread was given them while some were not there: it leaves these
// out, also when they come back. 0: it is not so.
constinit thread_local std::uint64_t left_of_all = 0;

std::uint64_t mark_of(const ProcessorSet& set) noexcept {
  std::uint64_t mark = 0;
  for (const std::uint64_t bits : set.words) mark = (mark ^ bits) * 0x9E3779B97F4A7C15ull;
  return mark | 1;
}

// The kernel's lists: "0-3,8-11". Empty when it does not tell.
ProcessorSet listed(const char* path) noexcept {
  ProcessorSet set;
  const int file = ::open(path, O_RDONLY | O_CLOEXEC);
  if (file < 0) return set;
  std::array<char, 4096> text;
  const auto bytes = ::read(file, text.data(), text.size());
  ::close(file);
  const char* const end = text.data() + (bytes > 0 ? bytes : 0);
  for (const char* at = text.data(); at < end;) {
    int first = 0;
    auto read = std::from_chars(at, end, first);
    if (read.ec != std::errc()) break;
    int last = first;
    if (read.ptr < end && *read.ptr == '-') read = std::from_chars(read.ptr + 1, end, last);
    for (int processor = first; processor <= last && processor < ProcessorSet::most; ++processor) set.add(processor);
    at = read.ptr + 1;
  }
  return set;
}

ProcessorSet online() noexcept {
  return listed("/sys/devices/system/cpu/online");
}

// How many are online; asked for often, so that it may be a twentieth of a second old.
int online_count() noexcept {
  constexpr std::int64_t long_ago = std::numeric_limits<std::int64_t>::min() / 2;
  constexpr std::int64_t young_ns = 50'000'000;
  static constinit std::atomic<std::int64_t> asked_ns{long_ago};
  static constinit std::atomic<int> count{0};
  const std::int64_t now = now_ns();
  if (now - asked_ns.load(std::memory_order_acquire) > young_ns) {
    count.store(online().count(), std::memory_order_relaxed);
    asked_ns.store(now, std::memory_order_release);
  }
  return count.load(std::memory_order_relaxed);
}

}  // namespace

// The system calls themselves: the library's types end at 1,024 processors.
bool read_processors(int thread, ProcessorSet& set) noexcept {
  ProcessorSet seen;
  if (::syscall(SYS_sched_getaffinity, thread, sizeof seen.words, seen.words.data()) <= 0) return false;
  set = seen;
  return true;
}

bool keep_on(int thread, const ProcessorSet& set) noexcept {
  return ::syscall(SYS_sched_setaffinity, thread, sizeof set.words, set.words.data()) == 0;
}

namespace {

int possible_count() noexcept {
  static const int possible = listed("/sys/devices/system/cpu/possible").count();
  return possible;
}

bool give_all() noexcept {
  ProcessorSet all;
  all.words.fill(~std::uint64_t{0});
  if (!keep_on(0, all)) return false;
  ProcessorSet left;
  left_of_all = online_count() < possible_count() && read_processors(0, left) ? mark_of(left) : 0;
  return true;
}

}  // namespace

bool has_all_online(const ProcessorSet& set) noexcept {
  const int count = set.count();
  const int there = count < possible_count() ? online_count() : possible_count();
  return there > 0 && count >= there;  // 0: the system does not tell, as in a sandbox
}

bool give_back(const ProcessorSet& set, bool had_all) noexcept {
  return (had_all && give_all()) || keep_on(0, set);
}

bool still(const ProcessorSet& given, const ProcessorSet& now) noexcept {
  if (now == given) return true;
  const ProcessorSet there = online();
  ProcessorSet left = given;
  for (std::size_t k = 0; k < left.words.size(); ++k) left.words[k] &= there.words[k];
  return left == now;
}

int current_processor() noexcept {
  return ::sched_getcpu();
}

bool in_virtual_machine() noexcept {
#if defined(__x86_64__)
  static const bool told = [] {
    unsigned a = 0, b = 0, c = 0, d = 0;
    return __get_cpuid(1, &a, &b, &c, &d) == 0 || (c >> 31 & 1) != 0;
  }();
  return told;
#else
  return true;
#endif
}

ProcessorSet own_processors() noexcept {
  if (without_pins != nullptr) return *without_pins;
  ProcessorSet set;
  read_processors(0, set);
  if (left_of_all != 0 && set.count() < online_count() && mark_of(set) == left_of_all && give_all())
    read_processors(0, set);
  return set;
}

void remember_own_processors(const ProcessorSet* set) noexcept {
  without_pins = set;
}

void PinnedHere::pin(int processor) noexcept {
  ::new (static_cast<void*>(&before_)) ProcessorSet;
  if (!read_processors(0, before_)) return;
  ProcessorSet one;
  one.add(processor);
  had_all_ = has_all_online(before_);
  if (!keep_on(0, one)) return;
  pinned_ = true;
  processor_ = processor;
  outermost_ = without_pins == nullptr;
  if (outermost_) without_pins = &before_;
}

void PinnedHere::let_go() noexcept {
  if (outermost_) without_pins = nullptr;
  ProcessorSet one;
  one.add(processor_);
  ProcessorSet now;
  if (read_processors(0, now) && now == one) give_back(before_, had_all_);
}

}  // namespace antcrew::internal
