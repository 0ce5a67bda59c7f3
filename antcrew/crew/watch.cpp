#include "antcrew/crew/watch.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/log/log_costs.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew {

using namespace base_layer;
namespace {

double seconds(std::int64_t ns) noexcept {
  return static_cast<double>(ns) * 1e-9;
}

}  // namespace

double CrewLog::idle_s() const noexcept {
  double busy = 0;
  for (const Worker& worker : workers) busy += worker.busy_s;
  return std::max(0.0, calls_s * static_cast<double>(workers.size()) - busy);
}

double CrewLog::utilisation() const noexcept {
  const double all = calls_s * static_cast<double>(workers.size());
  return all > 0 ? std::min(1.0, (all - idle_s()) / all) : 0;
}

namespace {

void refuse_second(const char* where) {
  if (internal::open_lanes.load(std::memory_order_relaxed) != nullptr || internal::current_lane != nullptr) {
    could_not_run("watch.busy", where, "another log of what workers do is open",
                  "take one at a time, and none inside a study");
  }
}

}  // namespace

// Only the one that this watch keeps open may be closed meanwhile.
Watch::Paused::Paused(internal::LaneBook& book) : book_(book) {
  if (internal::open_lanes.load(std::memory_order_relaxed) != &book) refuse_second("Watch::ledger");
  book_.close();
}

Watch::Paused::~Paused() {
  book_.open();
}

Watch::Logged::Logged(int workers) {
  internal::log_costs();
  book_ = internal::LaneBook::create(workers);
  cpu_before_s_ = seconds(process_cpu_ns());
  book_->open();
}

Watch::Logged::~Logged() {
  if (internal::open_lanes.load(std::memory_order_relaxed) == book_) book_->close();
  internal::LaneBook::destroy(book_);
}

internal::LaneSums Watch::Logged::sums() const {
  book_->close();
  const double cpu_s = seconds(process_cpu_ns()) - cpu_before_s_;
  const internal::LaneLog log = book_->log();
  internal::LaneSums sums = internal::sums_of(log);
  sums.metering_s = std::min(internal::metering_of(log), sums.lane_seconds());
  sums.cpu_tree_s = cpu_s;
  return sums;
}

Watch::Watch(int workers) : book_((refuse_second("Watch"), internal::LaneBook::create(workers, 0, false))) {
  start_ns_ = now_ns();
  book_->open();
}

Watch::~Watch() {
  if (internal::open_lanes.load(std::memory_order_relaxed) == book_) book_->close();
  internal::LaneBook::destroy(book_);
}

CrewLog Watch::log() const {
  CrewLog log;
  log.watched_s = seconds(now_ns() - start_ns_);
  log.calls = book_->calls();
  log.calls_s = seconds(book_->calls_ns());
  for (int k = 0; k < book_->lanes(); ++k) {
    const internal::LaneTotals& its = book_->lane(k).totals();
    log.workers.push_back({seconds(its.busy_ns.get()), seconds(its.cpu_ns.get()), its.pieces.get(), its.stolen.get()});
  }
  return log;
}

}  // namespace antcrew
