#include "antcrew/log/lane_book.hpp"

#include <pthread.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <ctime>
#include <thread>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/forks.hpp"
#include "antcrew/machine/run_delay.hpp"

namespace antcrew::internal {

LaneBook* LaneBook::create(int workers, int most, bool keeps) {
  const int lanes = std::max(workers, most);
  const std::size_t lane_bytes = sizeof(Lane) * static_cast<std::size_t>(lanes + 1);
  const std::size_t entry_bytes = keeps ? sizeof(Stretch) * most_entries * static_cast<std::size_t>(lanes + 1) : 0;
  const std::size_t bytes = sizeof(LaneBook) + line_bytes + lane_bytes + entry_bytes;
  void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (memory == MAP_FAILED) {
    could_not_run("log.memory", "log of what workers do", "no memory for it",
                  "free some memory or use --instrument none");
  }
  // Zero is what all of it begins with; constructing would touch it.
  auto* book = static_cast<LaneBook*>(memory);
  book->bytes_ = bytes;
  book->lane_count_ = lanes;
  book->workers_ = workers;
  book->keeps_ = keeps;
  auto at = reinterpret_cast<std::uintptr_t>(memory) + sizeof(LaneBook);
  at = (at + line_bytes - 1) / line_bytes * line_bytes;
  book->lanes_ = reinterpret_cast<Lane*>(at);
  book->entries_ = reinterpret_cast<Stretch*>(at + lane_bytes);
  newest_lanes.store(book, std::memory_order_relaxed);
  // A child of the user's own is in nobody's lane; a crew's worker is told which one is its.
  [[maybe_unused]] static const int once = ::pthread_atfork(nullptr, nullptr, [] {
    current_lane = nullptr;
    open_lanes.store(nullptr, std::memory_order_relaxed);
  });
  return book;
}

// A worker that is in its lane even then, in work that nobody waits for, may write on: the memory is left to it.
bool LaneBook::left_by_all() noexcept {
  constexpr std::int64_t patience_ns = 20'000'000;
  const std::int64_t start = now_ns();
  for (int k = 0; k <= lane_count_; ++k) {
    Lane& lane = lanes_[k];
    for (std::uint32_t holder = 0; (holder = lane.holder_.load(std::memory_order_acquire)) != 0;) {
      const bool gone = ::kill(static_cast<pid_t>(holder), 0) != 0 && errno == ESRCH;
      if (gone) lane.holder_.store(0, std::memory_order_relaxed);
      if (!gone && now_ns() - start > patience_ns) return false;
      std::this_thread::yield();
    }
  }
  return true;
}

void LaneBook::destroy(LaneBook* book) noexcept {
  if (book == nullptr) return;
  LaneBook* newest = book;
  newest_lanes.compare_exchange_strong(newest, nullptr, std::memory_order_relaxed);
  if (book->left_by_all()) ::munmap(static_cast<void*>(book), book->bytes_);
}

namespace {

// Of a thread of this process that may have ended.
std::int64_t cpu_of_thread(std::uint32_t thread) noexcept {
  timespec time{};
  const auto clock = static_cast<clockid_t>((~thread << 3) | 6u);
  if (thread == 0 || ::clock_gettime(clock, &time) != 0) return -1;
  return static_cast<std::int64_t>(time.tv_sec) * 1'000'000'000 + time.tv_nsec;
}

}  // namespace

void LaneBook::open() noexcept {
  unused_ = !left_by_all();
  if (unused_) {  // work of an earlier call that nobody waited for
    begin_ns_ = now_ns();
    return;
  }
  regions_used_.store(0, std::memory_order_relaxed);
  region_now_.store(0, std::memory_order_relaxed);
  calls_outside_.store(0, std::memory_order_relaxed);
  stages_used_.store(0, std::memory_order_relaxed);
  parent_cpu_ns_ = 0;
  path_ns_.store(0, std::memory_order_relaxed);
  for (LockEntry& lock : locks_) {
    lock.address.store(nullptr, std::memory_order_relaxed);
    lock.holds = lock.timed_holds = 0;
    lock.timed_ns = lock.timed_cpu_ns = lock.last_ns = 0;
    lock.noted.store(false, std::memory_order_relaxed);
    for (const void*& caller : lock.callers) caller = nullptr;
    lock.waits.store(0, std::memory_order_relaxed);
    lock.waited_ns.store(0, std::memory_order_relaxed);
  }
  const std::int64_t now = now_ns();
  for (int k = 0; k <= lane_count_; ++k) {
    Frame base;
    if (k == 0) base.doing = Doing::serial;
    lanes_[k].begin(now, base, entries_ + static_cast<std::size_t>(k) * most_entries, most_entries);
    lanes_[k].adds_up_ = !keeps_;
    lanes_[k].thread_before_ = lanes_[k].thread_;
    lanes_[k].cpu_before_ns_ = cpu_of_thread(lanes_[k].thread_);
    lanes_[k].delay_before_ns_ = lanes_[k].cpu_before_ns_ < 0 ? -1 : run_delay_ns(lanes_[k].thread_);
  }
  lanes_[0].holder_.store(kernel_thread(), std::memory_order_relaxed);
  lanes_[0].thread_ = lanes_[0].thread_before_ = kernel_thread();
  current_lane = &lanes_[0];
  cpu_at_begin_ns_ = lanes_[0].cpu_before_ns_ = thread_cpu_ns();
  delay_at_begin_ns_ = run_delay_ns();
  open_lanes.store(this, std::memory_order_release);
  begin_ns_ = now_ns();
  for (int k = 0; k <= lane_count_; ++k) lanes_[k].last_ns_ = begin_ns_;
  lanes_[0].cpu_read_at_ns_ = lanes_[0].delay_read_at_ns_ = begin_ns_;
  lanes_[0].cpu_read_ns_ = cpu_at_begin_ns_;
  lanes_[0].switches_ = own_switches();
}

void LaneBook::close() noexcept {
  end_ns_ = now_ns();
  if (unused_) return;
  open_lanes.store(nullptr, std::memory_order_release);
  current_lane = nullptr;
  Lane& mine = lanes_[0];
  if (mine.holder_.load(std::memory_order_relaxed) != kernel_thread()) return;  // lost in a fork, or by an exception
  mine.write(end_ns_, {}, 0);
  if (keeps_ && mine.used_ > 0) {
    Stretch& last = mine.entries_[mine.used_ - 1];
    last.cpu_ns = thread_cpu_ns();
    last.delay_ns = run_delay_ns();
  }
  mine.leave();
}

std::uint32_t LaneBook::begin_region(const LaneRegion& region) noexcept {
  if (!keeps_) return 1;
  const std::uint32_t slot = regions_used_.fetch_add(1, std::memory_order_relaxed);
  if (slot < most_regions) regions_[slot] = region;
  return slot + 1;
}

std::uint32_t LaneBook::begin_outer_region(LaneRegion region) noexcept {
  Lane* lane = current_lane;
  if (lane != lanes_ || lane->depth() != 1) {  // another thread's, or one crew inside another's body
    call_outside();
    return 0;
  }
  const CallPlace place = current_place;
  region.file = place.file;
  region.line = place.line;
  region.phase = lane->at().phase;
  lane->border(now_ns());
  region.begin_ns = lane->last_ns_;
  const std::uint32_t number = begin_region(region);
  if (!keeps_) regions_[0] = region;
  region_now_.store(number, std::memory_order_release);
  return number;
}

void LaneBook::end_outer_region(std::uint32_t number) noexcept {
  lanes_[0].border(now_ns());
  if (number <= most_regions) regions_[number - 1].end_ns = lanes_[0].last_ns_;
  if (!keeps_) {
    calls_.add(1);
    calls_ns_.add(regions_[0].end_ns - regions_[0].begin_ns);
  }
  region_now_.store(0, std::memory_order_relaxed);
}

void LaneBook::region_grows(std::uint32_t number) noexcept {
  // Several workers may find it at once; relaxed, as each leaves its lane (release) before the book is read.
  if (number == 0 || number > most_regions) return;
  const std::atomic_ref<bool> grows(regions_[number - 1].grows);
  if (!grows.load(std::memory_order_relaxed)) grows.store(true, std::memory_order_relaxed);
}

void LaneBook::region_has_stages(std::uint32_t number) noexcept {
  if (number == 0 || number > most_regions) return;
  std::atomic_ref<Sharing>(regions_[number - 1].sharing).store(Sharing::stages, std::memory_order_relaxed);
}

LaneBook::LockEntry* LaneBook::entry_of(const void* lock, const char* name) noexcept {
  for (LockEntry& entry : locks_) {
    const void* taken = entry.address.load(std::memory_order_acquire);
    if (taken == nullptr && entry.address.compare_exchange_strong(taken, lock, std::memory_order_acq_rel)) {
      entry.name = name;
      return &entry;
    }
    if (taken == lock) return &entry;
  }
  return nullptr;
}

void LaneBook::add_stage(const char* name, bool alone, std::int64_t busy_ns, std::uint64_t items) noexcept {
  if (!keeps_) return;
  const std::uint32_t slot = stages_used_.fetch_add(1, std::memory_order_relaxed);
  if (slot >= most_stages) return;
  StageEntry& stage = stages_[slot];
  std::strncpy(stage.name, name, sizeof stage.name - 1);
  stage.alone = alone;
  stage.busy_ns = busy_ns;
  stage.items = items;
}

const char* LaneBook::keep_name(const char* text) noexcept {
  const std::uint32_t used = std::min<std::uint32_t>(names_used_.load(std::memory_order_acquire), most_names);
  for (std::uint32_t k = 0; k < used; ++k) {
    if (std::strncmp(names_[k], text, sizeof names_[k] - 1) == 0) return names_[k];
  }
  const std::uint32_t slot = names_used_.fetch_add(1, std::memory_order_acq_rel);
  if (slot >= most_names) return "others";
  std::strncpy(names_[slot], text, sizeof names_[slot] - 1);
  return names_[slot];
}

namespace {

std::vector<Stretch> taken_from(const Stretch* entries, std::uint32_t used) {
  return {entries, entries + used};
}

}  // namespace

LaneLog LaneBook::log() {
  LaneLog log;
  log.begin_ns = begin_ns_;
  log.end_ns = end_ns_;
  log.cpu_at_begin_ns = cpu_at_begin_ns_;
  log.delay_at_begin_ns = delay_at_begin_ns_;
  log.parent_cpu_ns = parent_cpu_ns_;
  log.path_ns = path_ns_.load(std::memory_order_relaxed);
  log.calls_outside = calls_outside_.load(std::memory_order_relaxed);
  if (unused_ || !left_by_all()) {
    log.unfinished = true;
    log.lanes.resize(static_cast<std::size_t>(workers_));
    return log;
  }
  for (int k = 0; k <= lane_count_; ++k) {
    Lane& lane = lanes_[k];
    std::vector<Stretch> stretches = taken_from(lane.entries_, lane.used_);
    if (k == lane_count_) {
      log.parent = std::move(stretches);
    } else {
      log.lanes.push_back(std::move(stretches));
      const bool same = lane.thread_ == lane.thread_before_ && lane.cpu_before_ns_ >= 0;
      const std::int64_t cpu_ns = same ? cpu_of_thread(lane.thread_) : -1;
      log.kernel_cpu_ns.push_back(cpu_ns < 0 ? -1 : cpu_ns - lane.cpu_before_ns_);
      log.cpu_before_ns.push_back(same ? lane.cpu_before_ns_ : -1);
      log.delay_before_ns.push_back(same ? lane.delay_before_ns_ : -1);
    }
    log.events += lane.events_;
    log.cpu_readings += lane.cpu_readings_;
    log.delay_readings += lane.delay_readings_;
    log.lost += lane.lost_;
    log.forks += lane.forks_;
    log.forks_told += lane.forks_told_;
  }
  const std::uint32_t regions = regions_used_.load(std::memory_order_relaxed);
  log.regions.assign(regions_, regions_ + std::min(regions, most_regions));
  log.lost += regions > most_regions ? regions - most_regions : 0;
  std::size_t used = static_cast<std::size_t>(workers_);
  for (const LaneRegion& region : log.regions) used = std::max<std::size_t>(used, region.workers);
  used = std::min(used, log.lanes.size());
  log.lanes.resize(used);
  log.kernel_cpu_ns.resize(used);
  log.cpu_before_ns.resize(used);
  log.delay_before_ns.resize(used);
  for (const LockEntry& lock : locks_) {
    if (lock.address.load(std::memory_order_acquire) == nullptr || lock.holds + lock.waits.load() == 0) continue;
    LaneLock& kept = log.locks.emplace_back();
    kept.address = lock.address.load();
    kept.name = lock.name;
    kept.holds = lock.holds;
    kept.timed_holds = lock.timed_holds;
    kept.timed_ns = lock.timed_ns;
    kept.timed_cpu_ns = lock.timed_cpu_ns;
    kept.waits = lock.waits.load();
    kept.waited_ns = lock.waited_ns.load();
    for (const void* caller : lock.callers) {
      if (caller != nullptr) kept.callers.push_back(caller);
    }
  }
  for (std::uint32_t k = 0; k < std::min<std::uint32_t>(stages_used_.load(), most_stages); ++k)
    log.stages.push_back({stages_[k].name, stages_[k].alone, stages_[k].busy_ns, stages_[k].items});
  return log;
}

}  // namespace antcrew::internal
