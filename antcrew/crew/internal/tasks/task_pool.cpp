#include "antcrew/crew/internal/tasks/task_pool.hpp"

#include <pthread.h>

#include <algorithm>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/limits.hpp"

namespace antcrew::internal {
namespace {

// Kept public by each worker: enough that thieves need not wait for the owner to come by, few enough that the
// recursion below them stays private. More workers than processors means work that waits, whose owner comes by late.
std::int64_t wanted_public(int workers) noexcept {
  if (workers == 1) return 0;
  return workers > usable_processors_now() ? 64 : std::max(4, workers);
}

// What a body may still need when recursion is refused.
constexpr std::size_t stack_margin = 256 * 1024;

std::uintptr_t find_stack_floor() noexcept {
  pthread_attr_t attributes;
  if (pthread_getattr_np(pthread_self(), &attributes) != 0) return 0;
  void* lowest = nullptr;
  std::size_t bytes = 0;
  const bool known = pthread_attr_getstack(&attributes, &lowest, &bytes) == 0;
  pthread_attr_destroy(&attributes);
  return known ? reinterpret_cast<std::uintptr_t>(lowest) + std::min(stack_margin, bytes / 4) : 0;
}

std::uintptr_t stack_floor_here() noexcept {
  thread_local const std::uintptr_t floor = find_stack_floor();
  return floor;
}

// Values of TaskWorker::asleep_.
constexpr std::uint32_t awake = 0;
constexpr std::uint32_t idle = 1;
constexpr std::uint32_t waits = 2;

}  // namespace

bool TaskWorker::may_look() const noexcept {
  return pool.may_look_;
}

Task* TaskWorker::own() {
  bool exposed = false;
  Task* task = deque_.pop(exposed);
  if (exposed) wake_somebody();
  return task;
}

bool TaskWorker::take_back_slowly(const JoinTask* task) {
  while (Task* last = own()) {
    if (last == task) return true;
    run(last);
  }
  return false;
}

void TaskWorker::wait_for(const JoinTask& task) {
  work_until([&] { return task.done.load(std::memory_order_seq_cst); });
}

void TaskWorker::tell(TaskWorker* owner) noexcept {
  // Sequentially consistent with the owner's going to sleep: it saw done, or is seen asleep.
  if (owner->asleep_.load(std::memory_order_seq_cst) != awake) owner->pool.wake(*owner);
}

// Near the end of its stack a worker takes no work from others: it could not wait for it on top of what it has.
Task* TaskWorker::find() {
  if (Task* task = own()) return task;
  if (stack_nearly_full()) return nullptr;
  if (Task* task = pool.take_submitted()) return task;
  const auto count = static_cast<std::uint32_t>(pool.workers());
  random_ = random_ * 1'664'525u + 1'013'904'223u;  // Knuth 1981, "Seminumerical algorithms": spreads the thieves
  const std::uint32_t start = (random_ >> 16) % count;
  for (std::uint32_t step = 0; step < count; ++step) {
    TaskWorker& other = *pool.workers_[(start + step) % count];
    if (&other == this) continue;
    Task* task = other.deque_.steal();
    if (task == nullptr) continue;
    if (Meter* meter = pool.meter_.now()) meter->lane(number)->stolen.add(1);
    if (other.deque_.has_public()) wake_somebody();
    return task;
  }
  return nullptr;
}

void TaskWorker::run(Task* task) {
  at_border();
  if (Meter* meter = pool.meter_.now()) meter->lane(number)->pieces.add(1);
  task->run(task, *this);
}

bool TaskWorker::work_once() {
  Task* task = find();
  if (task == nullptr) return false;
  run(task);
  return true;
}

void TaskWorker::serve() {
  task_worker_here = this;
  worker_here = number;
  stack_floor = stack_floor_here();
  const auto leaving = [&] { return pool.leaving_.load(std::memory_order_seq_cst); };
  while (true) {
    if (Task* task = find()) {
      Meter* meter = pool.meter_.now();
      const Busy busy(meter == nullptr ? nullptr : meter->lane(number));
      do {
        run(task);
      } while ((task = find()) != nullptr);
    }
    if (leaving()) return;
    if (looked_for(leaving)) continue;
    begin_sleep(false);
    if (leaving() || anything_to_do()) {
      end_sleep();
    } else {
      sleep();
    }
  }
}

// Busy goes from taking up work to finding none: what was spent waiting in between is taken off again.
void TaskWorker::rested(std::int64_t since_ns) noexcept {
  if (Meter* meter = pool.meter_.now()) meter->lane(number)->busy_ns.add(since_ns - now_ns());
}

void TaskWorker::wake_somebody() noexcept {
  // Sequentially consistent, after the deque made the task public: a worker going to sleep saw the task, or is seen.
  if (pool.sleepers_.load(std::memory_order_seq_cst) > 0) pool.wake_one_of();
}

bool TaskWorker::anything_to_do() const noexcept {
  if (pool.submitted_count_.load(std::memory_order_seq_cst) > 0) return true;
  for (const auto& other : pool.workers_) {
    if (other->deque_.has_public()) return true;
  }
  return false;
}

void TaskWorker::begin_sleep(bool waiting) noexcept {
  asleep_.store(waiting ? waits : idle, std::memory_order_seq_cst);
  pool.sleepers_.fetch_add(1, std::memory_order_seq_cst);
  if (waiting) pool.waiting_.fetch_add(1, std::memory_order_seq_cst);
}

void TaskWorker::end_sleep() noexcept {
  // Woken by another meanwhile: as after a sleep.
  if (!pool.wake(*this)) pool.waking_.store(false, std::memory_order_seq_cst);
}

void TaskWorker::sleep() noexcept {
  for (std::uint32_t how = 0; (how = asleep_.load(std::memory_order_acquire)) != awake;) sleep_while(asleep_, how);
  // Before looking for work: whoever relied on this wake-up made its task public before it saw the flag.
  pool.waking_.store(false, std::memory_order_seq_cst);
}

TaskPool::TaskPool(int workers, const CrewOptions& options)
    : may_look_(workers <= usable_processors_now()), threads_(workers, options) {
  workers_.reserve(static_cast<std::size_t>(workers));
  for (int number = 0; number < workers; ++number) {
    workers_.push_back(std::make_unique<TaskWorker>(*this, number, wanted_public(workers)));
    workers_.back()->random_ = static_cast<std::uint32_t>(number) * 2'654'435'761u;
  }
  try {
    threads_.start(
        [](void* pool, int worker) {
          static_cast<TaskPool*>(pool)->workers_[static_cast<std::size_t>(worker)]->serve();
        },
        this);
  } catch (...) {
    stop_threads();
    throw;
  }
}

TaskPool::~TaskPool() {
  if (made_at_ != fork_depth()) {
    threads_.forget();
    return;
  }
  {
    Call call(*this);
    if (call.worker() != nullptr) {
      while (call.worker()->work_once()) {
      }
    }
  }
  stop_threads();
}

void TaskPool::stop_threads() noexcept {
  leaving_.store(true, std::memory_order_seq_cst);
  for (const auto& worker : workers_) wake(*worker);
  threads_.join();
}

TaskWorker* TaskPool::here() noexcept {
  for (TaskWorker* worker = task_worker_here; worker != nullptr; worker = worker->outer) {
    if (&worker->pool == this) return worker;
  }
  return nullptr;
}

TaskPool::Call::Call(TaskPool& pool) : pool_(pool) {
  refuse_if_inherited(pool.made_at_, "TaskCrew");
  if (pool.called_.exchange(true, std::memory_order_seq_cst)) return;
  worker_ = pool.workers_.front().get();
  worker_->stack_floor = stack_floor_here();
  worker_->outer = std::exchange(task_worker_here, worker_);
  outside_ = std::exchange(worker_here, 0);
  meter_ = pool.meter_.now();
  if (meter_ == nullptr) return;
  start_ns_ = now_ns();
  cpu_ns_ = thread_cpu_ns();
}

TaskPool::Call::~Call() {
  if (worker_ == nullptr) return;
  if (!finished_) pool_.finish_call(*worker_);
  if (meter_ != nullptr) {
    const std::int64_t took_ns = now_ns() - start_ns_;
    meter_->calls.add(1);
    meter_->calls_ns.add(took_ns);
    meter_->lane(0)->busy_ns.add(took_ns);
    meter_->lane(0)->cpu_ns.add(thread_cpu_ns() - cpu_ns_);
  }
  task_worker_here = std::exchange(worker_->outer, nullptr);
  worker_here = outside_;
  pool_.called_.store(false, std::memory_order_seq_cst);
  if (pool_.outside_waiting_.load(std::memory_order_seq_cst) > 0) pool_.ended();
}

void TaskPool::Call::finish() {
  pool_.finish_call(*worker_);
  finished_ = true;
  std::exception_ptr error;
  {
    const std::lock_guard<std::mutex> lock(pool_.error_mutex_);
    error = std::exchange(pool_.error_, nullptr);
    pool_.has_error_.store(false, std::memory_order_relaxed);
  }
  if (error) std::rethrow_exception(error);
}

void TaskPool::finish_call(TaskWorker& worker) {
  while (Task* task = worker.own()) worker.run(task);
  while (workers() == 1) {
    Task* task = take_submitted();
    if (task == nullptr) break;
    worker.run(task);
  }
  if (unwaited_open_.load(std::memory_order_seq_cst) > 0) {
    worker.work_until([&] { return unwaited_open_.load(std::memory_order_seq_cst) == 0; });
  }
}

void TaskPool::submit(Task* task) {
  if (TaskWorker* worker = here()) return worker->push(task);
  {
    const std::lock_guard<std::mutex> lock(submitted_mutex_);
    submitted_.push_back(task);
    submitted_count_.fetch_add(1, std::memory_order_seq_cst);
  }
  if (sleepers_.load(std::memory_order_seq_cst) > 0) wake_one_of();
}

Task* TaskPool::take_submitted() noexcept {
  if (submitted_count_.load(std::memory_order_relaxed) == 0) return nullptr;
  const std::lock_guard<std::mutex> lock(submitted_mutex_);
  if (submitted_.empty()) return nullptr;
  Task* task = submitted_.front();
  submitted_.pop_front();
  submitted_count_.fetch_sub(1, std::memory_order_relaxed);
  return task;
}

// One wake-up at a time: the woken worker wakes the next if there is more. Whoever finds one under way may rely on it,
// since the woken worker lowers the flag before it looks for work; and if nobody was asleep after all, the flag is
// lowered and sleepers are counted again, for those that fell asleep meanwhile.
void TaskPool::wake_one_of() noexcept {
  do {
    if (waking_.load(std::memory_order_seq_cst) || waking_.exchange(true, std::memory_order_seq_cst)) return;
    for (const auto& worker : workers_) {
      if (worker->asleep_.load(std::memory_order_seq_cst) != awake && wake(*worker)) return;
    }
    waking_.store(false, std::memory_order_seq_cst);
  } while (sleepers_.load(std::memory_order_seq_cst) > 0);
}

// Whoever changes the word to awake takes the worker off the counts.
bool TaskPool::wake(TaskWorker& worker, std::uint32_t least) noexcept {
  std::uint32_t how = worker.asleep_.load(std::memory_order_seq_cst);
  do {
    if (how < least) return false;
  } while (!worker.asleep_.compare_exchange_weak(how, awake, std::memory_order_seq_cst));
  sleepers_.fetch_sub(1, std::memory_order_seq_cst);
  if (how == waits) waiting_.fetch_sub(1, std::memory_order_seq_cst);
  wake_one(worker.asleep_);
  return true;
}

void TaskPool::ended() noexcept {
  if (waiting_.load(std::memory_order_seq_cst) > 0) {
    for (const auto& worker : workers_) wake(*worker, waits);
  }
  if (outside_waiting_.load(std::memory_order_seq_cst) > 0) {
    outside_word_.fetch_add(1, std::memory_order_seq_cst);
    wake_all(outside_word_);
  }
}

void TaskPool::sleep_outside(std::uint32_t seen) noexcept {
  sleep_while(outside_word_, seen);
}

void TaskPool::given_up(bool still_open) noexcept {
  unwaited_.fetch_add(1, std::memory_order_relaxed);
  if (still_open) unwaited_open_.fetch_add(1, std::memory_order_seq_cst);
}

void TaskPool::ended_unwaited() noexcept {
  if (unwaited_open_.fetch_sub(1, std::memory_order_seq_cst) == 1) ended();
}

void TaskPool::keep_error(std::exception_ptr error) noexcept {
  const std::lock_guard<std::mutex> lock(error_mutex_);
  if (!error_) error_ = std::move(error);
  has_error_.store(true, std::memory_order_release);
}

}  // namespace antcrew::internal
