#include "antcrew/log/log_costs.hpp"

#include "antcrew/log/lane_book.hpp"
#include "antcrew/machine/run_delay.hpp"

namespace antcrew::internal {

double metering_of(const LaneLog& log) {
  const LogCosts& costs = log_costs();
  double holds = 0;
  for (const LaneLock& lock : log.locks) holds += static_cast<double>(lock.timed_holds);
  return 2 * holds * costs.cpu_reading_s + static_cast<double>(log.events) * costs.event_s +
         static_cast<double>(log.cpu_readings) * costs.cpu_reading_s +
         static_cast<double>(log.delay_readings) * costs.delay_reading_s +
         static_cast<double>(log.forks_told) * costs.fork_told_s;
}

const LogCosts& log_costs() {
  static const LogCosts costs = [] {
    constexpr int times = 2000;
    LogCosts measured;
    LaneBook* book = LaneBook::create(1);
    book->open();
    Lane& lane = book->lane(0);
    for (int k = 0; k < times; ++k) lane.border(now_ns());
    std::int64_t start = now_ns();
    for (int k = 0; k < times; ++k) lane.border(now_ns());
    const double borders_s = seconds_since(start);
    start = now_ns();
    for (int k = 0; k < times; ++k) thread_cpu_ns();
    measured.cpu_reading_s = seconds_since(start) / times;
    start = now_ns();
    for (int k = 0; k < times / 20; ++k) run_delay_ns();
    measured.delay_reading_s = seconds_since(start) / (times / 20);
    start = now_ns();
    for (int k = 0; k < times; ++k) now_ns();
    measured.fork_told_s = 7 * seconds_since(start) / times;
    book->close();
    LaneBook* before = newest_lanes.load(std::memory_order_relaxed);
    LaneBook::destroy(book);
    if (before != book) newest_lanes.store(before, std::memory_order_relaxed);
    measured.event_s = borders_s / times;
    return measured;
  }();
  return costs;
}

}  // namespace antcrew::internal
