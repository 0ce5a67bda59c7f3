#include "antcrew/report/compare_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/json_values.hpp"

namespace antcrew::report_layer {
namespace {

int count_of(const Comparison& found, Change change) {
  return static_cast<int>(std::count_if(found.cells.begin(), found.cells.end(),
                                        [&](const ComparedCell& cell) { return cell.change == change; }));
}

std::string speedup_text(const CellFigures& f) {
  return f.speedup && f.verdict >= Verdict::too_few_rounds ? ratio_text(*f.speedup) : std::string(name_of(f.verdict));
}

std::string where(const ComparedCell& cell, const Analysed& now) {
  return fmt::format("{} at {}", cell_in_words(*cell.after->cell),
                     point_in_words(now.record->points[cell.after->cell->point]));
}

// The one whose speedup fell most; those that do not hold any more come first.
const ComparedCell* worst(const Comparison& found, Change change) {
  const ComparedCell* most = nullptr;
  const auto value = [&](const ComparedCell& cell) {
    const double ratio = cell.ratio ? cell.ratio->median : change == Change::worse ? 0 : 1e300;
    return change == Change::worse ? ratio : -ratio;
  };
  for (const ComparedCell& cell : found.cells) {
    if (cell.change == change && (most == nullptr || value(cell) < value(*most))) most = &cell;
  }
  return most;
}

std::string about(const ComparedCell& cell, const Analysed& now) {
  std::string text = where(cell, now);
  if (cell.ratio)
    text += fmt::format(", speedup {} before, {} after, {} times as high", speedup_text(*cell.before),
                        speedup_text(*cell.after), in_words(*cell.ratio));
  if (!cell.why.empty()) text += ": " + cell.why;
  const auto changed = [&](const ChangedLoss& loss, const char* how, double seconds) {
    text += fmt::format("; `{}`{} {} by {} of workers' time per call", loss.id,
                        loss.name.empty() ? "" : " (" + printable(loss.name, 40) + ")", how, duration_text(seconds));
  };
  if (cell.grown && cell.change == Change::worse)
    changed(*cell.grown, "grew", cell.grown->after_s - cell.grown->before_s);
  if (cell.shrunk && cell.change == Change::better)
    changed(*cell.shrunk, "shrank", cell.shrunk->before_s - cell.shrunk->after_s);
  return text;
}

std::string answer(const Comparison& found, const Analysed& now) {
  const int all = static_cast<int>(found.cells.size());
  if (all == 0) return "Nothing to compare: the two have no cell in common.";
  if (const Differing* one = found.differs_by(Differing::Weight::unlike))
    return fmt::format("Cannot tell: these are two different studies. The {}: '{}' before, '{}' after.", one->what,
                       printable(one->before, 60), printable(one->after, 60));
  std::string text;
  if (const Differing* one = found.differs_by(Differing::Weight::elsewhere))
    text = fmt::format("Not measured alike: {} was '{}' before and is '{}' now. That alone may explain what follows.",
                       one->what, printable(one->before, 60), printable(one->after, 60));
  const std::size_t said = text.size();
  for (const Change change : {Change::worse, Change::better}) {
    const ComparedCell* most = worst(found, change);
    if (most == nullptr) continue;
    text += fmt::format("{}{} of {} cell{} {} {}: {}{}.", text.empty() ? "" : " ", count_of(found, change), all,
                        all == 1 ? "" : "s", count_of(found, change) == 1 ? "is" : "are", name_of(change),
                        count_of(found, change) > 1 ? "most of all " : "", about(*most, now));
  }
  if (text.size() > said) return text;
  if (!text.empty()) text += " ";
  if (count_of(found, Change::cannot_tell) == all) return text + "Cannot tell: no interval is narrow enough.";
  return text + fmt::format("No cell changed: {} same, {} inconclusive.", count_of(found, Change::same),
                            count_of(found, Change::cannot_tell));
}

std::vector<std::string> words_of(const std::vector<Unmatched>& list) {
  std::vector<std::string> words;
  for (const Unmatched& one : list) words.push_back(one.words);
  return words;
}

std::string differing(const Comparison& found) {
  std::string text;
  bool unfair = false;
  for (const Differing& one : found.differs) {
    text +=
        fmt::format("  {}: {} before, {} after\n", one.what, printable(one.before.empty() ? "none" : one.before, 60),
                    printable(one.after.empty() ? "none" : one.after, 60));
    unfair = unfair || one.unfair();
  }
  if (!found.disturbed.empty())
    text += "Warning: the machine was not idle (" + found.disturbed + "): what changed may be that. Measure again.\n";
  if (text.empty()) return {};
  return (found.differs.empty() ? "\n" : "\nWhat differs:\n") + text +
         (unfair ? "Warning: the two were not measured alike, so this is no fair before and after of a program.\n"
                 : "");
}

}  // namespace

std::string compare_text(const Comparison& found, const Analysed& now, const Look& look) {
  std::string text = answer(found, now) + "\n" + differing(found);
  if (!found.cells.empty()) {
    TextGrid grid({{"variant"}, {"crew"}, {"workers", true}, {"at"}, {"before"}, {"after"}, {"after / before"}, {""}});
    for (const ComparedCell& cell : found.cells) {
      grid.row({printable(cell.after->cell->variant, 34), cell.after->cell->crew,
                std::to_string(cell.after->cell->workers), point_in_words(now.record->points[cell.after->cell->point]),
                speedup_text(*cell.before), speedup_text(*cell.after), cell.ratio ? in_words(*cell.ratio) : "",
                name_of(cell.change)});
    }
    text += "\n" + grid.text(look);
  }
  for (const auto& [head, list] : {std::pair{"Only before", &found.only_before}, {"Only after", &found.only_after}}) {
    if (!list->empty()) text += fmt::format("\n{}: {}\n", head, printable(joined(words_of(*list), "; "), 600));
  }
  text += "\nSpeedups are compared, each over the baseline of its own run. ";
  text += found.between_runs
              ? fmt::format("From run to run they spread by {:.1f} %, over {} and {} runs; that is in the intervals.\n",
                            100 * *found.between_runs, found.runs_before, found.runs_after)
              : fmt::format(
                    "With {} run{} before and {} after, how much they spread from run to run is not known: a margin of "
                    "{:.0f} % stands for it (five runs of each would tell).\n",
                    found.runs_before, found.runs_before == 1 ? "" : "s", found.runs_after, 100 * found.margin);
  return text;
}

std::string compare_json(const Comparison& found, const Analysed& now) {
  Json cells = Json::array();
  for (const ComparedCell& cell : found.cells) {
    Json one = internal::whose_json(now, cell.after);
    one["before"] = internal::interval_json(cell.before->speedup);
    one["after"] = internal::interval_json(cell.after->speedup);
    one["change"] = name_of(cell.change);
    one["why"] = cell.why;
    one["ratio"] = internal::interval_json(cell.ratio);
    const auto loss = [](const std::optional<ChangedLoss>& its) {
      return its ? Json{{"id", its->id}, {"name", its->name}, {"before_s", its->before_s}, {"after_s", its->after_s}}
                 : Json();
    };
    one["grown"] = loss(cell.grown);
    one["shrunk"] = loss(cell.shrunk);
    cells.push_back(std::move(one));
  }
  Json differs = Json::array();
  for (const Differing& one : found.differs)
    differs.push_back({{"what", one.what}, {"before", one.before}, {"after", one.after}, {"unfair", one.unfair()}});
  const Json json = {{"runs_before", found.runs_before},
                     {"runs_after", found.runs_after},
                     {"margin", found.margin},
                     {"between_runs", found.between_runs},
                     {"differs", differs},
                     {"disturbed", found.disturbed},
                     {"cells", cells},
                     {"only_before", words_of(found.only_before)},
                     {"only_after", words_of(found.only_after)}};
  return json.dump(1) + "\n";
}

}  // namespace antcrew::report_layer
