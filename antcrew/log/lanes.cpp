#include "antcrew/log/lanes.hpp"

#include <pthread.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstring>
#include <ctime>
#include <thread>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/run_delay.hpp"

namespace antcrew::internal {

namespace {

std::int64_t own_switches() noexcept {
  rusage used{};
  return ::getrusage(RUSAGE_THREAD, &used) == 0 ? used.ru_nvcsw : 0;
}

}  // namespace

// Lanes

bool Lane::take() noexcept {
  std::uint32_t nobody = 0;
  const std::uint32_t me = kernel_thread();
  if (!holder_.compare_exchange_strong(nobody, me, std::memory_order_acquire, std::memory_order_relaxed)) return false;
  const bool other = thread_ != me;
  thread_ = me;
  if (other) switches_ = -1;
  if (other) cpu_read_at_ns_ = delay_read_at_ns_ = last_ns_ - between_delays_ns;  // its clocks are others
  const std::int64_t called_ns = called_ns_.exchange(0, std::memory_order_relaxed);
  write(now_ns(), {}, called_ns);
  return true;
}

void Lane::take_back(int depth) noexcept {
  holder_.store(0, std::memory_order_relaxed);
  depth_ = depth;
  take();
}

void Lane::leave() noexcept {
  holder_.store(0, std::memory_order_release);
}

void Lane::pieces_ended(std::int64_t now, std::uint64_t first, std::uint64_t items, std::uint32_t pieces) noexcept {
  write(now, {first, items, pieces}, 0);
}

void Lane::read_clocks(std::int64_t now, Stretch& into, bool always) noexcept {
  if (always || now - cpu_read_at_ns_ >= between_cpu_ns) {
    into.cpu_ns = thread_cpu_ns();
    // A thread that was taken off its processor, by the kernel or from outside of it, did not wait for anything.
    constexpr std::int64_t noticed_ns = 50'000;
    if ((now - cpu_read_at_ns_) - (into.cpu_ns - cpu_read_ns_) > noticed_ns || switches_ < 0) {
      const std::int64_t switches = own_switches();
      if (switches_ >= 0) into.slept = switches == switches_ ? Stretch::Slept::no : Stretch::Slept::yes;
      switches_ = switches;
    }
    cpu_read_at_ns_ = now;
    cpu_read_ns_ = into.cpu_ns;
    ++cpu_readings_;
  }
  if (always || now - delay_read_at_ns_ >= between_delays_ns) {
    into.delay_ns = run_delay_ns();
    delay_read_at_ns_ = now;
    ++delay_readings_;
  }
}

// Where room gets short, neighbours of the same kind are written as one.
void Lane::write(std::int64_t now, const Piece& piece, std::int64_t called_ns) noexcept {
  const Frame& frame = top();
  ++events_;
  if (frame.doing == Doing::waiting && called_ns_.load(std::memory_order_relaxed) != 0)
    called_ns = called_ns_.exchange(0, std::memory_order_relaxed);
  Stretch* last = used_ > 0 ? &entries_[used_ - 1] : nullptr;
  const std::int64_t began_ns = last_ns_;
  last_ns_ = now;
  if (last != nullptr && now - began_ns < merge_ns_ && last->doing == frame.doing && last->region == frame.region &&
      last->phase == frame.phase && last->about == frame.about && last->thread == thread_) {
    last->end_ns = now;
    last->items += piece.items;
    last->pieces += piece.count;
    last->cpu_ns = last->delay_ns = -1;
    last->slept = Stretch::Slept::not_asked;
    return read_clocks(now, *last, false);
  }
  if (used_ == room_) {
    ++lost_;
    return;
  }
  if (used_ > room_ / 2 && (used_ & (room_ / 16 - 1)) == 0) merge_ns_ = std::max<std::int64_t>(merge_ns_ * 4, 10'000);
  Stretch& next = entries_[used_++];
  next = Stretch{};
  next.end_ns = now;
  next.called_ns = called_ns;
  next.about = frame.about;
  next.phase = frame.phase;
  next.first = piece.first;
  next.items = piece.items;
  next.pieces = piece.count;
  next.region = frame.region;
  next.thread = thread_;
  next.doing = frame.doing;
  next.shortage = frame.shortage;
  next.stolen = piece.count > 0 && std::exchange(stolen_, false);
  read_clocks(now, next, false);
}

void Lane::begin(std::int64_t now, const Frame& base, Stretch* entries, std::uint32_t room) noexcept {
  used_ = 0;
  room_ = room;
  entries_ = entries;
  depth_ = 1;
  stolen_ = false;
  last_ns_ = now;
  cpu_read_at_ns_ = delay_read_at_ns_ = now - between_delays_ns;
  cpu_read_ns_ = 0;
  switches_ = -1;
  merge_ns_ = 0;
  cpu_readings_ = delay_readings_ = events_ = lost_ = 0;
  frames_[0] = base;
  called_ns_.store(0, std::memory_order_relaxed);
}

// The book

LaneBook* LaneBook::create(int workers, int most) {
  const int lanes = std::max(workers, most);
  const std::size_t lane_bytes = sizeof(Lane) * static_cast<std::size_t>(lanes + 1);
  const std::size_t entry_bytes = sizeof(Stretch) * most_entries * static_cast<std::size_t>(lanes + 1);
  const std::size_t bytes = sizeof(LaneBook) + line_bytes + lane_bytes + entry_bytes;
  void* memory = ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  if (memory == MAP_FAILED) {
    could_not_run("log.memory", "log of what workers do", "no memory for it", "free some memory or use --meter none");
  }
  // Zero is what all of it begins with; constructing would touch it.
  auto* book = static_cast<LaneBook*>(memory);
  book->bytes_ = bytes;
  book->lane_count_ = lanes;
  book->workers_ = workers;
  auto at = reinterpret_cast<std::uintptr_t>(memory) + sizeof(LaneBook);
  at = (at + line_bytes - 1) / line_bytes * line_bytes;
  book->lanes_ = reinterpret_cast<Lane*>(at);
  book->entries_ = reinterpret_cast<Stretch*>(at + lane_bytes);
  newest_lanes.store(book, std::memory_order_relaxed);
  // A child of the user's own is in nobody's lane; a crew's worker is told which one is its.
  [[maybe_unused]] static const int once = ::pthread_atfork(nullptr, nullptr, [] {
    lane_here = nullptr;
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
  for (LockEntry& lock : locks_) {
    lock.address.store(nullptr, std::memory_order_relaxed);
    lock.holds = lock.timed_holds = 0;
    lock.timed_ns = lock.last_ns = 0;
  }
  const std::int64_t now = now_ns();
  for (int k = 0; k <= lane_count_; ++k) {
    Frame base;
    if (k == 0) base.doing = Doing::serial;
    lanes_[k].begin(now, base, entries_ + static_cast<std::size_t>(k) * most_entries, most_entries);
    lanes_[k].thread_before_ = lanes_[k].thread_;
    lanes_[k].cpu_before_ns_ = cpu_of_thread(lanes_[k].thread_);
    lanes_[k].delay_before_ns_ = lanes_[k].cpu_before_ns_ < 0 ? -1 : run_delay_ns(lanes_[k].thread_);
  }
  lanes_[0].holder_.store(kernel_thread(), std::memory_order_relaxed);
  lanes_[0].thread_ = lanes_[0].thread_before_ = kernel_thread();
  lane_here = &lanes_[0];
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
  lane_here = nullptr;
  Lane& mine = lanes_[0];
  if (mine.holder_.load(std::memory_order_relaxed) != kernel_thread()) return;  // lost in a fork, or by an exception
  mine.write(end_ns_, {}, 0);
  if (mine.used_ > 0) {
    Stretch& last = mine.entries_[mine.used_ - 1];
    last.cpu_ns = thread_cpu_ns();
    last.delay_ns = run_delay_ns();
  }
  mine.leave();
}

std::uint32_t LaneBook::begin_region(const LaneRegion& region) noexcept {
  const std::uint32_t slot = regions_used_.fetch_add(1, std::memory_order_relaxed);
  if (slot < most_regions) regions_[slot] = region;
  return slot + 1;
}

std::uint32_t LaneBook::begin_outer_region(LaneRegion region) noexcept {
  Lane* lane = lane_here;
  if (lane != lanes_ || lane->depth() != 1) {  // another thread's, or one crew inside another's body
    call_outside();
    return 0;
  }
  const CallPlace place = place_here;
  region.file = place.file;
  region.line = place.line;
  region.phase = lane->at().phase;
  lane->border(now_ns());
  region.begin_ns = lane->last_ns_;
  const std::uint32_t number = begin_region(region);
  region_now_.store(number, std::memory_order_release);
  return number;
}

void LaneBook::end_outer_region(std::uint32_t number) noexcept {
  lanes_[0].border(now_ns());
  if (number <= most_regions) regions_[number - 1].end_ns = lanes_[0].last_ns_;
  region_now_.store(0, std::memory_order_relaxed);
}

void OuterRegion::begin(LaneBook& book, std::uint64_t n, Sharing sharing, int workers, const char* crew,
                        bool forks) noexcept {
  LaneRegion region;
  region.n = n;
  region.workers = static_cast<std::uint32_t>(workers);
  region.sharing = sharing;
  region.grows = forks;
  region.crew = crew;
  number_ = book.begin_outer_region(region);
  if (number_ == 0) return;
  book_ = &book;
  lane_here->enter({Doing::waiting, Shortage::none, number_, nullptr, nullptr});
}

LaneHandOver::LaneHandOver(const OuterRegion& region) noexcept : book_(region.book()) {
  if (book_ == nullptr) return;
  Lane& mine = *lane_here;
  mine.push({Doing::away, Shortage::none, region.number(), nullptr, nullptr});
  depth_ = mine.depth();
  mine.leave();
  lane_here = book_->parent().take() ? &book_->parent() : nullptr;
  cpu_ns_ = thread_cpu_ns();
}

LaneHandOver::~LaneHandOver() {
  if (book_ == nullptr) return;
  if (lane_here != nullptr) {
    lane_here->border(now_ns());
    lane_here->leave();
  }
  book_->add_parent_cpu(thread_cpu_ns() - cpu_ns_);
  lane_here = &book_->lane(0);
  lane_here->take_back(depth_);
  lane_here->pop();
}

void OuterRegion::end() noexcept {
  lane_here->pop();
  book_->end_outer_region(number_);
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

void LockLog::Holding::begin(LockLog& log, const void* lock, const char* name) noexcept {
  LaneBook* book = open_lanes.load(std::memory_order_relaxed);
  if (book == nullptr) return;
  LaneBook::LockEntry* entry = log.entry_;
  const bool known = entry != nullptr && book->owns(entry) && entry->address.load(std::memory_order_relaxed) == lock;
  if (!known) entry = log.entry_ = book->entry_of(lock, name);
  if (entry == nullptr) return;
  const std::uint64_t number = entry->holds++;
  if (number >= 64 && number % 16 != 0 && entry->last_ns < 1000) return;
  entry_ = entry;
  start_ns_ = now_ns();
}

void LockLog::Holding::end() noexcept {
  const std::int64_t ns = now_ns() - start_ns_;
  ++entry_->timed_holds;
  entry_->timed_ns += ns;
  entry_->last_ns = ns;
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
    if (lock.address.load(std::memory_order_acquire) != nullptr && lock.holds > 0)
      log.locks.push_back({lock.address.load(), lock.name, lock.holds, lock.timed_holds, lock.timed_ns});
  }
  for (std::uint32_t k = 0; k < std::min<std::uint32_t>(stages_used_.load(), most_stages); ++k)
    log.stages.push_back({stages_[k].name, stages_[k].alone, stages_[k].busy_ns, stages_[k].items});
  return log;
}

double metering_of(const LaneLog& log) {
  const LogCosts& costs = log_costs();
  return static_cast<double>(log.events) * costs.event_s + static_cast<double>(log.cpu_readings) * costs.cpu_reading_s +
         static_cast<double>(log.delay_readings) * costs.delay_reading_s;
}

const LogCosts& log_costs() {
  static const LogCosts costs = [] {
    constexpr int times = 2000;
    LogCosts measured;
    LaneBook* book = LaneBook::create(1);
    book->open();
    Lane& lane = book->lane(0);
    for (int k = 0; k < times; ++k) lane.border(now_ns());
    std::int64_t start = now_ns();
    for (int k = 0; k < times; ++k) lane.border(now_ns());
    const double borders_s = seconds_since(start);
    start = now_ns();
    for (int k = 0; k < times; ++k) thread_cpu_ns();
    measured.cpu_reading_s = seconds_since(start) / times;
    start = now_ns();
    for (int k = 0; k < times / 20; ++k) run_delay_ns();
    measured.delay_reading_s = seconds_since(start) / (times / 20);
    book->close();
    LaneBook* before = newest_lanes.load(std::memory_order_relaxed);
    LaneBook::destroy(book);
    if (before != book) newest_lanes.store(before, std::memory_order_relaxed);
    measured.event_s = borders_s / times;
    return measured;
  }();
  return costs;
}

}  // namespace antcrew::internal
