// Where the time of commands goes: samples at all threads of all their processes.
#include <algorithm>
#include <atomic>

#include "antcrew/machine/clock.hpp"
#include "antcrew/study/sampler.hpp"
#include "antcrew/study/visit_faults.hpp"
#include "antcrew/sweep/commands_host.hpp"

namespace antcrew::sweep_layer {
namespace {

using internal::LaneState;
using internal::LaneSums;

// One lane that works alone: a look from outside would tell no more.
LaneSums of_one_worker(const internal::Ended& ended) {
  LaneSums sums;
  sums.wall_s = ended.wall_s;
  sums.lanes = 1;
  sums.cpu_tree_s = ended.user_s + ended.system_s;
  sums.system_s = ended.system_s;
  sums.serial_cpu_s = sums.cpu_frames_s = sums.cpu_kernel_s = std::min(sums.cpu_tree_s, ended.wall_s);
  sums.parts_s[LaneState::running] = sums.serial_cpu_s;
  sums.parts_s[LaneState::blocked] = ended.wall_s - sums.serial_cpu_s;
  return sums;
}

}  // namespace

Visit CommandsHost::meter(std::size_t index, int calls, bool /*one_worker*/) {
  constexpr double longest_s = 1;        // of a group
  constexpr double least_moments = 140;  // what all lanes do at one moment is one look, so to speak
  const CellSpec& cell = cells_[index];
  Visit visit;
  if (with_launcher(cell)) return visit;  // its first visit has told why
  std::atomic<std::int64_t> call{0};
  std::atomic<std::int64_t> looks{0};
  std::unique_ptr<internal::Sampler> sampler;
  std::vector<LaneSums> groups;
  for (int group = 0; group < calls; ++group) {
    const double enough = std::max(least_moments, internal::enough_looks / cell.workers);
    const std::int64_t began = now_ns();
    const std::int64_t looks_before = looks.load();
    LaneSums sums;
    sums.lanes = cell.workers;
    std::int64_t number = 0;
    do {
      ++number;
      const internal::Trials::Looking looking{[&](pid_t process) {
                                                if (cell.workers < 2) return;
                                                if (!sampler) {
                                                  sampler = std::make_unique<internal::Sampler>(process, call, looks);
                                                } else {
                                                  sampler->watch(process);
                                                }
                                                call.store(group * internal::calls_of_a_group + number);
                                              },
                                              [&] { return sampler ? sampler->look() : 0.05; }};
      internal::TrialRun trial = run(cell, 0, &looking);
      call.store(0);
      if (trial.fault) {
        if (sampler) sampler->stop();
        visit.seen.metered = {internal::not_metered(*trial.fault)};
        return visit;
      }
      if (cell.workers < 2) {
        sums = of_one_worker(trial.ended);
        break;
      }
      sums.wall_s += trial.ended.wall_s;
      sums.cpu_tree_s += trial.ended.user_s + trial.ended.system_s;
      sums.system_s += trial.ended.system_s;
    } while (static_cast<double>(looks.load() - looks_before) < enough && seconds_since(began) < longest_s);
    for (double* mean : {&sums.wall_s, &sums.cpu_tree_s, &sums.system_s})
      *mean /= cell.workers < 2 ? 1 : static_cast<double>(number);
    groups.push_back(std::move(sums));
  }
  if (sampler) {
    sampler->stop();
    sampler->fill(groups);
  }
  visit.seen.metered = std::move(groups);
  return visit;
}

}  // namespace antcrew::sweep_layer
