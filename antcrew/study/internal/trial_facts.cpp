#include "antcrew/study/internal/trial_facts.hpp"

#include <algorithm>

#include "antcrew/machine/processors.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {

void add_usage(Usage& sum, const Usage& more) {
  sum.user_s += more.user_s;
  sum.system_s += more.system_s;
  sum.caller_s += more.caller_s;
  sum.run_delay_s += more.run_delay_s;
  sum.ended_threads_cpu_s += more.ended_threads_cpu_s;
  sum.switches_voluntary += more.switches_voluntary;
  sum.switches_forced += more.switches_forced;
  sum.faults_minor += more.faults_minor;
  sum.faults_major += more.faults_major;
}

void keep_usage(Trial& trial, const Usage& used) {
  const double calls = static_cast<double>(trial.calls);
  trial.user_s = used.user_s / calls;
  trial.system_s = used.system_s / calls;
  trial.others_cpu_s = std::max(0.0, used.cpu_s() - used.caller_s) / calls;
  if (used.run_delay_known()) trial.run_delay_s = used.run_delay_s / calls;
  trial.switches_voluntary = used.switches_voluntary;
  trial.switches_forced = used.switches_forced;
  trial.faults_minor = used.faults_minor;
  trial.faults_major = used.faults_major;
}

void keep_peak(Trial& trial, std::uint64_t peak_bytes, std::uint64_t kept_bytes) {
  if (peak_bytes > 0) trial.peak_bytes = peak_bytes - std::min(kept_bytes, peak_bytes / 2);
}

void keep_leftover(Trial& trial, const Leftover& left) {
  trial.tail_s = std::max(trial.tail_s, left.went_on_s);
  trial.tail_cpu_s = std::max(trial.tail_cpu_s, left.cpu_s);
}

void note_processor(Trial& trial) {
  if (const int here = current_processor(); here >= 0) trial.processor = here;
}

void keep_journal(Trial& trial, const Journal& journal) {
  for (const auto& [name, phase] : journal.phases())
    trial.phases[name] = {phase.seconds, phase.count, phase.wall_s, phase.at_once};
  trial.counters = journal.counters();
  trial.quantities = journal.quantities();
  if (journal.lost() > 0) trial.quantities["phases not logged"] = static_cast<double>(journal.lost());
}

}  // namespace antcrew::internal
