// Looking for races: every variant is tried untimed, with random delays at the borders of pieces, random worker counts
// and a process that gets in the way, and every answer is compared.
//
//   RaceReport report = find_races(tides);
//   if (!report.faults.empty()) …
//
// Finding nothing proves nothing; finding something does.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/plan.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

struct RaceFault {
  std::string variant;  // name (crew)
  int workers = 1;
  record_layer::Point point;
  std::string text;  // what was seen, in words
  int seen = 1;      // in so many trials
};

struct RaceReport {
  std::string title;
  std::uint64_t seed = 0;
  int variants = 0;
  int trials = 0;
  std::vector<RaceFault> faults;
};

// plan.rounds trials of each variant at each point with each of a few random worker counts (0 = 20), within
// plan.budget_s. Throws Error as run() does.
RaceReport find_races(const StudyBase& study, const Plan& plan = {}, const std::function<bool()>& stop = {});

using JostleReport [[deprecated("write RaceReport")]] = RaceReport;
using JostleFault [[deprecated("write RaceFault")]] = RaceFault;
[[deprecated("write find_races")]] inline RaceReport jostle(const StudyBase& study, const Plan& plan = {},
                                                            const std::function<bool()>& stop = {}) {
  return find_races(study, plan, stop);
}

}  // namespace antcrew
