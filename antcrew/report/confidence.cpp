#include "antcrew/report/confidence.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/study_view.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

// Every block of the last confirmation.
bool started_anew(const Record& record) {
  const auto number = static_cast<int>(record.confirmations.size());
  return std::all_of(record.blocks.begin(), record.blocks.end(),
                     [&](const BlockFacts& block) { return block.confirming != number || block.afresh; });
}

std::string rounds_text(const RoundsView& rounds) {
  if (rounds.most == 0) return "nothing was timed to its end";
  if (rounds.fewest < rounds.most) return fmt::format("{} to {} rounds", rounds.fewest, rounds.most);
  return fmt::format("{} round{}", rounds.most, rounds.most == 1 ? "" : "s");
}

std::string rounds_and_widths(const StudyView& view) {
  std::string rounds = rounds_text(view.rounds);
  if (view.rounds.widest > 0) rounds += fmt::format(", intervals within ±{}", percent_text(view.rounds.widest));
  return rounds;
}

std::string machine_of(const Record& record) {
  const int usable = record.machine.usable_processors();
  return fmt::format("{}, {} usable processor{}",
                     record.machine.processor.empty() ? "unknown processor" : printable(record.machine.processor, 60),
                     usable, usable == 1 ? "" : "s");
}

const FindingView* noise_of(const StudyView& view) {
  const auto found = std::find_if(view.warnings.begin(), view.warnings.end(),
                                  [](const FindingView& f) { return f.numbers.id == "noise"; });
  return found == view.warnings.end() ? nullptr : &*found;
}

}  // namespace

std::string confidence_text(const StudyView& view) {
  if (view.rounds.most == 0) return "Nothing was timed to its end.";
  const Record& record = *view.study.record;
  const Conclusion& answer = view.study.conclusion;
  std::string text = rounds_text(view.rounds);
  if (answer.claim && answer.claim->blocks > 0) {
    text = fmt::format("{} fresh {}, {}", answer.claim->blocks,
                       started_anew(record) ? "starts of this build" : "input processes", text);
  } else if (!record.commands) {
    text += " in fresh processes";
  }
  if (view.rounds.most < least_for_interval) text += ", too few for intervals";
  if (view.rounds.checked) text += ", answers compared";
  if (noise_of(view) == nullptr) return text + ", machine idle.";
  const CellFigures* leader = answer.leader;
  const bool by_cpu = leader != nullptr && leader->speedup_by_cpu && leader->cell->workers > 1;
  return text + ", not idle" +
         (by_cpu ? fmt::format("; by CPU time the speedup would be {:.2g} at most.", *leader->speedup_by_cpu)
                 : std::string("."));
}

std::string provenance_text(const StudyView& view) {
  const Record& record = *view.study.record;
  const FindingView* noise = noise_of(view);
  std::string text = fmt::format("{}; {}; {}", machine_of(record), rounds_and_widths(view),
                                 noise == nullptr ? "the machine was idle" : noise->claim);
  if (!record.build.optimised && !record.commands) text += "; the program was not optimised";
  if (!record.complete) text += "; the run was ended early";
  return text + fmt::format("; {}, measured for {}.", record.created.substr(0, 10), duration_text(record.measured_s));
}

std::string figure_basis(const StudyView& view) {
  const Record& record = *view.study.record;
  std::string rounds = rounds_and_widths(view);
  rounds.front() = static_cast<char>(std::toupper(static_cast<unsigned char>(rounds.front())));
  return fmt::format("{}; the machine was {}idle; {}; {}.", rounds, noise_of(view) == nullptr ? "" : "not ",
                     machine_of(record), record.created.substr(0, 10));
}

}  // namespace antcrew::report_layer
