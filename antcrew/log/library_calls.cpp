#include "antcrew/log/library_calls.hpp"

#include <dlfcn.h>
#include <errno.h>
#include <execinfo.h>
#include <linux/futex.h>
#include <pthread.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdarg>
#include <cstdlib>
#include <cstring>
#include <string_view>
#include <thread>
#include <type_traits>

#include "antcrew/log/lane_book.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/call_slots.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {
namespace {

// What one thread counts. Written by the one thread that has it, read by anyone; its sums stay when the thread ends
// and another takes it over. Taking and giving back are acquire and release on `taken`.
struct alignas(line_bytes) ThreadCounts {
  std::atomic<bool> taken;
  Noted memory_calls;  // allocations and what is given back
  Noted allocations;
  Noted bytes;
  Noted timed;
  Noted timed_ns;
  Noted threads;
  Noted beginning_ns;
  Noted locks;
  Noted waits;
  Noted waited_ns;
};

constexpr int most_threads = 1024;  // at a time; further ones are not counted
constinit ThreadCounts all_counts[most_threads];
constinit std::atomic<int> counts_used{0};  // none beyond has been taken
constinit thread_local ThreadCounts* own_counts = nullptr;
pthread_key_t at_thread_end;

[[gnu::noinline, gnu::cold]] ThreadCounts* take_counts() noexcept {
  for (int k = 0; k < most_threads; ++k) {
    bool taken = false;
    if (!all_counts[k].taken.compare_exchange_strong(taken, true, std::memory_order_acquire)) continue;
    own_counts = &all_counts[k];
    int used = counts_used.load(std::memory_order_relaxed);
    while (used <= k && !counts_used.compare_exchange_weak(used, k + 1, std::memory_order_release)) {
    }
    pthread_setspecific(at_thread_end, own_counts);
    return own_counts;
  }
  return nullptr;
}

ThreadCounts* counts() noexcept {
  return own_counts != nullptr ? own_counts : take_counts();
}

void give_back_counts(void* counts_of) {
  own_counts = nullptr;
  static_cast<ThreadCounts*>(counts_of)->taken.store(false, std::memory_order_release);
}

// The functions themselves.
struct Real {
  decltype(&::malloc) malloc;
  decltype(&::calloc) calloc;
  decltype(&::realloc) realloc;
  decltype(&::free) free;
  decltype(&::aligned_alloc) aligned_alloc;
  decltype(&::posix_memalign) posix_memalign;
  decltype(&::pthread_create) pthread_create;
  decltype(&::pthread_mutex_lock) mutex_lock;
  decltype(&::pthread_mutex_trylock) mutex_trylock;
  decltype(&::pthread_rwlock_rdlock) read_lock;
  decltype(&::pthread_rwlock_tryrdlock) try_read_lock;
  decltype(&::pthread_rwlock_wrlock) write_lock;
  decltype(&::pthread_rwlock_trywrlock) try_write_lock;
  decltype(&::pthread_cond_wait) wait;
  decltype(&::pthread_cond_timedwait) timed_wait;
  decltype(&::pthread_cond_clockwait) clock_wait;
  long (*syscall)(long, long, long, long, long, long, long);
};
constinit Real real{};

// Odd, so that taking and giving back in turn are both met.
constexpr std::int64_t one_in = 17;

// Runs the call, timed where it is its turn.
template <class Call>
auto timed_in_turn(ThreadCounts& mine, Call call) noexcept {
  mine.memory_calls.add(1);
  if (mine.memory_calls.get() % one_in != 0) return call();
  struct Timed {
    ThreadCounts& mine;
    std::int64_t start_ns = now_ns();
    ~Timed() {
      mine.timed.add(1);
      mine.timed_ns.add(now_ns() - start_ns);
    }
  };
  const Timed timed{mine};
  return call();
}

// What was asked in vain counts for nothing: its size may be any.
template <class Call>
auto of_memory(std::size_t allocated, Call call) noexcept {
  ThreadCounts* mine = counts();
  if (mine == nullptr) return call();
  const auto given = timed_in_turn(*mine, call);
  constexpr bool is_code = std::is_same_v<decltype(call()), int>;
  if (allocated > 0 && (is_code ? !given : !!given)) {
    mine->allocations.add(1);
    mine->bytes.add(static_cast<std::int64_t>(allocated));
  }
  return given;
}

void* counted_malloc(std::size_t n) {
  return of_memory(n, [&] { return real.malloc(n); });
}
void* counted_calloc(std::size_t n, std::size_t each) {
  return of_memory(n * each, [&] { return real.calloc(n, each); });
}
void* counted_realloc(void* at, std::size_t n) {
  return of_memory(n, [&] { return real.realloc(at, n); });
}
void counted_free(void* at) {
  ThreadCounts* mine = at == nullptr ? nullptr : counts();
  if (mine == nullptr) return real.free(at);
  timed_in_turn(*mine, [&] { real.free(at); });
}
void* counted_aligned_alloc(std::size_t alignment, std::size_t n) {
  return of_memory(n, [&] { return real.aligned_alloc(alignment, n); });
}
int counted_posix_memalign(void** at, std::size_t alignment, std::size_t n) {
  return of_memory(n, [&] { return real.posix_memalign(at, alignment, n); });
}

int counted_create(pthread_t* thread, const pthread_attr_t* attributes, void* (*run)(void*), void* with) {
  const std::int64_t start = now_ns();
  const int error = real.pthread_create(thread, attributes, run, with);
  if (ThreadCounts* mine = counts(); mine != nullptr && error == 0) {
    mine->threads.add(1);
    mine->beginning_ns.add(now_ns() - start);
  }
  return error;
}

// The stack of who waits for the first time there: the nearest frames, from whoever called the function.
[[gnu::noinline]] void note_callers(LaneBook::LockEntry& entry, const void* caller) noexcept {
  bool noted = false;
  if (!entry.noted.compare_exchange_strong(noted, true, std::memory_order_relaxed)) return;
  void* frames[12];
  const int n = backtrace(frames, 12);
  const int at = static_cast<int>(std::find(frames, frames + n, caller) - frames);
  entry.callers[0] = caller;
  for (int k = 1; k < LaneBook::most_callers && at + k < n; ++k) entry.callers[k] = frames[at + k];
}

// In a body it is a stretch of the lane; a crew's own waits, which are other stretches, pass. Of threads in no lane
// only locks are looked at: what else they wait for may be work to come.
template <class Wait>
auto waiting(const char* what, const void* caller, Wait wait, bool lock = false) {
  Lane* lane = current_lane;
  if (lane == nullptr ? !lock : lane->at().doing != Doing::body) return wait();
  LaneBook* book = open_lanes.load(std::memory_order_relaxed);
  LaneBook::LockEntry* entry = book == nullptr ? nullptr : book->entry_of(caller, what);
  if (entry != nullptr) note_callers(*entry, caller);
  if (lane != nullptr) {
    lane->push({Doing::lock, Shortage::none, lane->at().region, caller, nullptr});
    const auto outcome = wait();
    const int error = errno;
    lane->pop();
    if (entry != nullptr) entry->waits.fetch_add(1, std::memory_order_relaxed);
    errno = error;
    return outcome;
  }
  const std::int64_t start = now_ns();
  const auto outcome = wait();
  const int error = errno;
  const std::int64_t took_ns = now_ns() - start;
  if (ThreadCounts* mine = counts(); mine != nullptr) {
    mine->waits.add(1);
    mine->waited_ns.add(took_ns);
  }
  if (entry != nullptr) {
    entry->waits.fetch_add(1, std::memory_order_relaxed);
    entry->waited_ns.fetch_add(took_ns, std::memory_order_relaxed);
  }
  errno = error;
  return outcome;
}

// Kept out of the way of a lock that is free.
template <class Take, class Lock>
[[gnu::noinline, gnu::cold]] int waits_to_take(const char* what, const void* caller, Take take, Lock* lock) {
  return waiting(
      what, caller, [=] { return take(lock); }, true);
}

template <bool counts_all, class Try, class Take, class Lock>
[[gnu::always_inline]] inline int locking(const char* what, const void* caller, Try try_it, Take take, Lock* lock) {
  if constexpr (counts_all) {
    if (ThreadCounts* mine = counts(); mine != nullptr) mine->locks.add(1);
  }
  const int error = try_it(lock);
  return error != EBUSY ? error : waits_to_take(what, caller, take, lock);
}

#define ANTCREW_CALLER __builtin_extract_return_addr(__builtin_return_address(0))

template <bool counts_all>
int counted_mutex_lock(pthread_mutex_t* m) {
  return locking<counts_all>("mutex", ANTCREW_CALLER, real.mutex_trylock, real.mutex_lock, m);
}
template <bool counts_all>
int counted_read_lock(pthread_rwlock_t* m) {
  return locking<counts_all>("shared mutex", ANTCREW_CALLER, real.try_read_lock, real.read_lock, m);
}
template <bool counts_all>
int counted_write_lock(pthread_rwlock_t* m) {
  return locking<counts_all>("shared mutex", ANTCREW_CALLER, real.try_write_lock, real.write_lock, m);
}
constexpr char condition[] = "condition variable";
int counted_wait(pthread_cond_t* c, pthread_mutex_t* m) {
  return waiting(condition, ANTCREW_CALLER, [&] { return real.wait(c, m); });
}
int counted_timed_wait(pthread_cond_t* c, pthread_mutex_t* m, const timespec* until) {
  return waiting(condition, ANTCREW_CALLER, [&] { return real.timed_wait(c, m, until); });
}
int counted_clock_wait(pthread_cond_t* c, pthread_mutex_t* m, clockid_t clock, const timespec* until) {
  return waiting(condition, ANTCREW_CALLER, [&] { return real.clock_wait(c, m, clock, until); });
}
// As the kernel takes them: six words at most, whatever they mean.
long counted_syscall(long number, long a, long b, long c, long d, long e, long f) {
  const auto call = [&] { return real.syscall(number, a, b, c, d, e, f); };
  const long command = b & FUTEX_CMD_MASK;
  if (number != SYS_futex || sleeps_here() || (command != FUTEX_WAIT && command != FUTEX_WAIT_BITSET)) return call();
  return waiting("atomic", ANTCREW_CALLER, call);
}

// Null where it is not the C library's own: a program that brings another one (an allocator, a sanitizer) may rely on
// being called directly.
template <class Function>
void find(Function*& function, const char* name) noexcept {
  void* found = function_named(name);
  Dl_info of{};
  const bool known = found != nullptr && ::dladdr(found, &of) != 0 && of.dli_fname != nullptr;
  const char* slash = known ? std::strrchr(of.dli_fname, '/') : nullptr;
  const std::string_view file = !known ? "" : slash == nullptr ? of.dli_fname : slash + 1;
  const bool own = file.starts_with("libc.so") || file.starts_with("libpthread.so");
  function = own ? reinterpret_cast<Function*>(found) : nullptr;
}

template <class Function>
void* address_of(Function* function) noexcept {
  return reinterpret_cast<void*>(function);
}

}  // namespace

struct CountedCalls::Slots {
  explicit Slots(const std::vector<OtherFunction>& functions) : of(functions) {}
  CallSlots of;
};

CountedCalls::CountedCalls(What what) {
  static const bool known = [] {
    pthread_key_create(&at_thread_end, &give_back_counts);
    find(real.malloc, "malloc");
    find(real.calloc, "calloc");
    find(real.realloc, "realloc");
    find(real.free, "free");
    find(real.aligned_alloc, "aligned_alloc");
    find(real.posix_memalign, "posix_memalign");
    find(real.pthread_create, "pthread_create");
    find(real.mutex_lock, "pthread_mutex_lock");
    find(real.mutex_trylock, "pthread_mutex_trylock");
    find(real.read_lock, "pthread_rwlock_rdlock");
    find(real.try_read_lock, "pthread_rwlock_tryrdlock");
    find(real.write_lock, "pthread_rwlock_wrlock");
    find(real.try_write_lock, "pthread_rwlock_trywrlock");
    find(real.wait, "pthread_cond_wait");
    find(real.timed_wait, "pthread_cond_timedwait");
    find(real.clock_wait, "pthread_cond_clockwait");
    find(real.syscall, "syscall");
    void* frame = nullptr;
    backtrace(&frame, 1);  // loads what it needs
    return true;
  }();
  static_cast<void>(known);
  std::vector<OtherFunction> functions;
  const auto count = [&](auto* of, const char* name, void* instead) {
    if (of != nullptr) functions.push_back({name, instead});
  };
  if (what == What::all && real.malloc != nullptr && real.free != nullptr) {
    count(real.malloc, "malloc", address_of(&counted_malloc));
    count(real.calloc, "calloc", address_of(&counted_calloc));
    count(real.realloc, "realloc", address_of(&counted_realloc));
    count(real.free, "free", address_of(&counted_free));
    count(real.aligned_alloc, "aligned_alloc", address_of(&counted_aligned_alloc));
    count(real.posix_memalign, "posix_memalign", address_of(&counted_posix_memalign));
  }
  count(real.pthread_create, "pthread_create", address_of(&counted_create));
  const auto count_lock = [&](auto* tried, auto* of, const char* name, auto* counted, auto* waiting) {
    if (tried != nullptr && what != What::no_locks) count(of, name, address_of(what == What::all ? counted : waiting));
  };
  count_lock(real.mutex_trylock, real.mutex_lock, "pthread_mutex_lock", &counted_mutex_lock<true>,
             &counted_mutex_lock<false>);
  count_lock(real.try_read_lock, real.read_lock, "pthread_rwlock_rdlock", &counted_read_lock<true>,
             &counted_read_lock<false>);
  count_lock(real.try_write_lock, real.write_lock, "pthread_rwlock_wrlock", &counted_write_lock<true>,
             &counted_write_lock<false>);
  count(real.wait, "pthread_cond_wait", address_of(&counted_wait));
  count(real.timed_wait, "pthread_cond_timedwait", address_of(&counted_timed_wait));
  count(real.clock_wait, "pthread_cond_clockwait", address_of(&counted_clock_wait));
  count(real.syscall, "syscall", address_of(&counted_syscall));
  counts();
  slots_ = std::make_unique<Slots>(functions);
  sees_memory_ = slots_->of.found("malloc") > 0;
  sees_locks_ = slots_->of.found("pthread_mutex_lock") > 0;
}

CountedCalls::~CountedCalls() = default;

namespace {

// Of two readings of the clock, one after the other.
double clock_price_ns() noexcept {
  static const double price = [] {
    constexpr int times = 1000;
    const std::int64_t start = now_ns();
    for (int k = 0; k < times; ++k) now_ns();
    return static_cast<double>(now_ns() - start) / times;
  }();
  return price;
}

}  // namespace

LibraryCounts CountedCalls::so_far() const noexcept {
  LibraryCounts sums;
  double timed = 0;
  double timed_ns = 0;
  const int used = counts_used.load(std::memory_order_acquire);
  for (int k = 0; k < used; ++k) {
    const ThreadCounts& of = all_counts[k];
    sums.allocations += static_cast<double>(of.allocations.get());
    sums.allocated_bytes += static_cast<double>(of.bytes.get());
    timed += static_cast<double>(of.timed.get());
    timed_ns += static_cast<double>(of.timed_ns.get());
    sums.threads += static_cast<double>(of.threads.get());
    sums.beginning_s += static_cast<double>(of.beginning_ns.get()) * 1e-9;
    sums.locks += static_cast<double>(of.locks.get());
    sums.waits += static_cast<double>(of.waits.get());
    sums.waited_s += static_cast<double>(of.waited_ns.get()) * 1e-9;
  }
  sums.allocating_s = std::max(0.0, timed_ns - timed * clock_price_ns()) * static_cast<double>(one_in) * 1e-9;
  return sums;
}

double CountedCalls::price_of_a_thread() {
  constexpr int times = 21;
  double took_s[times];
  for (double& one : took_s) {
    const std::int64_t start = now_ns();
    std::thread([] {}).join();
    one = seconds_since(start);
  }
  std::nth_element(took_s, took_s + times / 2, took_s + times);
  return took_s[times / 2];
}

LibraryCounts& LibraryCounts::add(const LibraryCounts& more, double times) noexcept {
  allocations += times * more.allocations;
  allocated_bytes += times * more.allocated_bytes;
  allocating_s += times * more.allocating_s;
  threads += times * more.threads;
  beginning_s += times * more.beginning_s;
  locks += times * more.locks;
  waits += times * more.waits;
  waited_s += times * more.waited_s;
  return *this;
}

}  // namespace antcrew::internal
