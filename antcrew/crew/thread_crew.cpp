#include "antcrew/crew/thread_crew.hpp"

#include <linux/futex.h>
#include <sched.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <climits>
#include <cstring>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew {
namespace internal {
namespace {

// How long a worker looks for the next region, and the caller for the last worker, before sleeping in the kernel. A
// wake-up costs 5 to 40 µs, so spinning longer than that loses more than it saves.
constexpr std::int64_t spin_ns = 25'000;

// The regions whose bodies the calling thread is in, innermost first.
struct Inside {
  const Team* team;
  const Inside* outer;
};
constinit thread_local const Inside* innermost = nullptr;

class Entered {
 public:
  explicit Entered(const Team* team) noexcept : here_{team, innermost} { innermost = &here_; }
  ~Entered() { innermost = here_.outer; }
  Entered(const Entered&) = delete;
  Entered& operator=(const Entered&) = delete;

 private:
  Inside here_;
};

void futex_wait(std::atomic<std::uint32_t>& word, std::uint32_t while_value) noexcept {
  static_assert(sizeof(word) == sizeof(std::uint32_t));
  syscall(SYS_futex, &word, FUTEX_WAIT_PRIVATE, while_value, nullptr, nullptr, 0);
}

void futex_wake_all(std::atomic<std::uint32_t>& word) noexcept {
  syscall(SYS_futex, &word, FUTEX_WAKE_PRIVATE, INT_MAX, nullptr, nullptr, 0);
}

void relax() noexcept {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#endif
}

// Looks at the word until it leaves (or, for `until`, reaches) what the test says, for spin_ns at most.
template <class Done>
bool spun(Done done) {
  for (int i = 0; i < 200; ++i) {
    if (done()) return true;
  }
  const std::int64_t end = now_ns() + spin_ns;
  do {
    for (int i = 0; i < 16; ++i) {
      if (done()) return true;
      relax();
    }
  } while (now_ns() < end);
  return false;
}

std::vector<int> current_mask() {
  cpu_set_t set;
  std::vector<int> mask;
  if (sched_getaffinity(0, sizeof set, &set) != 0) return mask;
  for (int cpu = 0; cpu < CPU_SETSIZE; ++cpu) {
    if (CPU_ISSET(cpu, &set)) mask.push_back(cpu);
  }
  return mask;
}

bool keep_on(pthread_t thread, const std::vector<int>& processors) {
  cpu_set_t set;
  CPU_ZERO(&set);
  for (const int cpu : processors) {
    if (cpu >= CPU_SETSIZE) return false;
    CPU_SET(cpu, &set);
  }
  return pthread_setaffinity_np(thread, sizeof set, &set) == 0;
}

struct Start {
  Team* team;
  int worker;
};

}  // namespace

Team::Team(int workers, const CrewOptions& options)
    : workers_(workers), may_spin_(workers <= usable_processors_now()), caller_(pthread_self()) {
  facts_.asked = options;
  start_threads();
  if (options.pin != Pin::off) pin_workers();
}

Team::~Team() {
  stop_threads();
  if (!caller_mask_.empty() && pthread_equal(caller_, pthread_self())) keep_on(caller_, caller_mask_);
}

void Team::start_threads() {
  pthread_attr_t attributes;
  pthread_attr_init(&attributes);
  if (facts_.asked.stack_bytes > 0) {
    const auto page = static_cast<std::size_t>(sysconf(_SC_PAGESIZE));
    const auto least = static_cast<std::size_t>(sysconf(_SC_THREAD_STACK_MIN));
    const std::size_t bytes = (std::max(facts_.asked.stack_bytes, least) + page - 1) / page * page;
    if (pthread_attr_setstacksize(&attributes, bytes) == 0) facts_.granted_stack_bytes = bytes;
  }
  try {
    threads_.reserve(static_cast<std::size_t>(workers_ - 1));
    for (int worker = 1; worker < workers_; ++worker) start_thread(worker, attributes);
  } catch (...) {
    pthread_attr_destroy(&attributes);
    stop_threads();
    throw;
  }
  pthread_attr_destroy(&attributes);
}

void Team::start_thread(int worker, const pthread_attr_t& attributes) {
  auto start = std::make_unique<Start>(Start{this, worker});
  pthread_t thread{};
  const int fault = pthread_create(&thread, &attributes, &Team::thread_main, start.get());
  if (fault != 0) {
    could_not_run("crew.start", "worker " + std::to_string(worker) + " of " + std::to_string(workers_),
                  std::string("the system refused to start a thread (") + std::strerror(fault) + ")",
                  "use fewer workers or smaller stacks, or raise the limit of processes (ulimit -u)");
  }
  static_cast<void>(start.release());
  threads_.push_back(thread);
}

void Team::stop_threads() noexcept {
  leaving_ = true;
  region_.fetch_add(1, std::memory_order_seq_cst);
  futex_wake_all(region_);
  for (const pthread_t thread : threads_) pthread_join(thread, nullptr);
  threads_.clear();
}

void Team::pin_workers() {
  const std::vector<int> order = processor_order(facts_.asked.pin == Pin::close ? Nearness::close : Nearness::spread);
  if (order.empty()) return;
  caller_mask_ = current_mask();
  for (int worker = 0; worker < workers_; ++worker) {
    const int cpu = order[static_cast<std::size_t>(worker) % order.size()];
    const pthread_t thread = worker == 0 ? caller_ : threads_[static_cast<std::size_t>(worker - 1)];
    facts_.asked_processors.push_back(cpu);
    facts_.granted_processors.push_back(keep_on(thread, {cpu}) ? cpu : -1);
  }
}

void* Team::thread_main(void* start) {
  const std::unique_ptr<Start> mine(static_cast<Start*>(start));
  mine->team->serve(mine->worker);
  return nullptr;
}

void Team::serve(int worker) {
  for (std::uint32_t seen = 0; wait_for_region(seen); ++seen) {
    perform(worker);
    arrive();
  }
}

// Returns false when the team is leaving. Regions do not overlap, so a worker meets every number once.
bool Team::wait_for_region(std::uint32_t seen) {
  // Acquire: pairs with the release of the caller's increment, so job_ and leaving_ are the new ones.
  const auto changed = [&] { return region_.load(std::memory_order_acquire) != seen; };
  if (!(may_spin_ && spun(changed))) {
    // Sequentially consistent with the caller's increment and its look at sleepers_: either the caller sees this
    // sleeper and wakes it, or this worker sees the new number and does not sleep.
    sleepers_.fetch_add(1, std::memory_order_seq_cst);
    while (region_.load(std::memory_order_seq_cst) == seen) futex_wait(region_, seen);
    sleepers_.fetch_sub(1, std::memory_order_relaxed);
  }
  return !leaving_;
}

void Team::perform(int worker) noexcept {
  const Entered entered(this);
  try {
    job_.call(job_.context, worker);
  } catch (...) {
    // Only the first to set the flag writes the error; the join's acquire publishes it to the caller.
    if (!cancelled_.exchange(true, std::memory_order_relaxed)) first_error_ = std::current_exception();
  }
}

void Team::arrive() noexcept {
  // Release what the body wrote; sequentially consistent with join() for the same reason as in wait_for_region().
  // target_ may be read before the increment only: afterwards the caller may already begin the next region.
  const std::uint32_t target = target_;
  const std::uint32_t ended = ended_.fetch_add(1, std::memory_order_seq_cst) + 1;
  if (ended == target && joiner_sleeps_.load(std::memory_order_seq_cst)) futex_wake_all(ended_);
}

void Team::join() noexcept {
  const auto all_ended = [&] { return ended_.load(std::memory_order_acquire) == target_; };
  if (may_spin_ ? spun(all_ended) : all_ended()) return;
  joiner_sleeps_.store(true, std::memory_order_seq_cst);
  for (std::uint32_t ended = 0; (ended = ended_.load(std::memory_order_seq_cst)) != target_;) futex_wait(ended_, ended);
  joiner_sleeps_.store(false, std::memory_order_relaxed);
}

bool Team::inside() const noexcept {
  for (const Inside* at = innermost; at != nullptr; at = at->outer) {
    if (at->team == this) return true;
  }
  return false;
}

void Team::run(const Job& job) {
  if (busy_.exchange(true, std::memory_order_acquire)) {
    could_not_run("crew.busy", "ThreadCrew", "another thread's region is under way on this crew",
                  "give each calling thread a crew of its own");
  }
  job_ = job;
  cancelled_.store(false, std::memory_order_relaxed);
  target_ += static_cast<std::uint32_t>(workers_ - 1);
  region_.fetch_add(1, std::memory_order_seq_cst);
  if (sleepers_.load(std::memory_order_seq_cst) > 0) futex_wake_all(region_);
  perform(0);
  join();
  const std::exception_ptr error = std::exchange(first_error_, nullptr);
  busy_.store(false, std::memory_order_release);
  if (error) std::rethrow_exception(error);
}

}  // namespace internal

ThreadCrew::ThreadCrew(int workers, const CrewOptions& options)
    : workers_(checked_workers(workers, "ThreadCrew")), facts_{options, {}, {}, 0} {
  if (workers_ == 1 && options.pin == Pin::off) return;
  team_ = std::make_unique<internal::Team>(workers_, options);
  facts_ = team_->facts();
}

}  // namespace antcrew
