#include "antcrew/crew/stage_help.hpp"

#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew::internal {
namespace {

struct ToldWait {
  Frame frame(const Lane*) const { return told.frame(); }
  void rests(Lane*) const { told.rests(); }
  void rested(Lane* lane) const { told.rested(*lane); }
  StageHelp::Told& told;
};

}  // namespace

StageHelp::~StageHelp() {
  // In a forked child: another thread may have held the lock of the scopes.
  if (scope_ != nullptr && !pool_->inherited()) pool_->close_scope(scope_);
}

void StageHelp::open() noexcept {
  if (pool_ == nullptr || pool_->workers() == 1) return;
  if (TaskWorker* worker = pool_->current_worker()) scope_ = worker->open_scope(worker->scope());
}

void StageHelp::wait_until(const std::atomic<bool>& word, Told* told) const {
  TaskWorker& worker = *pool_->current_worker();
  const Wanted wanted{nullptr, scope_->name()};
  const auto done = [&word] { return word.load(std::memory_order_seq_cst); };
  told == nullptr ? worker.work_until(wanted, done) : worker.work_until(wanted, done, ToldWait{*told});
}

void StageHelp::wake_one() const noexcept {
  pool_->wake_for(scope_->name());
}
void StageHelp::wake_all() const noexcept {
  pool_->ended(scope_->name());
}

StageHelp::Step::Step(const StageHelp& help) noexcept
    : worker_(help.is_open() ? help.pool_->current_worker() : nullptr) {
  if (worker_ != nullptr) before_ = worker_->change_scope(help.scope_);
}
StageHelp::Step::~Step() {
  if (worker_ != nullptr) worker_->change_scope(before_);
}

}  // namespace antcrew::internal
