#include "antcrew/report/confidence.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/study_view.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string rounds_text(const RoundsView& rounds) {
  if (rounds.most == 0) return "nothing was timed to its end";
  if (rounds.fewest < rounds.most) return fmt::format("{} to {} rounds", rounds.fewest, rounds.most);
  return fmt::format("{} round{}", rounds.most, rounds.most == 1 ? "" : "s");
}

const FindingView* noise_of(const StudyView& view) {
  const auto found = std::find_if(view.warnings.begin(), view.warnings.end(),
                                  [](const FindingView& f) { return f.numbers.id == "noise"; });
  return found == view.warnings.end() ? nullptr : &*found;
}

}  // namespace

std::string confidence_text(const StudyView& view) {
  if (view.rounds.most == 0) return "Nothing was timed to its end.";
  std::string text = rounds_text(view.rounds);
  if (!view.study.record->commands) text += " in fresh processes";
  if (view.rounds.most < least_for_interval) text += ", too few for intervals";
  if (view.rounds.checked) text += ", answers compared";
  return text + (noise_of(view) != nullptr ? ", machine not idle." : ", machine idle.");
}

std::string provenance_text(const StudyView& view) {
  const Record& record = *view.study.record;
  const int usable = record.machine.usable_processors();
  std::string rounds = rounds_text(view.rounds);
  if (view.rounds.widest > 0) rounds += fmt::format(", intervals within ±{}", percent_text(view.rounds.widest));
  const FindingView* noise = noise_of(view);
  std::string text =
      fmt::format("{}, {} usable processor{}; {}; {}",
                  record.machine.processor.empty() ? "unknown processor" : printable(record.machine.processor, 60),
                  usable, usable == 1 ? "" : "s", rounds, noise == nullptr ? "the machine was idle" : noise->claim);
  if (!record.build.optimised && !record.commands) text += "; the program was not optimised";
  if (!record.complete) text += "; the run was ended early";
  return text + fmt::format("; {}, measured for {}.", record.created.substr(0, 10), duration_text(record.measured_s));
}

}  // namespace antcrew::report_layer
