#include "antcrew/crew/watch.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"
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

Watch::Logged::Logged(int workers) {
  if (internal::open_lanes.load(std::memory_order_relaxed) != nullptr || internal::lane_here != nullptr) {
    could_not_run("watch.busy", "Watch::ledger", "another log of what workers do is open",
                  "take one at a time, and none inside a study");
  }
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

Watch::Watch(internal::MeterSwitch& meter, int workers)
    : switch_(meter), meter_(meter.turn_on(workers)), start_ns_(now_ns()), before_(all()) {}

Watch::~Watch() {
  switch_.turn_off();
}

CrewLog Watch::all() const {
  CrewLog log;
  log.watched_s = seconds(now_ns() - start_ns_);
  log.calls = meter_.calls.get();
  log.calls_s = seconds(meter_.calls_ns.get());
  for (int k = 0; k < meter_.lane_count; ++k) {
    const internal::BusyLane& lane = meter_.lanes[static_cast<std::size_t>(k)];
    log.workers.push_back(
        {seconds(lane.busy_ns.get()), seconds(lane.cpu_ns.get()), lane.pieces.get(), lane.stolen.get()});
  }
  return log;
}

CrewLog Watch::log() const {
  CrewLog log = all();
  log.calls -= before_.calls;
  log.calls_s -= before_.calls_s;
  for (std::size_t k = 0; k < log.workers.size(); ++k) {
    log.workers[k].busy_s -= before_.workers[k].busy_s;
    log.workers[k].cpu_s -= before_.workers[k].cpu_s;
    log.workers[k].pieces -= before_.workers[k].pieces;
    log.workers[k].stolen -= before_.workers[k].stolen;
  }
  return log;
}

}  // namespace antcrew
