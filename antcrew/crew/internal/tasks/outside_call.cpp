#include "antcrew/crew/internal/tasks/outside_call.hpp"

#include <exception>

#include "antcrew/crew/internal/tasks/critical_path.hpp"
#include "antcrew/crew/internal/tasks/task_pool.hpp"

namespace antcrew::internal {

OutsideCall::OutsideCall(TaskPool& pool, Sharing sharing, std::size_t n)
    : pool_((pool.note_caller(), pool)),
      region_(n, sharing, pool.workers(), "TaskCrew"),
      body_({Doing::body, Shortage::none, region_.number(), nullptr, nullptr},
            region_.book() == nullptr ? nullptr : current_lane),
      worker_(pool.claim_caller(place_)),
      frame_(worker_),
      as_(0, worker_),
      pin_(place_ == 0 ? pool.threads_.pin_of_caller() : -1),
      path_told_(region_.book() != nullptr && pool.workers() > 1 &&
                 (sharing == Sharing::forks || sharing == Sharing::graph)) {
  if (worker_ != nullptr) {
    worker_->usual = !worker_->alone && current_lane == nullptr;
    worker_->begin_call();
  }
  if (path_told_) current_path.go_on(0);
}

OutsideCall::~OutsideCall() {
  if (worker_ == nullptr) return;
  if (!finished_) pool_.finish_call(*worker_);
  worker_->dropped().take_error();  // of a call that throws already
  worker_->end_call();
  pool_.callers_now_.fetch_sub(1, std::memory_order_seq_cst);
  pool_.calling_[place_].store(false, std::memory_order_release);
}

void OutsideCall::finish() {
  pool_.finish_call(*worker_);
  if (path_told_) [[unlikely]]
    region_.book()->add_path(current_path.now());
  finished_ = true;
  if (const std::exception_ptr error = worker_->dropped().take_error()) std::rethrow_exception(error);
}

}  // namespace antcrew::internal
