#include "antcrew/crew/internal/standing_threads.hpp"

#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/parking.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::internal {
namespace {

bool keep_thread_on(pthread_t thread, const ProcessorSet& set) noexcept {
  static_assert(sizeof(set.words) % sizeof(unsigned long) == 0);
  return pthread_setaffinity_np(thread, sizeof set.words, reinterpret_cast<const cpu_set_t*>(set.words.data())) == 0;
}

// Threads that are begun meanwhile are never chosen for a signal of the program's: its handlers, and what it blocks
// later on, are for threads that it knows of. What a thread does to itself still reaches it, and so does the signal of
// a timer of processor time, which is for whoever uses it: else the caller would be asked where the workers are.
class SignalsToCaller {
 public:
  SignalsToCaller() noexcept {
    sigset_t most;
    sigfillset(&most);
    for (const int own : {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGTRAP, SIGSYS, SIGABRT}) sigdelset(&most, own);
    pthread_sigmask(SIG_SETMASK, nullptr, &before_);
    if (sigismember(&before_, SIGPROF) == 0) sigdelset(&most, SIGPROF);
    pthread_sigmask(SIG_SETMASK, &most, nullptr);
  }
  ~SignalsToCaller() { pthread_sigmask(SIG_SETMASK, &before_, nullptr); }
  SignalsToCaller(const SignalsToCaller&) = delete;
  SignalsToCaller& operator=(const SignalsToCaller&) = delete;

 private:
  sigset_t before_;
};

// The kernel keeps 15 bytes; the number is worth more than the end of a name.
std::string thread_name(const std::string& crew, int worker) {
  constexpr std::size_t most = 15;
  const std::string number = " " + std::to_string(worker);
  return (crew.empty() ? std::string("crew") : crew).substr(0, most - number.size()) + number;
}

}  // namespace

struct StandingThreads::Start {
  StandingThreads* all;
  void (*entry)(void*, int);
  void* context;
  int worker;
  const ProcessorSet* own;  // null unless it stays pinned
};

void* StandingThreads::thread_main(void* start) {
  const std::unique_ptr<Start> mine(static_cast<Start*>(start));
  if (mine->own != nullptr) remember_own_processors(mine->own);
  const CrewOptions& options = mine->all->facts_.asked;
  if (options.at_begin) mine->all->begin_hook(mine->worker);
  mine->entry(mine->context, mine->worker);
  if (options.at_end) [&]() noexcept { options.at_end(mine->worker); }();
  return nullptr;
}

// Release: what threw is read by who has seen the count.
void StandingThreads::begin_hook(int worker) noexcept {
  try {
    facts_.asked.at_begin(worker);
  } catch (...) {
    if (!hook_threw_.exchange(true, std::memory_order_relaxed)) hook_error_ = std::current_exception();
  }
  hooks_done_.fetch_add(1, std::memory_order_release);
  wake_all(hooks_done_);
}

void StandingThreads::await_hooks() {
  if (!facts_.asked.at_begin) return;
  for (std::uint32_t done; (done = hooks_done_.load(std::memory_order_acquire)) < threads_.size();)
    sleep_while(hooks_done_, done);
  if (hook_error_) std::rethrow_exception(hook_error_);
}

StandingThreads::StandingThreads(int workers, const CrewOptions& options)
    : workers_(workers), facts_{options, {}, {}, 0, {}}, own_(own_processors()) {}

void StandingThreads::start(void (*entry)(void*, int), void* context) {
  pthread_attr_t attributes;
  pthread_attr_init(&attributes);
  if (facts_.asked.stack_bytes > 0) {
    const auto page = static_cast<std::size_t>(sysconf(_SC_PAGESIZE));
    const auto least = static_cast<std::size_t>(sysconf(_SC_THREAD_STACK_MIN));
    const std::size_t bytes = (std::max(facts_.asked.stack_bytes, least) + page - 1) / page * page;
    if (pthread_attr_setstacksize(&attributes, bytes) == 0) facts_.granted_stack_bytes = bytes;
  }
  choose_processors();
  const SignalsToCaller blocked;
  try {
    threads_.reserve(static_cast<std::size_t>(workers_ - 1));
    for (int worker = 1; worker < workers_; ++worker) start_one(worker, attributes, entry, context);
  } catch (...) {
    pthread_attr_destroy(&attributes);
    throw;
  }
  pthread_attr_destroy(&attributes);
  await_hooks();
}

// Each thread has the maker's processors, also when the maker is pinned by another crew just now, or its own one.
void StandingThreads::start_one(int worker, const pthread_attr_t& attributes, void (*entry)(void*, int),
                                void* context) {
  const bool pinned = facts_.asked.pin != Pin::off;
  auto start = std::make_unique<Start>(Start{this, entry, context, worker, pinned && !own_.empty() ? &own_ : nullptr});
  pthread_t thread{};
  const int fault = pthread_create(&thread, &attributes, &thread_main, start.get());
  if (fault != 0) {
    could_not_run("crew.start", "worker " + std::to_string(worker) + " of " + std::to_string(workers_),
                  std::string("the system refused to start a thread (") + std::strerror(fault) + ")",
                  "use fewer workers or smaller stacks, or raise the limit of processes (ulimit -u)");
  }
  static_cast<void>(start.release());
  threads_.push_back(thread);
  pthread_setname_np(thread, thread_name(facts_.asked.name, worker).c_str());
  if (own_.empty()) return;
  if (!pinned) {
    ProcessorSet inherited;
    if (read_processors(0, inherited) && inherited != own_) keep_thread_on(thread, own_);
    return;
  }
  int& granted = facts_.granted_processors[static_cast<std::size_t>(worker)];
  ProcessorSet one;
  one.add(facts_.asked_processors[static_cast<std::size_t>(worker)]);
  if (!keep_thread_on(thread, one)) granted = -1;
}

void StandingThreads::join() noexcept {
  for (const pthread_t thread : threads_) pthread_join(thread, nullptr);
  threads_.clear();
}

void StandingThreads::choose_processors() {
  if (own_.empty()) facts_.refused.push_back("reading which processors may be used");
  if (facts_.asked.pin == Pin::off) return;
  const std::vector<int> order = processor_order(facts_.asked.pin == Pin::near ? Nearness::near : Nearness::apart);
  if (order.empty()) return;
  for (int worker = 0; worker < workers_; ++worker) {
    facts_.asked_processors.push_back(order[static_cast<std::size_t>(worker) % order.size()]);
  }
  facts_.granted_processors = facts_.asked_processors;
  if (PinnedHere(facts_.asked_processors.front()).granted()) {
    pin_of_caller_ = facts_.asked_processors.front();
  } else {
    facts_.granted_processors.assign(facts_.asked_processors.size(), -1);
    facts_.refused.push_back("keeping workers on processors");
  }
}

}  // namespace antcrew::internal
