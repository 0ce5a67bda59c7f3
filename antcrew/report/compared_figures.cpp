#include "antcrew/report/compared_figures.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/change_points.hpp"
#include "antcrew/analysis/compare.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

// "2026-11-27T04:02:11Z" as "2026-11-27 04:02".
std::string moment(const Analysed& study) {
  std::string text = study.record->created.substr(0, 16);
  std::replace(text.begin(), text.end(), 'T', ' ');
  return text;
}

std::string machine_in_words(const Analysed& study) {
  const Machine& machine = study.record->machine;
  const int processors = machine.usable_processors();
  return fmt::format("{}, {} processor{}", machine.processor.empty() ? "unknown" : printable(machine.processor, 40),
                     processors, processors == 1 ? "" : "s");
}

// Of all that both have: one machine may have 2 workers and the other 64.
void same_axes(Panel& one, Panel& other) {
  std::vector<double> counts;
  double low = 1;
  double high = 1;
  for (const Panel* panel : {&one, &other}) {
    for (const Series& series : panel->series) {
      for (const FigurePoint& point : series.points) {
        counts.push_back(point.x);
        low = std::min(low, point.low > 0 ? point.low : point.y);
        high = std::max(high, point.high);
      }
    }
  }
  const auto [fewest, most] = std::minmax_element(counts.begin(), counts.end());
  const bool logarithmic = *most >= 16 * *fewest;
  for (Panel* panel : {&one, &other}) {
    internal::fit_values(panel->x, counts, logarithmic);
    panel->y.ticks.clear();
    panel->y.logarithmic = false;
    if (logarithmic) {
      internal::fit_logarithmic(panel->y, low, high * 1.2);
    } else {
      internal::fit_axis(panel->y, 0, high * 1.2);
    }
    // Fits and ceilings are of one study, and would be taken for measured where two are compared.
    panel->references = {{"ideal", {{panel->x.from, panel->x.from}, {panel->x.to, panel->x.to}}}};
  }
}

void same_colours(Panel& before, Panel& after) {
  std::map<std::string, int> colours;
  int next = 0;
  for (Panel* panel : {&before, &after}) {
    for (Series& series : panel->series) {
      const auto [known, fresh] = colours.try_emplace(series.name, next);
      if (fresh) ++next;
      series.colour = known->second;
    }
  }
}

}  // namespace

std::optional<Figure> side_by_side_figure(const Analysed& before, const Analysed& after, const SideNames& names) {
  std::optional<Figure> old = figure_of(before, "speedup");
  std::optional<Figure> now = figure_of(after, "speedup");
  if (!old || !now || old->panels.empty() || now->panels.empty()) return std::nullopt;
  Panel left = std::move(old->panels.front());
  Panel right = std::move(now->panels.front());
  if (left.series.empty() || right.series.empty()) return std::nullopt;
  same_axes(left, right);
  same_colours(left, right);
  const bool machines = machine_in_words(before) != machine_in_words(after);
  const std::string old_point = point_in_words(before.record->points[before.conclusion.point]);
  const std::string new_point = point_in_words(after.record->points[after.conclusion.point]);
  const bool named = !names.before.empty() && !names.after.empty() && names.before != names.after;
  left.title = "before: " + (named ? printable(names.before, 50) : moment(before));
  right.title = "after: " + (named ? printable(names.after, 50) : moment(after));
  if (old_point != new_point) {
    left.title += ", at " + old_point;
    right.title += ", at " + new_point;
  }
  if (machines) {
    left.title = "before: " + machine_in_words(before);
    right.title = "after: " + machine_in_words(after);
  }
  Figure figure{"compare", machines ? "The same study on two machines" : "Before and after"};
  figure.caption =
      "Speedup of each over the baseline of its own run. Bars are 95 % intervals; where they overlap the figure alone "
      "tells nothing, the comparison does.";
  figure.table.heads = {"which", "variant", "value"};
  for (const auto& [which, panel] : {std::pair{"before", &left}, {"after", &right}}) {
    for (const Series& series : panel->series) {
      for (const FigurePoint& point : series.points) figure.table.rows.push_back({which, series.name, point.text});
    }
  }
  internal::set_aside(left);
  internal::set_aside(right);
  figure.panels = {std::move(left), std::move(right)};
  figure.study = printable(after.record->title);
  figure.basis = "Before: " + old->basis + " After: " + now->basis;
  return figure;
}

namespace {

const CellFigures* cell_to_follow(const Analysed& newest, const std::string& variant) {
  if (variant.empty()) return newest.conclusion.leader;
  const CellFigures* best = nullptr;
  for (const CellFigures& f : newest.cells) {
    const bool named = f.cell->variant == variant || f.cell->key() == variant;
    if (!named || !f.newest || f.cell->point != newest.conclusion.point || !f.speedup) continue;
    if (best == nullptr || f.speedup->median > best->speedup->median) best = &f;
  }
  return best;
}

}  // namespace

std::optional<Figure> history_figure(const std::vector<const Analysed*>& runs, const std::string& variant) {
  const Analysed& newest = *runs.back();
  const CellFigures* followed = cell_to_follow(newest, variant);
  if (followed == nullptr) return std::nullopt;
  Panel panel;
  Series series{internal::bar_name(newest, *followed->cell), Series::Kind::line, 0};
  Figure figure{"history", "One cell in run after run"};
  figure.table.heads = {"run", "speedup"};
  std::vector<std::string> names;
  double high = 1;
  for (const Analysed* run : runs) {
    const CellFigures* cell = same_cell(*run, newest, *followed);
    const double at = static_cast<double>(names.size());
    const std::string when = moment(*run);
    names.push_back(when.substr(5));  // without the year
    if (cell == nullptr || !internal::drawable(*cell) || !cell->speedup) {
      figure.table.rows.push_back({when, cell == nullptr ? "not tried" : name_of(cell->verdict)});
      continue;
    }
    series.points.push_back(internal::point_of(
        at, *cell->speedup, -1, fmt::format("{}, {}: speedup {}", series.name, when, ratio_text(*cell->speedup))));
    figure.table.rows.push_back({when, ratio_text(*cell->speedup)});
    high = std::max(high, cell->speedup->high);
  }
  if (series.points.size() < 2) return std::nullopt;
  const CellChanges changes = changes_of(runs, *followed, 0.01);
  std::string changed;
  for (const ChangePoint& change : changes.found) {
    const std::string text = fmt::format("{:.2g} to {:.2g}", change.before, change.after);
    panel.marks.push_back({static_cast<double>(changes.runs[change.at]) - 0.5, text});
    changed += fmt::format("{} from {} on, {}", changed.empty() ? " It changed for good" : ";",
                           names[changes.runs[change.at]], text);
  }
  figure.caption = fmt::format(
      "{} at {}. Bars are the 95 % intervals within a run; between runs there is more. A run without a point has no "
      "figures of this cell.{}{}",
      cell_in_words(*followed->cell), point_in_words(newest.record->points[followed->cell->point]), changed,
      changed.empty() ? "" : " (one history of a hundred without a change says so).");
  figure.study = printable(newest.record->title);
  panel.x = internal::categories("run, UTC", names);
  constexpr std::size_t most_labels = 8;
  const std::size_t each = (names.size() + most_labels - 1) / most_labels;
  std::vector<Tick> kept;
  for (std::size_t k = 0; k < panel.x.ticks.size(); ++k) {
    if ((panel.x.ticks.size() - 1 - k) % each == 0) kept.push_back(panel.x.ticks[k]);
  }
  panel.x.ticks = std::move(kept);
  panel.y = {"speedup over the baseline of the run", ""};
  internal::fit_axis(panel.y, 0, high * 1.1);
  panel.references.push_back({"baseline", {{panel.x.from, 1}, {panel.x.to, 1}}});
  panel.series.push_back(std::move(series));
  figure.panels.push_back(std::move(panel));
  return figure;
}

}  // namespace antcrew::report_layer
