#include "antcrew/ranks/internal/rank_log.hpp"

#include <sys/resource.h>

#include <utility>

#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {
namespace {

struct ProcessTime {
  double cpu_s = 0;
  double system_s = 0;
};
ProcessTime used_by_process() noexcept {
  rusage used{};
  ::getrusage(RUSAGE_SELF, &used);
  const auto seconds = [](const timeval& time) {
    return static_cast<double>(time.tv_sec) + static_cast<double>(time.tv_usec) * 1e-6;
  };
  const double system_s = seconds(used.ru_stime);
  return {seconds(used.ru_utime) + system_s, system_s};
}

}  // namespace

SentLog::SentLog(std::size_t bytes, int to_ranks) {
  if (bytes == 0 || to_ranks == 0) return;
  at_.emplace(Doing::moving);
  phase_.emplace(taking_data);
  Work sent(bytes_moved);
  sent.add(bytes * static_cast<std::size_t>(to_ranks));
}

TakenLog::TakenLog(std::size_t bytes, std::int64_t moving_ns)
    : bytes_(bytes), moving_ns_(moving_ns), begun_ns_(now_ns()) {
  if (bytes == 0) return;
  at_.emplace(Doing::moving);
  phase_.emplace(taking_data);
}
TakenLog::~TakenLog() {
  Journal* journal = open_journal.load(std::memory_order_relaxed);
  if (journal == nullptr || bytes_ + static_cast<std::size_t>(moving_ns_) == 0) return;
  const std::int64_t now = now_ns();
  journal->log(moving_data, now - moving_ns_ - (bytes_ > 0 ? now - begun_ns_ : 0), now);
  if (bytes_ > 0) journal->count(bytes_moved, bytes_);
}

void RankLog::open() {
  if (book_ == nullptr) book_ = LaneBook::create(1);
  if (std::exchange(open_, true)) book_->close();  // a call before did not come to its end
  const ProcessTime used = used_by_process();
  cpu_before_s_ = used.cpu_s;
  system_before_s_ = used.system_s;
  book_->open();
  if (current_lane != nullptr) current_lane->is_rather({Doing::away, Shortage::none, 0, nullptr, nullptr});
}

void RankLog::close() noexcept {
  if (!std::exchange(open_, false)) return;
  book_->close();
  const ProcessTime used = used_by_process();
  cpu_s_ = used.cpu_s - cpu_before_s_;
  system_s_ = used.system_s - system_before_s_;
}

RankLane RankLog::lane(std::vector<Stretch>& stretches) {
  LaneLog log = book_ == nullptr ? LaneLog() : book_->log();
  RankLane lane;
  lane.begin_ns = log.begin_ns;
  lane.cpu_at_begin_ns = log.cpu_at_begin_ns;
  lane.delay_at_begin_ns = log.delay_at_begin_ns;
  lane.kernel_cpu_ns = log.kernel_cpu_ns.empty() ? -1 : log.kernel_cpu_ns.front();
  lane.events = log.events;
  lane.cpu_readings = log.cpu_readings;
  lane.delay_readings = log.delay_readings;
  lane.lost = log.lost;
  lane.calls_outside = log.calls_outside;
  lane.cpu_s = cpu_s_;
  lane.system_s = system_s_;
  lane.unfinished = log.unfinished || book_ == nullptr;
  if (!log.lanes.empty()) stretches = std::move(log.lanes.front());
  // What points to this process's memory means nothing elsewhere.
  for (Stretch& stretch : stretches) {
    stretch.phase = nullptr;
    if (stretch.doing != Doing::message) stretch.about = nullptr;
  }
  return lane;
}

void add_rank(LaneLog& log, int rank, const RankLane& lane, std::vector<Stretch> stretches, std::int64_t ahead_ns) {
  for (Stretch& stretch : stretches) {
    stretch.end_ns -= ahead_ns;
    if (stretch.called_ns != 0) stretch.called_ns -= ahead_ns;
  }
  const auto at = static_cast<std::size_t>(rank);
  if (log.lanes.size() <= at) log.lanes.resize(at + 1);
  for (auto* times : {&log.kernel_cpu_ns, &log.cpu_before_ns, &log.delay_before_ns}) {
    if (times->size() < log.lanes.size()) times->resize(log.lanes.size(), -1);
  }
  log.lanes[at] = std::move(stretches);
  log.kernel_cpu_ns[at] = lane.kernel_cpu_ns;
  log.cpu_before_ns[at] = lane.cpu_at_begin_ns;
  log.delay_before_ns[at] = lane.delay_at_begin_ns;
  log.events += lane.events;
  log.cpu_readings += lane.cpu_readings;
  log.delay_readings += lane.delay_readings;
  log.lost += lane.lost;
  log.calls_outside += lane.calls_outside;
  log.unfinished = log.unfinished || lane.unfinished;
}

}  // namespace antcrew::internal
