#include "antcrew/log/journal.hpp"

#include <sys/mman.h>

#include <algorithm>
#include <cstring>
#include <new>
#include <utility>
#include <vector>

#include "antcrew/base/error.hpp"

namespace antcrew::internal {

Journal* Journal::create() {
  void* memory =
      ::mmap(nullptr, sizeof(Journal), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (memory == MAP_FAILED) {
    could_not_run("log.memory", "journal of phases", "no memory for it", "free some memory or try smaller sizes");
  }
  // The pages are zero, which is what the members begin with; constructing would touch them all.
  auto* journal = static_cast<Journal*>(memory);
  newest_journal.store(journal, std::memory_order_relaxed);
  return journal;
}

void Journal::destroy(Journal* journal) noexcept {
  if (journal == nullptr) return;
  Journal* newest = journal;
  newest_journal.compare_exchange_strong(newest, nullptr, std::memory_order_relaxed);
  ::munmap(static_cast<void*>(journal), sizeof(Journal));
}

// Equal names from different files may be different pointers: text decides.
void Journal::count(const char* name, std::uint64_t k, bool work) noexcept {
  for (Counter& counter : counters_) {
    const char* taken = counter.name.load(std::memory_order_relaxed);
    if (taken == nullptr && counter.name.compare_exchange_strong(taken, name, std::memory_order_relaxed)) {
      taken = name;
      // Read once the call is over.
      counter.quantity.store(!work, std::memory_order_relaxed);
    }
    if (taken == name || std::strcmp(taken, name) == 0) {
      counter.sum.fetch_add(k, std::memory_order_relaxed);
      return;
    }
  }
  unnamed_.fetch_add(k, std::memory_order_relaxed);
}

void Journal::clear() noexcept {
  unnamed_.store(0, std::memory_order_relaxed);
  used_.store(0, std::memory_order_relaxed);
  for (Counter& counter : counters_) {
    counter.name.store(nullptr, std::memory_order_relaxed);
    counter.quantity.store(false, std::memory_order_relaxed);
    counter.sum.store(0, std::memory_order_relaxed);
  }
}

namespace {

struct PhaseStretch {
  std::uint32_t thread;
  std::int64_t start_ns;
  std::int64_t end_ns;
};

// Stretches of one thread that lie in each other, as in a recursion, are one worker in the phase.
std::vector<PhaseStretch> joined_by_thread(std::vector<PhaseStretch> all) {
  std::sort(all.begin(), all.end(), [](const PhaseStretch& a, const PhaseStretch& b) {
    return a.thread != b.thread ? a.thread < b.thread : a.start_ns < b.start_ns;
  });
  std::vector<PhaseStretch> joined;
  for (const PhaseStretch& one : all) {
    const bool goes_on = !joined.empty() && joined.back().thread == one.thread && one.start_ns <= joined.back().end_ns;
    if (goes_on) {
      joined.back().end_ns = std::max(joined.back().end_ns, one.end_ns);
    } else {
      joined.push_back(one);
    }
  }
  return joined;
}

void lay_out(LoggedPhase& phase, std::vector<PhaseStretch> stretches) {
  std::vector<std::pair<std::int64_t, int>> borders;  // ends before begins of the same moment
  for (const PhaseStretch& one : joined_by_thread(std::move(stretches))) {
    borders.emplace_back(one.start_ns, 1);
    borders.emplace_back(one.end_ns, -1);
  }
  std::sort(borders.begin(), borders.end());
  std::int64_t since = 0;
  std::int64_t covered_ns = 0;
  int inside = 0;
  for (const auto& [at, change] : borders) {
    if (inside > 0) covered_ns += at - since;
    since = at;
    inside += change;
    phase.at_once = std::max(phase.at_once, inside);
  }
  phase.wall_s = static_cast<double>(covered_ns) * 1e-9;
}

}  // namespace

std::map<std::string, LoggedPhase> Journal::phases() const {
  std::map<std::string, LoggedPhase> sums;
  std::map<std::string, std::vector<PhaseStretch>> stretches;
  const std::uint32_t used = std::min(used_.load(std::memory_order_acquire), capacity);
  for (std::uint32_t slot = 0; slot < used; ++slot) {
    const Entry& entry = entries_[slot];
    if (entry.name == nullptr) continue;  // taken by a worker that was killed before it wrote
    LoggedPhase& sum = sums[entry.name];
    sum.seconds += static_cast<double>(entry.end_ns - entry.start_ns) * 1e-9;
    ++sum.count;
    stretches[entry.name].push_back({entry.thread, entry.start_ns, entry.end_ns});
  }
  for (auto& [name, sum] : sums) lay_out(sum, std::move(stretches[name]));
  return sums;
}

std::map<std::string, double> Journal::sums(bool work) const {
  std::map<std::string, double> sums;
  for (const Counter& counter : counters_) {
    const char* name = counter.name.load(std::memory_order_acquire);
    if (name != nullptr && counter.quantity.load(std::memory_order_relaxed) != work)
      sums[name] += static_cast<double>(counter.sum.load(std::memory_order_relaxed));
  }
  const std::uint64_t unnamed = unnamed_.load(std::memory_order_relaxed);
  if (unnamed > 0 && !work) sums["under further names"] = static_cast<double>(unnamed);
  return sums;
}

std::int64_t Journal::lost() const noexcept {
  const std::uint32_t used = used_.load(std::memory_order_relaxed);
  return used > capacity ? used - capacity : 0;
}

}  // namespace antcrew::internal
