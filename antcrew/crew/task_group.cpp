#include "antcrew/crew/task_group.hpp"

#include <algorithm>
#include <new>
#include <optional>
#include <utility>

#include "antcrew/crew/internal/tasks/critical_path.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew {

TaskGroup::TaskGroup(TaskCrew& crew, const AnyStopToken& stop) : pool_(crew.pool()), stop_(stop) {
  const internal::TaskWorker* worker = pool_.current_worker();
  scope_ = pool_.open_scope(worker == nullptr ? nullptr : worker->scope());
}

TaskGroup::TaskGroup(TaskCrew& crew, const GroupOptions& options) : TaskGroup(crew, options.stop) {
  most_unbegun_ = options.items;
}

TaskGroup::~TaskGroup() {
  if (pool_.inherited()) return;  // in a forked child: nothing of it runs here
  wait_for_all();
  internal::TaskWorker* caller = pool_.current_caller();
  for (AnyChild* child = first_thrown_; child != nullptr;) {
    caller == nullptr ? pool_.unwaited()->keep_error(child->error) : caller->dropped().keep_error(child->error);
    child->free(std::exchange(child, child->next));
  }
  pool_.close_scope(scope_);
}

// Counted before the child can end. Relaxed: whoever hands the child on orders it.
void TaskGroup::hand_over(AnyChild* child) noexcept {
  if (internal::current_lane != nullptr) [[unlikely]]
    child->path_ns = pool_.current_worker() == nullptr ? 0 : internal::current_path.now();
  open_.fetch_add(one_open + one_unbegun, std::memory_order_relaxed);
  pool_.submit(child, scope_);
}

// What has not begun can be begun by who waits here: so nobody waits for those who wait in their own begin(). A thread
// that is in many of them, one on top of the other, does not wait: near the end of its stack it could take up nothing.
void TaskGroup::make_room() {
  static constinit thread_local int inside = 0;
  constexpr int deepest = 64;
  const auto room = [this] { return unbegun() < most_unbegun_; };
  if (room() || inside == deepest || internal::stack_nearly_full()) return;
  ++inside;
  pool_.wait_for({nullptr, scope_->name(), internal::not_dropped, &open_}, room);
  --inside;
}

void TaskGroup::run_child(void (*call)(void*), void* child, AnyChild& facts) noexcept {
  const std::uint64_t before = open_.fetch_sub(one_unbegun, std::memory_order_seq_cst) >> 32;
  if (most_unbegun_ != 0 && before == most_unbegun_) pool_.ended(scope_->name());
  if (stop_.stop_requested()) return;
  std::optional<internal::OtherPath> its;
  if (facts.path_ns >= 0) [[unlikely]]
    its.emplace(facts.path_ns);
  try {
    if (internal::stack_nearly_full()) internal::refuse_depth("TaskCrew", "TaskGroup");
    call(child);
  } catch (...) {
    facts.error = std::current_exception();
  }
  if (its) internal::keep_longest(path_ns_, internal::current_path.now());
}

void TaskGroup::keep_or_free(AnyChild* child) noexcept {
  if (!child->error) return child->free(child);
  const internal::LockHeld held(lock_);
  (last_thrown_ == nullptr ? first_thrown_ : last_thrown_->next) = child;
  last_thrown_ = child;
}

// The group may be gone once the last child has been counted; its name is only compared.
void TaskGroup::end_child() noexcept {
  internal::TaskPool& pool = pool_;
  const internal::ScopeName name = scope_->name();
  if (open_.fetch_sub(one_open, std::memory_order_seq_cst) == one_open) pool.ended(name);
}

void TaskGroup::wait_for_all() {
  const bool metered = internal::current_lane != nullptr;
  const bool inside = metered && pool_.current_worker() != nullptr;
  const std::int64_t before_ns = inside ? internal::current_path.now() : 0;
  pool_.wait_for({nullptr, scope_->name(), internal::not_dropped, &open_}, [this] { return all_ended(); });
  if (!metered) return;
  const std::int64_t path_ns = path_ns_.exchange(0, std::memory_order_relaxed);
  if (inside) {
    internal::current_path.go_on(std::max(before_ns, path_ns));
  } else if (internal::LaneBook* book = internal::open_lanes.load(std::memory_order_relaxed)) {
    book->add_path(path_ns);
  }
}

void TaskGroup::wait(CallPlace at) {
  internal::note_place(at);
  if (pool_.inside(scope_->name())) [[unlikely]]
    internal::refuse_own_wait();
  wait_for_all();
  errors_.clear();
  AnyChild* thrown = nullptr;
  {
    const internal::LockHeld held(lock_);
    thrown = std::exchange(first_thrown_, nullptr);
    last_thrown_ = nullptr;
  }
  if (thrown == nullptr) return;
  const std::exception_ptr first = thrown->error;
  while (thrown != nullptr) {
    try {
      errors_.push_back(thrown->error);
    } catch (const std::bad_alloc&) {
    }
    thrown->free(std::exchange(thrown, thrown->next));
  }
  std::rethrow_exception(first);
}

bool TaskGroup::wait_for(double limit_s) {
  return pool_.wait_at_most(limit_s, [this] { return all_ended(); });
}

}  // namespace antcrew
