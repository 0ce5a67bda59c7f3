#include "antcrew/crew/internal/standing_threads.hpp"

#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::internal {
namespace {

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
  void (*entry)(void*, int);
  void* context;
  int worker;
};

void* thread_main(void* start) {
  const std::unique_ptr<Start> mine(static_cast<Start*>(start));
  mine->entry(mine->context, mine->worker);
  return nullptr;
}

}  // namespace

StandingThreads::StandingThreads(int workers, const CrewOptions& options)
    : workers_(workers), facts_{options, {}, {}, 0}, caller_(pthread_self()) {}

StandingThreads::~StandingThreads() {
  if (!caller_mask_.empty() && pthread_equal(caller_, pthread_self())) keep_on(caller_, caller_mask_);
}

void StandingThreads::start(void (*entry)(void*, int), void* context) {
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
    for (int worker = 1; worker < workers_; ++worker) start_one(worker, attributes, entry, context);
  } catch (...) {
    pthread_attr_destroy(&attributes);
    throw;
  }
  pthread_attr_destroy(&attributes);
  if (facts_.asked.pin != Pin::off) pin();
}

void StandingThreads::start_one(int worker, const pthread_attr_t& attributes, void (*entry)(void*, int),
                                void* context) {
  auto start = std::make_unique<Start>(Start{entry, context, worker});
  pthread_t thread{};
  const int fault = pthread_create(&thread, &attributes, &thread_main, start.get());
  if (fault != 0) {
    could_not_run("crew.start", "worker " + std::to_string(worker) + " of " + std::to_string(workers_),
                  std::string("the system refused to start a thread (") + std::strerror(fault) + ")",
                  "use fewer workers or smaller stacks, or raise the limit of processes (ulimit -u)");
  }
  static_cast<void>(start.release());
  threads_.push_back(thread);
}

void StandingThreads::join() noexcept {
  for (const pthread_t thread : threads_) pthread_join(thread, nullptr);
  threads_.clear();
}

void StandingThreads::pin() {
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

}  // namespace antcrew::internal
