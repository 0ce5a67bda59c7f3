// What is said of the build, the machine and the run, of first calls and of probes.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/internal/words.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::string none(const Finding&) {
  return {};
}

bool has(const Finding& f, FigureName name) {
  return f.figures.has(name);
}

std::string plural(const Finding& f, FigureName name, const char* word) {
  return fmt::format("{} {}{}", count(f, name), word, figure(f, name) == 1 ? "" : "s");
}

std::string effect_on_intervals(const Finding& f) {
  if (figure(f, "intervals") <= 0) return "no interval can be claimed";
  const double asked = figure(f, "asked_width") * 100;
  if (figure(f, "wide_intervals") <= 0) return fmt::format("all intervals are within ±{:.0f} % nevertheless", asked);
  return fmt::format("{} of {} intervals are wider than ±{:.0f} %, the widest ±{:.0f} %", count(f, "wide_intervals"),
                     count(f, "intervals"), asked, figure(f, "widest") * 100);
}

std::string memory_claim(const Finding& f) {
  const auto bytes = [&](FigureName name) { return bytes_text(static_cast<std::uint64_t>(figure(f, name))); };
  std::string each = bytes("bytes_per_worker") + " a worker";
  if (has(f, "most_bytes_per_worker"))
    each += fmt::format(" ({} to {} between its worker counts)", bytes("least_bytes_per_worker"),
                        bytes("most_bytes_per_worker"));
  return fmt::format("memory grows by {}, to {} where the baseline takes {}: more than about {} workers would not fit",
                     each, bytes("bytes"), bytes("baseline_bytes"), count(f, "fits_workers"));
}

std::string noise_claim(const Finding& f) {
  std::vector<std::string> causes;
  if (has(f, "another_study")) causes.push_back("another study ran at the same time");
  if (has(f, "other_processors"))
    causes.push_back(fmt::format("other programs kept {:.2f} processors busy", figure(f, "other_processors")));
  if (has(f, "busy_before"))
    causes.push_back(fmt::format("{:.2f} processors were busy before it began", figure(f, "busy_before")));
  if (has(f, "steal_share"))
    causes.push_back(fmt::format("the hypervisor took {:.1f} % of one processor", figure(f, "steal_share") * 100));
  if (has(f, "throttled_s"))
    causes.push_back(fmt::format("the CPU quota held it back for {:.1f} s", figure(f, "throttled_s")));
  if (has(f, "waiting_share"))
    causes.push_back(
        fmt::format("threads waited to run for {:.0f} % of the timed wall time", figure(f, "waiting_share") * 100));
  if (causes.empty()) return "the figures are too noisy to tell";
  return fmt::format("the machine was not idle: {}; {}", fmt::join(causes, ", "), effect_on_intervals(f));
}

// Names of figures that begin so, with what stands after it.
std::string by_rank(const Finding& f, const std::string& begin, const char* form) {
  std::string text;
  for (const auto& [name, value] : f.figures) {
    if (name.rfind(begin, 0) != 0) continue;
    text += text.empty() ? "" : ", ";
    text += fmt::format(fmt::runtime(form), std::lround(value), name.substr(begin.size()));
  }
  return text;
}

std::string kinds_claim(const Finding& f) {
  std::string text = fmt::format("processors of different kinds ({}): more workers may mean slower ones",
                                 by_rank(f, "processors_of_rank_", "{} of rank {}"));
  const std::string ran = by_rank(f, "baseline_trials_on_rank_", "{} on rank {}");
  return ran.empty() ? text : text + "; the baseline ran " + ran + " (trials)";
}

const Words machine_words[] = {
    {"sanitizer",
     [](const Finding& f) {
       return fmt::format(
           "the study program was built with a sanitizer ({}): these times say nothing about a real build",
           printable(f.name, 60));
     },
     [](const Finding&) { return std::string("build it without, to measure"); }},
    {"unoptimised",
     [](const Finding&) {
       return std::string(
           "the study program was built without optimisation: these times say nothing about a real build");
     },
     [](const Finding&) { return std::string("build it with -O2 or -DCMAKE_BUILD_TYPE=Release"); }},
    {"unoptimised-library",
     [](const Finding&) {
       return std::string("Ant Crew itself was built without optimisation: the crews are slower than they should be");
     },
     [](const Finding&) { return std::string("build Ant Crew with -DCMAKE_BUILD_TYPE=Release"); }},
    {"noise", noise_claim,
     [](const Finding&) { return std::string("measure on an idle machine, or with a larger --budget"); }},
    {"more-workers-than-processors",
     [](const Finding& f) {
       return fmt::format(
           "some cells have more workers than the {}: their workers take turns, which pays only for work that waits",
           plural(f, "processors", "usable processor"));
     },
     none},
    {"shared-cores",
     [](const Finding& f) {
       if (has(f, "workers"))
         return fmt::format("{} workers on {} share their units, and bring less than as many cores",
                            count(f, "workers"), plural(f, "cores", "physical core"));
       return fmt::format("some cells have more workers than the {}: two workers on one core share its execution units",
                          plural(f, "cores", "physical core"));
     },
     none},
    {"slow-governor",
     [](const Finding& f) {
       return fmt::format(
           "the frequency governor is '{}': short calls may run before the processor has sped up, and load on one "
           "processor may slow another",
           printable(f.name, 40));
     },
     [](const Finding&) { return std::string("set the governor to 'performance' while measuring"); }},
    {"coarse-clock",
     [](const Finding& f) {
       return fmt::format("this machine's clock goes in steps of {}, and as little as {} is timed in one go",
                          seconds(f, "step_s"), seconds(f, "timed_s"));
     },
     [](const Finding&) {
       return std::string(
           "measure larger inputs, or let the system use another clock (antcrew machine shows its steps)");
     }},
    {"prints-in-the-clock",
     [](const Finding& f) {
       return fmt::format(
           "output is included in the measured time, {} per call; it begins \"{}\" (--pass-output shows it)",
           bytes_text(static_cast<std::uint64_t>(figure(f, "bytes"))), printable(f.name, 60));
     },
     none},
    {"not-pinned", [](const Finding&) { return std::string("the system did not pin every worker as asked"); }, none},
    {"throttled",
     [](const Finding& f) {
       if (!has(f, "held_trials")) return fmt::format("a quota stopped it for {} a visit", seconds(f, "throttled_s"));
       return fmt::format(
           "the CPU quota of {:.2f} processors held back {} of {} trials; batches lasted several of its periods, so "
           "these are the times that last",
           figure(f, "quota_processors"), count(f, "held_trials"), count(f, "trials"));
     },
     [](const Finding&) { return std::string("raise the quota, or measure elsewhere"); }},
    {"own-noise",
     [](const Finding& f) {
       return fmt::format(
           "noise of the study's own making: processes of it that were not on trial kept {:.2f} processors busy",
           figure(f, "processors"));
     },
     none},
    {"took-turns",
     [](const Finding& f) {
       return fmt::format(
           "in {} of {} trials two of its workers were on one processor while another was free; these are among its "
           "figures",
           count(f, "shared_trials"), count(f, "trials"));
     },
     [](const Finding&) { return std::string("pin the workers apart (Pin::apart)"); }},
    {"two-speeds",
     [](const Finding& f) {
       return fmt::format(
           "bimodal timings: about {} in {} trials and about {} in {}; ratios pair trials that are close in time, "
           "but look for what comes and goes",
           seconds(f, "fast_s"), count(f, "fast_trials"), seconds(f, "slow_s"), count(f, "slow_trials"));
     },
     none},
    {"unlike-processors", kinds_claim,
     [](const Finding&) { return std::string("measure each kind alone, with taskset"); }},
    {"dropped-trials",
     [](const Finding& f) {
       return fmt::format("{} trials were dropped: the machine slept during {}, the run was stopped during {}",
                          std::lround(figure(f, "asleep") + figure(f, "paused")), count(f, "asleep"),
                          count(f, "paused"));
     },
     none},
    {"probe",
     [](const Finding& f) {
       const double part = figure(f, "part_s");
       if (f.sure == Finding::Sure::open)
         return fmt::format(
             "without the part that '{}' leaves out it takes as long, as far as can be told: the part "
             "takes {} at most",
             printable(f.name, 60), duration_text(std::max(0.0, figure(f, "part_high_s"))));
       return fmt::format("the part that '{}' leaves out takes {} ({} to {}), {} of a call", printable(f.name, 60),
                          duration_text(part), seconds(f, "part_low_s"), seconds(f, "part_high_s"),
                          percent_text(figure(f, "part_share")));
     },
     [](const Finding&) { return std::string(); }},
    {"cold-first-call",
     [](const Finding& f) {
       return fmt::format("its first call has speedup {:.2g} only, {:.2g} in steady state: it takes {} longer",
                          figure(f, "first_speedup"), figure(f, "speedup"), seconds(f, "cold_cost_s"));
     },
     [](const Finding&) { return std::string("keep the crew and its buffers for the next call"); }},
    {"rare-long-calls",
     [](const Finding& f) {
       return fmt::format("occasional outliers: speedup {:.3g} by the mean of its calls, {:.3g} by their median",
                          figure(f, "speedup_by_means"), figure(f, "speedup"));
     },
     none},
    {"cache-step",
     [](const Finding& f) {
       return fmt::format(
           "an item takes {:.2f} times as long as at size {}: the input, {} there and {} here, no longer fits the {} "
           "of "
           "a level {} cache",
           figure(f, "ratio"), count(f, "from_size"), bytes_text(static_cast<std::uint64_t>(figure(f, "from_bytes"))),
           bytes_text(static_cast<std::uint64_t>(figure(f, "to_bytes"))),
           bytes_text(static_cast<std::uint64_t>(figure(f, "cache_bytes"))), count(f, "level"));
     },
     [](const Finding&) { return std::string("work in tiles that fit, or use smaller types"); }},
    {"too-few-rounds", [](const Finding&) { return std::string("there were too few rounds for an interval"); },
     [](const Finding&) { return std::string("give it a larger --budget, or resume it with --resume"); }},
    {"memory-grows", memory_claim, [](const Finding&) { return std::string("share what all workers only read"); }},
    {"fresh-memory",
     [](const Finding& f) {
       std::string text =
           fmt::format("the kernel takes {} of a call, {} in the baseline: mostly fresh memory being made ready",
                       seconds(f, "system_s"), seconds(f, "baseline_system_s"));
       if (figure(f, "page_fault_s") > 0)
         text += fmt::format(", {} page fault{} of some {} each", count(f, "page_faults"),
                             figure(f, "page_faults") == 1 ? "" : "s", seconds(f, "page_fault_s"));
       return text;
     },
     [](const Finding&) { return std::string("use buffers again instead of making new ones in every call or piece"); }},
    {"kernel-time",
     [](const Finding& f) {
       return fmt::format(
           "the kernel takes {} of a call, {} in the baseline, and {} page fault{} of fresh memory do not explain that",
           seconds(f, "system_s"), seconds(f, "baseline_system_s"), count(f, "page_faults"),
           figure(f, "page_faults") == 1 ? "" : "s");
     },
     [](const Finding&) {
       return std::string(
           "ask the kernel less often: larger reads and writes, threads that are kept, fewer sleeps and wake-ups");
     }},
    {"many-small-losses",
     [](const Finding& f) {
       return fmt::format("{} losses under 5 % each: {}", count(f, "losses"), printable(f.name, 300));
     },
     [](const Finding&) {
       return std::string("begin with the largest of them; no single one is worth much (--as json has each)");
     }},
    {"waits-can-overlap",
     [](const Finding& f) {
       return fmt::format(
           "{} of its workers' time is waiting, as the baseline's is, and waits need no processor: with {} workers, "
           "more "
           "than there are processors, speedup {:.2g} can be had if the waits overlap as these do",
           percent_text(figure(f, "waiting_share")), count(f, "more_workers"), figure(f, "speedup"));
     },
     [](const Finding& f) { return fmt::format("measure it with --workers {}", count(f, "more_workers")); }},
    {"nothing-wrong",
     [](const Finding& f) {
       if (has(f, "small_losses_share"))
         return "no loss of 5 % or more by itself; smaller ones take " + percent_text(figure(f, "small_losses_share")) +
                " of its workers' time together";
       return std::string("no loss of 5 % or more: its workers are busy with what the baseline does, too");
     },
     none},
    {"ended-early",
     [](const Finding&) { return std::string("the run was ended early: this is what was measured until then"); },
     [](const Finding&) { return std::string("resume it with --resume"); }},
    {"left-for-a-moment",
     [](const Finding& f) {
       return fmt::format("processes that it began ended {} after it, by themselves", seconds(f, "tail_s"));
     },
     [](const Finding&) { return std::string("wait for all of them in the command, so that nothing goes on unseen"); }},
    {"busy-afterwards",
     [](const Finding& f) {
       return fmt::format(
           "other threads of it stay busy for {} after a call; the same at every size, so they spin rather than work",
           seconds(f, "tail_s"));
     },
     none},
};

}  // namespace

double figure(const Finding& f, FigureName name) {
  return f.figures.get(name);
}

std::string seconds(const Finding& f, FigureName name) {
  return figure(f, name) != 0 ? duration_text(figure(f, name)) : "nothing";
}

std::string count(const Finding& f, FigureName name) {
  return count_text(static_cast<std::uint64_t>(std::llround(std::max(0.0, figure(f, name)))));
}

const Words* words_on_machine(const std::string& id) {
  const auto* found = std::find_if(std::begin(machine_words), std::end(machine_words),
                                   [&](const Words& words) { return id == words.id; });
  return found == std::end(machine_words) ? nullptr : found;
}

}  // namespace antcrew::internal
