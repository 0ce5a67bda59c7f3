#include "antcrew/crew/watch.hpp"

#include <algorithm>

namespace antcrew {
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
