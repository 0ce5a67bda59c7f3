#include "antcrew/crew/internal/tasks/task_pool.hpp"

#include <mutex>
#include <utility>

#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/topology.hpp"

namespace antcrew::internal {
namespace {

// Of the forks of each worker: enough that thieves need not wait for the owner to come by, few enough that the
// recursion below them stays private. More workers than processors means work that waits, whose owner comes by late.
std::int64_t wanted_public(int workers) noexcept {
  return workers == 1 ? 0 : workers > usable_processors_now() ? 64 : std::max(4, workers);
}

}  // namespace

TaskPool::TaskPool(int workers, const CrewOptions& options)
    : workers_(workers),
      processors_(workers),
      several_neighbourhoods_(workers > 2 && neighbourhoods() > 1),
      most_waking_(std::clamp(workers / 4, 1, 16)),
      threads_(workers, options) {
  const std::int64_t wanted = wanted_public(workers);
  callers_[0] = std::make_unique<TaskWorker>(*this, 0, wanted, DroppedFor{1});
  callers_made_.store(1, std::memory_order_relaxed);
  standing_.reserve(static_cast<std::size_t>(workers - 1));
  for (int number = 1; number < workers; ++number) {
    standing_.push_back(std::make_unique<TaskWorker>(*this, number, wanted));
    standing_.back()->random_ = static_cast<std::uint32_t>(number) * 2'654'435'761u;
  }
  try {
    const InFrame starting({Doing::starting, Shortage::none, 0, nullptr, nullptr});
    threads_.start(
        [](void* pool, int worker) {
          static_cast<TaskPool*>(pool)->standing_[static_cast<std::size_t>(worker - 1)]->serve();
        },
        this);
  } catch (...) {
    stop_threads();
    throw;
  }
}

TaskPool::~TaskPool() {
  if (inherited()) {
    threads_.forget();
    return;
  }
  {
    Call call(*this);
    if (call.worker() != nullptr) {
      constexpr double look_again_s = 0.01;
      for (bool pending = true; pending;) {
        // Acquire: what is not pending any more lies where it is found.
        pending = pending_.load(std::memory_order_acquire) != 0;
        while (call.worker()->work_once()) {
        }
        if (pending) wait_at_most(look_again_s, [this] { return pending_.load(std::memory_order_acquire) == 0; });
      }
      wait_for_dropped(*call.worker(), *unwaited_.operator->(), dropped_for_nobody);
    }
  }
  stop_threads();
  unwaited_->crew_gone.store(true, std::memory_order_release);
  while (unwaited_->dropping.load(std::memory_order_seq_cst) != 0) give_way();
}

void TaskPool::stop_threads() noexcept {
  const InFrame ending({Doing::starting, Shortage::none, 0, nullptr, nullptr});
  leaving_.store(true, std::memory_order_seq_cst);
  for (const auto& worker : standing_) wake(*worker, TaskWorker::idle);
  threads_.join();
}

TaskWorker* TaskPool::current_worker() const noexcept {
  for (const TaskFrame* frame = current_task_frames; frame != nullptr; frame = frame->outer) {
    if (frame->worker != nullptr && &frame->worker->pool == this) return frame->worker;
  }
  return nullptr;
}

// The call may be over where a group outlived it.
TaskWorker* TaskPool::current_caller() const noexcept {
  const TaskWorker* worker = current_worker();
  const Scope* scope = worker == nullptr ? nullptr : worker->scope();
  TaskWorker* caller = scope == nullptr ? nullptr : scope->call.load(std::memory_order_relaxed);
  return caller != nullptr && caller->is_call(scope->call_life.load(std::memory_order_relaxed)) ? caller : nullptr;
}

bool TaskPool::inside(ScopeName name) const noexcept {
  const TaskWorker* worker = current_worker();
  return worker != nullptr && worker->scope() != nullptr && descends(worker->scope(), name);
}

std::size_t TaskPool::worker_count() const noexcept {
  return standing_.size() + callers_made_.load(std::memory_order_acquire);
}
TaskWorker& TaskPool::worker_at(std::size_t k) const noexcept {
  return k < standing_.size() ? *standing_[k] : *callers_[k - standing_.size()];
}

// Calls

TaskWorker* TaskPool::claim_caller(std::size_t& place) {
  refuse_if_inherited(made_at_, "TaskCrew");
  for (std::size_t k = 0; k < most_callers; ++k) {
    if (calling_[k].load(std::memory_order_relaxed) || calling_[k].exchange(true, std::memory_order_acquire)) continue;
    try {
      for (std::size_t made; (made = callers_made_.load(std::memory_order_acquire)) <= k;) {
        const std::lock_guard<Lock> held(callers_lock_);
        if (callers_made_.load(std::memory_order_relaxed) != made) continue;
        callers_[made] =
            std::make_unique<TaskWorker>(*this, 0, wanted_public(workers_), static_cast<DroppedFor>(made) + 1);
        callers_made_.store(made + 1, std::memory_order_release);
      }
    } catch (...) {  // without memory it works by itself
      calling_[k].store(false, std::memory_order_release);
      return nullptr;
    }
    place = k;
    callers_now_.fetch_add(1, std::memory_order_seq_cst);
    return callers_[k].get();
  }
  return nullptr;
}

// What nobody waits for is for others; only begun work whose handle was dropped in this call is waited for here.
void TaskPool::finish_call(TaskWorker& worker) noexcept {
  worker.put_own_aside();
  wait_for_dropped(worker, worker.dropped(), worker.dropped_name());
}

void TaskPool::wait_for_dropped(TaskWorker& worker, Dropped& dropped, DroppedFor whom) noexcept {
  const auto none_open = [&] { return dropped.open.load(std::memory_order_seq_cst) == 0; };
  if (!none_open()) worker.work_until({.dropped = whom}, none_open);
}

// One at a time helps, since it is worker 0 of every loop in that work; others only wait.
void TaskPool::settle() {
  const auto none_open = [this] { return unwaited_->open.load(std::memory_order_seq_cst) == 0; };
  while (!none_open()) {
    constexpr double look_again_s = 0.01;
    if (settling_.exchange(true, std::memory_order_acquire)) {
      wait_at_most(look_again_s, none_open);
      continue;
    }
    {
      Call call(*this);
      if (call.worker() != nullptr) {
        wait_for_dropped(*call.worker(), *unwaited_.operator->(), dropped_for_nobody);
      } else {
        wait_at_most(look_again_s, none_open);
      }
    }
    settling_.store(false, std::memory_order_release);
  }
  if (const std::exception_ptr error = unwaited_->take_error()) std::rethrow_exception(error);
}

// Scopes

Scope* TaskPool::open_scope(const Scope* parent, bool begun) {
  TaskWorker* worker = current_worker();
  Scope* scope = worker == nullptr ? scopes_.one() : worker->take_scope();
  begin_life(*scope, parent, begun);
  return scope;
}

void TaskPool::close_scope(Scope* scope) noexcept {
  if (TaskWorker* worker = current_worker()) return worker->close_scope(scope);
  end_life(*scope);
  scopes_.take_back(scope);
}

// The queue

void TaskPool::submit(Task* task, Scope* scope) noexcept {
  note_caller();
  if (current_lane != nullptr) [[unlikely]]
    grows();
  if (TaskWorker* worker = current_worker()) {
    worker->push(task, scope);
  } else {
    put_aside(task, scope);
  }
  // Also when somebody idle was woken: he may take up what lies above, and never come back.
  if (waiting() > 0) wake_waiting(scope);
}

void TaskPool::put_aside(Task* task, Scope* scope) noexcept {
  aside_.put(task, scope);
  published(scope);
}

// Waking

void TaskPool::published(const Scope* scope) noexcept {
  if (idle() > 0) return wake_idle();
  if (waiting() > 0) wake_waiting(scope);
}

// Those that are woken wake others as long as there is more.
void TaskPool::published(const Scope* scope, int count) noexcept {
  published(scope);
  if (count > 1 && idle() > 0) wake_idle();
}

// A few at a time. Whoever finds enough wake-ups under way may rely on them, since a woken worker lowers the count
// before it looks for work; and if nobody was asleep after all, the count is lowered and sleepers are counted again,
// for those that fell asleep meanwhile.
void TaskPool::wake_idle() noexcept {
  do {
    int under_way = waking_.load(std::memory_order_seq_cst);
    do {
      if (under_way >= most_waking_) return;
    } while (!waking_.compare_exchange_weak(under_way, under_way + 1, std::memory_order_seq_cst));
    for (const auto& worker : standing_) {
      std::uint32_t how = TaskWorker::idle;
      if (worker->asleep_.load(std::memory_order_seq_cst) != how) continue;
      if (!worker->asleep_.compare_exchange_strong(how, TaskWorker::called, std::memory_order_seq_cst)) continue;
      asleep_.fetch_sub(one_idle, std::memory_order_seq_cst);
      tell_of_call(*worker);
      if (may_look()) worker->placement_.make_room(current_processor());
      wake_one(worker->asleep_);
      return;
    }
    waking_.fetch_sub(1, std::memory_order_seq_cst);
  } while (idle() > 0);
}

// One of those that may take up what belongs to this scope. Acquire: by now it may sleep for one that was just made.
void TaskPool::wake_waiting(const Scope* scope) noexcept {
  for (std::size_t k = 0; k < worker_count(); ++k) {
    TaskWorker& worker = worker_at(k);
    if (worker.asleep_.load(std::memory_order_seq_cst) != TaskWorker::waits) continue;
    const ScopeName name{worker.sleeps_for_.load(std::memory_order_acquire),
                         worker.sleeps_for_life_.load(std::memory_order_relaxed)};
    const Wanted wanted{nullptr, name, worker.sleeps_for_dropped_.load(std::memory_order_relaxed)};
    if (wanted.includes(nullptr, scope) && wake(worker, TaskWorker::waits)) return;
  }
}

// Whoever changes the word takes the worker off its count. how: as it is expected to sleep; idle stands for both.
bool TaskPool::wake(TaskWorker& worker, std::uint32_t least) noexcept {
  if (!wake_self(worker, least)) return false;
  tell_of_call(worker);
  if (may_look()) worker.placement_.make_room(current_processor());
  wake_one(worker.asleep_);
  return true;
}

bool TaskPool::wake_self(TaskWorker& worker, std::uint32_t least) noexcept {
  std::uint32_t how = worker.asleep_.load(std::memory_order_seq_cst);
  do {
    if (how != TaskWorker::waits && (how != TaskWorker::idle || least != TaskWorker::idle)) return false;
  } while (!worker.asleep_.compare_exchange_weak(how, TaskWorker::awake, std::memory_order_seq_cst));
  asleep_.fetch_sub(how == TaskWorker::waits ? one_waiting : one_idle, std::memory_order_seq_cst);
  return true;
}

void TaskPool::ended(ScopeName name) noexcept {
  if (waiting() > 0) {
    for (std::size_t k = 0; k < worker_count(); ++k) {
      TaskWorker& worker = worker_at(k);
      if (worker.asleep_.load(std::memory_order_seq_cst) != TaskWorker::waits) continue;
      if (worker.sleeps_for_.load(std::memory_order_relaxed) == name.scope) wake(worker, TaskWorker::waits);
    }
  }
  tell_outside();
}

void TaskPool::tell_outside() noexcept {
  if (outside_waiting_.load(std::memory_order_seq_cst) == 0) return;
  outside_word_.fetch_add(1, std::memory_order_seq_cst);
  wake_all(outside_word_);
}

void TaskPool::wake_for(ScopeName name) noexcept {
  if (waiting() == 0) return;
  for (std::size_t k = 0; k < worker_count(); ++k) {
    TaskWorker& worker = worker_at(k);
    if (worker.asleep_.load(std::memory_order_seq_cst) != TaskWorker::waits) continue;
    // Acquire: by now it may sleep for one that was just made.
    if (worker.sleeps_for_.load(std::memory_order_acquire) == name.scope && wake(worker, TaskWorker::waits)) return;
  }
}

void TaskPool::tell_of_call(const TaskWorker& worker) const noexcept {
  LaneBook* its = book();
  if (its != nullptr && worker.number < its->lanes()) [[unlikely]]
    its->lane(worker.number).call_comes(now_ns());
}

void TaskPool::grows() noexcept {
  LaneBook* its = open_lanes.load(std::memory_order_relaxed);
  if (its != nullptr && current_lane != nullptr) its->region_grows(current_lane->at().region);
}

// Waiting

bool TaskPool::all_wait() const noexcept {
  return idle() == 0 &&
         waiting() == standing_.size() + static_cast<std::size_t>(callers_now_.load(std::memory_order_seq_cst));
}

bool TaskPool::nobody_else_can() const noexcept {
  const TaskWorker* me = current_worker();
  for (const auto& worker : standing_) {
    if (worker.get() != me && worker->asleep_.load(std::memory_order_seq_cst) != TaskWorker::waits) return false;
  }
  return true;
}

// When all wait, what one waits for may lie under tasks that it may not take: then all goes to the queue.
bool TaskPool::unearth() noexcept {
  for (std::size_t k = 0; k < worker_count(); ++k) {
    Deque& deque = worker_at(k).deque_;
    while (deque.has_public()) {
      if (const Found found = deque.steal()) put_aside(found.task, found.scope);
    }
  }
  if (!aside_.has_new()) return false;  // all have looked through all of it
  for (std::size_t k = 0; k < worker_count(); ++k) wake(worker_at(k), TaskWorker::waits);
  return true;
}

}  // namespace antcrew::internal
