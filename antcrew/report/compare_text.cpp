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
  if (cell.time && cell.change != Change::better && cell.change != Change::worse)
    text += fmt::format(", {} times as fast by the yardstick", in_words(*cell.time));
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

// The smallest loss that would be told of every cell that has figures.
double would_be_told(const Comparison& found) {
  double most = 0;
  for (const ComparedCell& cell : found.cells) most = std::max(most, cell.told_from);
  return most;
}

// What every speedup is over comes first: where it moved, a speedup alone misleads.
std::string moved_baselines(const Comparison& found, const Analysed& now) {
  std::string text;
  for (const ComparedBaseline& baseline : found.baselines) {
    if (!baseline.moved) continue;
    const bool faster = baseline.time.median > 1;
    const SpeedupInterval ratio =
        faster ? baseline.time
               : SpeedupInterval{1 / baseline.time.high, 1 / baseline.time.median, 1 / baseline.time.low};
    const Point& at = now.record->points[baseline.after->cell->point];
    text += fmt::format("{}he baseline itself became {} times as {}{}", text.empty() ? "T" : "; t", in_words(ratio),
                        faster ? "fast" : "slow",
                        now.record->points.size() > 1 ? " at " + point_in_words(at) : std::string());
  }
  return text.empty() ? text : text + ", by the yardstick. ";
}

std::string answer(const Comparison& found, const Analysed& now) {
  const int all = static_cast<int>(found.cells.size());
  if (all == 0) return "Nothing to compare: the two have no cell in common.";
  if (const Differing* one = found.differs_by(Differing::Weight::unlike))
    return fmt::format("Cannot tell: these are two different studies. The {}: '{}' before, '{}' after.", one->what,
                       printable(one->before, 60), printable(one->after, 60));
  std::string text = moved_baselines(found, now);
  if (const Differing* one = found.differs_by(Differing::Weight::elsewhere))
    text += fmt::format("Not measured alike: {} was '{}' before and is '{}' now. That alone may explain what follows.",
                        one->what, printable(one->before, 60), printable(one->after, 60));
  const std::size_t said = text.size();
  for (const Change change : {Change::worse, Change::worse_in_time, Change::better, Change::better_in_time}) {
    const ComparedCell* most = worst(found, change);
    if (most == nullptr) continue;
    text += fmt::format("{}{} of {} cell{} {} {}: {}{}.", text.empty() ? "" : " ", count_of(found, change), all,
                        all == 1 ? "" : "s", count_of(found, change) == 1 ? "is" : "are", name_of(change),
                        count_of(found, change) > 1 ? "most of all " : "", about(*most, now));
  }
  if (text.size() > said) return text;
  if (!text.empty()) text += " ";
  if (count_of(found, Change::cannot_tell) == all && would_be_told(found) == 0)
    return text + "Cannot tell: no cell has an interval on both sides. More rounds would give one.";
  if (count_of(found, Change::cannot_tell) == all)
    return text + fmt::format("Cannot tell: no change is shown; one under {:.0f} % would not be{}.",
                              100 * would_be_told(found), found.between_runs ? "" : ", as few runs as there are");
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

std::string how_compared(const Comparison& found) {
  std::string text = "Speedups are compared, each over the baseline of its own run";
  const bool times = std::any_of(found.cells.begin(), found.cells.end(), [](const ComparedCell& c) { return c.time; });
  text += times ? "; and times, against the yardstick that each run timed along with its rounds. " : ". ";
  const std::string runs = fmt::format("{} run{} before and {} after", found.runs_before,
                                       found.runs_before == 1 ? "" : "s", found.runs_after);
  if (found.between_runs) {
    return text + fmt::format(
                      "From run to run a speedup spreads by {:.1f} %, measured over {}; that is in the "
                      "intervals. Over all cells one comparison in a hundred of what has not changed says "
                      "otherwise.\n",
                      100 * *found.between_runs, runs);
  }
  text += fmt::format("With {}, how much speedups spread from run to run is not known: {:.0f} % stand for it", runs,
                      100 * found.assumed);
  if (found.least_told > 0) text += fmt::format(", and no change under {:.0f} % is told", 100 * found.least_told);
  return text + " (five stored runs would tell).\n";
}

}  // namespace

std::string compared_in_words(const Comparison& found, const Analysed& now) {
  return answer(found, now);
}

std::vector<std::vector<std::string>> compared_rows(const Comparison& found, const Analysed& now) {
  std::vector<std::vector<std::string>> rows = {
      {"variant", "crew", "workers", "at", "before", "after", "after / before", "times as fast", ""}};
  for (const ComparedCell& cell : found.cells)
    rows.push_back({printable(cell.after->cell->variant, 34), cell.after->cell->crew,
                    std::to_string(cell.after->cell->workers),
                    point_in_words(now.record->points[cell.after->cell->point]), speedup_text(*cell.before),
                    speedup_text(*cell.after), cell.ratio ? in_words(*cell.ratio) : "",
                    cell.time ? in_words(*cell.time) : "", name_of(cell.change)});
  return rows;
}

std::string compare_text(const Comparison& found, const Analysed& now, const Look& look) {
  std::string text = answer(found, now) + "\n" + differing(found);
  if (!found.cells.empty()) {
    std::vector<std::vector<std::string>> rows = compared_rows(found, now);
    std::vector<GridColumn> columns;
    for (const std::string& head : rows.front()) columns.push_back({head, head == "workers"});
    TextGrid grid(std::move(columns));
    for (std::size_t k = 1; k < rows.size(); ++k) grid.row(std::move(rows[k]));
    text += "\n" + grid.text(look);
  }
  for (const auto& [head, list] : {std::pair{"Only before", &found.only_before}, {"Only after", &found.only_after}}) {
    if (!list->empty()) text += fmt::format("\n{}: {}\n", head, printable(joined(words_of(*list), "; "), 600));
  }
  return text + "\n" + how_compared(found);
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
    one["times_as_fast"] = internal::interval_json(cell.time);
    one["told_from"] = cell.told_from;
    const auto loss = [](const std::optional<ChangedLoss>& its) {
      return its ? Json{{"id", its->id}, {"name", its->name}, {"before_s", its->before_s}, {"after_s", its->after_s}}
                 : Json();
    };
    one["grown"] = loss(cell.grown);
    one["shrunk"] = loss(cell.shrunk);
    cells.push_back(std::move(one));
  }
  Json baselines = Json::array();
  for (const ComparedBaseline& one : found.baselines) {
    Json its = internal::whose_json(now, one.after);
    its["times_as_fast"] = internal::interval_json(std::optional(one.time));
    its["moved"] = one.moved;
    baselines.push_back(std::move(its));
  }
  Json differs = Json::array();
  for (const Differing& one : found.differs)
    differs.push_back({{"what", one.what}, {"before", one.before}, {"after", one.after}, {"unfair", one.unfair()}});
  const Json json = {{"runs_before", found.runs_before},
                     {"runs_after", found.runs_after},
                     {"margin", found.least_told},
                     {"least_told", found.least_told},
                     {"assumed_spread", found.assumed},
                     {"between_runs", found.between_runs},
                     {"baselines", baselines},
                     {"differs", differs},
                     {"disturbed", found.disturbed},
                     {"cells", cells},
                     {"only_before", words_of(found.only_before)},
                     {"only_after", words_of(found.only_after)}};
  return json.dump(1) + "\n";
}

}  // namespace antcrew::report_layer
