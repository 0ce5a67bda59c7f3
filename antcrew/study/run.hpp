// Running a study without a command line.
//
//   auto record = run(tides);
//   auto record = run(tides, Plan{.workers = {1, 2}, .budget_s = 10});
//
// Nothing is printed. Called from a program that has one thread; the study must not change meanwhile.
#pragma once

#include <functional>
#include <string>

#include "antcrew/record/record.hpp"
#include "antcrew/record/step.hpp"
#include "antcrew/study/build.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/plan.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

namespace study_layer {

struct Progress {
  double share = 0;  // of the run, 0 to 1, as far as it can be foreseen
  double elapsed_s = 0;
  double left_s = 0;      // at this pace
  std::size_t point = 0;  // index into the record's points
  std::string variant;    // the cell about to be tried
  int workers = 1;
};

}  // namespace study_layer

// What a caller wants to hear of a run. All are called from the thread that called run(), between trials.
struct RunHooks {
  std::function<void(const study_layer::Progress&)> on_visit = {};
  std::function<void(const record_layer::Record&)> on_begin = {};     // the record before the first trial of this run
  std::function<void(const record_layer::RecordStep&)> on_step = {};  // what was added to it since, bit by bit
  std::function<void(const record_layer::Record&)> on_round = {};     // the record as it is after each round
  std::function<void(const std::string&)> on_note = {};      // something to know while it runs, in one sentence
  std::function<void(const std::string&)> on_left_out = {};  // what there is no time for: the record has it, too
  std::function<bool()> stop = {};                           // true ends the run; the visit in flight is dropped
};

// Throws Error for a study or plan that cannot be run; what goes wrong in a cell is a fault in the record instead.
record_layer::Record run(const StudyBase& study, const Plan& plan = {}, const RunHooks& hooks = {},
                         const FileBuild& build = build_of_this_file());

// Goes on with a record: the visits it has are kept, also those of a round that was not finished. Parts of the grid
// that its plan gave and this one leaves open are taken from it. Throws Error (study.changed), naming what changed,
// when title, variants, grid, machine or build are not those of the record. With plan.again only the named variant may
// have changed: it gets a new attempt beside the old ones.
record_layer::Record run_on(const StudyBase& study, const record_layer::Record& begun, const Plan& plan = {},
                            const RunHooks& hooks = {}, const FileBuild& build = build_of_this_file());

}  // namespace antcrew
