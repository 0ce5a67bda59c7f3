#include "antcrew/crew/internal/tasks/begun.hpp"

#include <algorithm>
#include <string>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew::internal {

using namespace base_layer;

void refuse_no_work(const char* call) {
  bad_input("crew.no_work", std::string("Later::") + call,
            "the handle stands for no work: it was made without any, or has been moved from or read already",
            "ask valid() first, and take what get() gives only once");
}

void refuse_no_handles(const char* call) {
  bad_input("crew.no_work", call, "there are no handles at all, and so no crew to go on with",
            "leave the call out, or name the crew: when_all(crew, laters)");
}

void Begun::refuse_if_crew_gone(const char* call) const {
  if (!unwaited_->crew_gone.load(std::memory_order_acquire)) return;
  bad_input("crew.gone", call, "the TaskCrew that began this work is gone, so nothing can run after it",
            "let the crew live longer than what goes on from its work");
}

void Dropped::keep_error(std::exception_ptr thrown) noexcept {
  const LockHeld held(lock_);
  if (!error_) error_ = std::move(thrown);
  has_error_.store(true, std::memory_order_release);
}

std::exception_ptr Dropped::take_error() noexcept {
  if (!has_error()) return nullptr;
  const LockHeld held(lock_);
  has_error_.store(false, std::memory_order_relaxed);
  return std::exchange(error_, nullptr);
}

// It descends from nothing: who waits for what begins it does not wait for it.
Begun::Begun(TaskPool& its_pool, bool comes_after_others)
    : Task(&run_it),
      pool_(its_pool),
      unwaited_(its_pool.unwaited()),
      scope_(its_pool.open_scope(nullptr, true)),
      name_(scope_->name()),
      mark_(comes_after_others ? 0 : may_begin) {}

// Without having run only where a part of it could not be made.
Begun::~Begun() {
  if (!ended()) pool_.close_scope(scope_);
}

void Begun::hand_over() noexcept {
  pool_.submit(this, scope_);
}

void Begun::let_go() noexcept {
  if (holders_.fetch_sub(1, std::memory_order_acq_rel) == 1) delete this;
}

// Running

void Begun::run_it(Task* task, TaskWorker&) noexcept {
  auto* self = static_cast<Begun*>(task);
  if (self->claim()) self->run_chain();
  self->let_go();
}

// What goes on from it in a chain goes on here: no other worker is woken for its next piece.
void Begun::run_chain() noexcept {
  Begun* next = nullptr;
  run(next);
  while (Begun* self = std::exchange(next, nullptr)) {
    if (self->claim()) self->run(next);
    self->let_go();
  }
}

void Begun::run(Begun*& next) noexcept {
  try {
    if (stack_nearly_full()) refuse_depth("TaskCrew", "begin");
    work();
  } catch (...) {
    error = std::current_exception();
  }
  // Once it has ended, the crew may: the pool is there as long as this worker is in it. Whoever runs this holds it.
  TaskPool& pool = pool_;
  const int marks = mark_.fetch_or(has_ended, std::memory_order_seq_cst);
  if ((marks & told) != 0) tell_all(&next);
  if ((marks & goes_on) != 0) return;  // nobody waits for this part of a chain by its name
  pool.close_scope(scope_);
  if ((marks & dropped) == 0) return pool.ended(name_);
  if (error) {
    dropped_for_->keep_error(std::exchange(error, nullptr));  // what is thrown may outlive this
  } else {
    drop_result(*dropped_for_, dropped_name_);
  }
  if (dropped_for_->open.fetch_sub(1, std::memory_order_seq_cst) == 1) pool.ended({});
}

// Claimed: as the worker that the calling thread is, or becomes for that.
void Begun::run_by_handle() {
  const auto as = [this](TaskWorker& worker) {
    const bool came_out = worker.take_out(this) || pool_.take_out(this);
    {
      const TaskWorker::In in(worker, scope_);
      run_chain();
    }
    if (came_out) let_go();
  };
  if (TaskWorker* worker = pool_.current_worker()) {
    if (current_task_worker == worker) return as(*worker);
    const AgainWorker again(*worker);
    return as(*worker);
  }
  TaskPool::Call call(pool_);
  if (call.worker() == nullptr) {
    const bool came_out = pool_.take_out(this);
    run_chain();
    if (came_out) let_go();
    return;
  }
  as(*call.worker());
}

// Continuations

Earlier::Earlier(Begun& later) : later_(later), left_(2) {
  later.pool_.one_pending();
  later.hold();
}

Earlier::Earlier(Begun& later, std::size_t count, Until until)
    : later_(later),
      links_(new LinkToLater[count]),
      size_(count),
      in_a_chain_(false),
      until_(until),
      left_(1 + (until == Until::all ? count : 1)) {
  later.pool_.one_pending();
  later.holders_.fetch_add(static_cast<int>(count), std::memory_order_relaxed);
}

// Never awaited where a part of the continuation could not be made.
Earlier::~Earlier() {
  if (!awaited_) later_.pool_.one_pending_less();
  for (std::size_t k = 0; k < size_; ++k) {
    if (Begun* begun = take_out(k)) begun->drop();
  }
  if (links_ != &one_) delete[] links_;
}

void Earlier::await() noexcept {
  awaited_ = true;
  for (std::size_t k = 0; k < size_; ++k) {
    LinkToLater& link = links_[k];
    link.of = this;
    const int marks = link.begun->link(link, in_a_chain_ ? Begun::told | Begun::goes_on : Begun::told);
    if (in_a_chain_ && (marks & Begun::has_ended) == 0) later_.go_on_in_scope_of(*link.begun);
    if ((marks & Begun::has_ended) != 0) link.begun->tell_all(nullptr);
  }
  one_less(nullptr);
}

// Whoever of the two comes second, the one who adds a link or the one who ends the work, sees what the other did, and
// tells all that is there then; a link is told once, by whoever took it.
int Begun::link(LinkToLater& link, int marks) noexcept {
  link.next = links_.load(std::memory_order_relaxed);
  while (!links_.compare_exchange_weak(link.next, &link, std::memory_order_acq_rel, std::memory_order_relaxed)) {
  }
  return mark_.fetch_or(marks, std::memory_order_seq_cst);
}

void Begun::tell_all(Begun** next) noexcept {
  for (LinkToLater* link = links_.exchange(nullptr, std::memory_order_acq_rel); link != nullptr;) {
    LinkToLater* after = link->next;  // it may be gone once it has been told
    link->of->ended(*link, next);
    link = after;
  }
}

void Earlier::ended(LinkToLater& link, Begun** next) noexcept {
  Begun& later = later_;
  if (until_ == Until::first) {
    std::size_t seen = none;
    const auto k = static_cast<std::size_t>(&link - links_);
    if (first_.compare_exchange_strong(seen, k, std::memory_order_acq_rel)) one_less(next);
  } else {
    one_less(next);
  }
  later.let_go();
}

// Acquire and release: who hands it over has seen the end of all.
void Earlier::one_less(Begun** next) noexcept {
  if (left_.fetch_sub(1, std::memory_order_acq_rel) == 1) later_.begins_now(in_a_chain_ ? next : nullptr);
}

void Begun::begins_now(Begun** next) noexcept {
  TaskPool& pool = pool_;
  mark_.fetch_or(may_begin, std::memory_order_seq_cst);
  if (next != nullptr && *next == nullptr) {
    *next = this;
  } else {
    hand_over();
    pool.tell_continued();
  }
  pool.one_pending_less();
}

// The scope it has had so far was seen by nobody.
void Begun::go_on_in_scope_of(const Begun& before) noexcept {
  pool_.close_scope(scope_);
  scope_ = before.scope_;
  name_ = before.name_;
}

Begun* Earlier::take_out(std::size_t k) noexcept {
  const LockHeld held(lock_);
  return std::exchange(links_[k].begun, nullptr);
}

HeldBegun Earlier::hold(std::size_t k) noexcept {
  const LockHeld held(lock_);
  Begun* begun = links_[k].begun;
  if (begun != nullptr && !begun->ended()) return HeldBegun(begun);
  if (k == first_open_) ++first_open_;
  return HeldBegun();
}

std::size_t Earlier::first_open() noexcept {
  const LockHeld held(lock_);
  return first_open_;
}

HeldBegun::HeldBegun(Begun* begun) noexcept : begun_(begun) {
  if (begun != nullptr) begun->hold();
}
HeldBegun::~HeldBegun() {
  if (begun_ != nullptr) begun_->let_go();
}

// Waiting

// Where the chain that leads here begins, as far as it has come: work that may begin or has begun, or a place where
// several come together. Null when it has gone on meanwhile.
HeldBegun Begun::start_of_chain() noexcept {
  HeldBegun at(this);
  while (at && !at->begins() && at->earlier_->in_a_chain()) at = at->earlier_->hold(0);
  return at;
}

// What follows a place where several come together has one scope, and is waited for by that. What has not begun is done
// here, wherever it lies.
void Begun::wait() {
  if (ended()) return;
  if (!begins()) {
    if (const HeldBegun start = start_of_chain(); start && !start->begins()) start->earlier_->wait();
    do_some();
  } else if (!stack_nearly_full() && claim()) {
    return run_by_handle();
  }
  pool_.wait_for({nullptr, name_}, [this] { return ended(); });
}

// Of all: first whatever nobody is at; then what others do is waited for, and helped with.
void Earlier::wait() {
  if (until_ == Until::all) {
    for (std::size_t k = 0; k < size_; k = std::max(k + 1, first_open())) {
      while (!later_.begins() && later_.do_some()) {
      }
      if (const HeldBegun begun = hold(k)) begun->wait();
    }
    return;
  }
  // Whatever can be done of it is done; where others are at all of it, only what they do is waited for.
  constexpr double look_again_s = 0.01;
  while (!later_.begins()) {
    const std::uint32_t seen = later_.pool_.continued();
    const auto changed = [&] { return later_.begins() || later_.pool_.continued() != seen; };
    if (!later_.do_some()) later_.pool_.wait_at_most(look_again_s, changed);
  }
}

// Runs something that has not begun, this or what it comes after; false when there is none.
bool Begun::do_some() {
  if (stack_nearly_full()) return false;
  const HeldBegun start = start_of_chain();
  if (!start) return false;
  if (start->begins()) {
    if (!start->claim()) return false;
    start->run_by_handle();
    return true;
  }
  for (std::size_t k = start->earlier_->first_open(); k < start->earlier_->size(); ++k) {
    if (const HeldBegun begun = start->earlier_->hold(k); begun && begun->do_some()) return true;
  }
  return false;
}

bool Begun::wait_for(double limit_s) {
  return pool_.wait_at_most(limit_s, [this] { return ended(); });
}

bool Begun::ready() {
  if (ended()) return true;
  if (!begins()) {
    if (pool_.nobody_else_can()) do_some();
    return ended();
  }
  const bool begun = (mark_.load(std::memory_order_relaxed) & claimed) != 0;
  if (begun || stack_nearly_full() || !pool_.nobody_else_can() || !claim()) return ended();
  run_by_handle();
  return true;
}

// Dropping

void Begun::drop() noexcept {
  TaskWorker* caller = pool_.current_caller();
  if (caller == nullptr) return drop_for(*unwaited_.operator->(), dropped_for_nobody);
  drop_for(caller->dropped(), caller->dropped_name());
}

// The crew is there as long as the work has not ended, and its destructor waits for those who are in here: whoever
// comes in after it has looked sees that the work has ended.
void Begun::drop_for(Dropped& whom, DroppedFor name) noexcept {
  unwaited_->count.fetch_add(1, std::memory_order_relaxed);
  unwaited_->dropping.fetch_add(1, std::memory_order_seq_cst);
  if (ended()) {
    error ? whom.keep_error(error) : drop_result(whom, name);
  } else {
    dropped_for_ = &whom;
    dropped_name_ = name;
    // Marked before it is counted: whoever waits for it, and nobody else may be there to do it, finds it.
    mark_all_dropped(name);
    whom.open.fetch_add(1, std::memory_order_seq_cst);
    pool_.may_be_taken(scope_);
    if ((mark_.fetch_or(dropped, std::memory_order_seq_cst) & has_ended) != 0) {
      error ? whom.keep_error(error) : drop_result(whom, name);
      if (whom.open.fetch_sub(1, std::memory_order_seq_cst) == 1) pool_.ended({});
    }
  }
  unwaited_->dropping.fetch_sub(1, std::memory_order_seq_cst);
  let_go();
}

// With all that it comes after: a chain has one scope, where several come together each has its own.
void Begun::mark_all_dropped(DroppedFor name) noexcept {
  mark_dropped(*scope_, name_.life, name);
  const HeldBegun start = start_of_chain();
  if (!start || start->begins() || stack_nearly_full()) return;
  for (std::size_t k = 0; k < start->earlier_->size(); ++k) {
    if (const HeldBegun begun = start->earlier_->hold(k)) {
      begun->mark_all_dropped(name);
      begun->pool_.may_be_taken(begun->scope_);
    }
  }
}

}  // namespace antcrew::internal
