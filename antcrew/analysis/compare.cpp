#include "antcrew/analysis/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/statistics.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr int runs_for_spread = 5;
constexpr double least_margin = 0.05;

std::string key_of(const Analysed& study, const CellFigures& f) {
  const Point& point = study.record->points[f.cell->point];
  std::string key = f.cell->key() + "\n" + std::to_string(f.cell->workers) + "\n" +
                    std::to_string(point.base_size > 0 ? point.base_size : point.size) + "\n" + name_of(point.pin);
  for (const auto& [name, value] : point.dimensions) key += "\n" + name + "=" + value.text();
  return key;
}

std::string in_words(const Analysed& study, const CellFigures& f) {
  const Point& point = study.record->points[f.cell->point];
  std::string text =
      f.cell->key() + " with " + std::to_string(f.cell->workers) + (f.cell->workers == 1 ? " worker" : " workers");
  if (point.size > 0) text += " at size " + std::to_string(point.size);
  for (const auto& [name, value] : point.dimensions) text += ", " + name + " " + value.text();
  return text;
}

using Cells = std::map<std::string, const CellFigures*>;
Cells cells_of(const Analysed& study) {
  Cells cells;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind == Cell::Kind::variant && f.newest) cells[key_of(study, f)] = &f;
  }
  return cells;
}

// Of the logarithm of a speedup: where it is, and how far off it may be.
struct Logged {
  double mean = 0;
  double deviation = 0;
  int runs = 0;
};

std::optional<Logged> logged(const std::vector<const CellFigures*>& runs) {
  Logged sum;
  double variance = 0;
  for (const CellFigures* f : runs) {
    if (f == nullptr || f->verdict < Verdict::too_noisy || !f->speedup || !f->speedup->claimed) continue;
    sum.mean += std::log(f->speedup->median);
    const double deviation = (std::log(f->speedup->high) - std::log(f->speedup->low)) / (2 * deviations_of_95);
    variance += deviation * deviation;
    ++sum.runs;
  }
  if (sum.runs == 0) return std::nullopt;
  sum.mean /= sum.runs;
  sum.deviation = std::sqrt(variance) / sum.runs;
  return sum;
}

// From run to run beyond what the intervals within runs explain: one figure for all cells.
std::optional<double> spread_between(const std::vector<std::vector<const CellFigures*>>& cells) {
  double squares = 0;
  int freedom = 0;
  for (const auto& runs : cells) {
    std::vector<double> values;
    for (const CellFigures* f : runs) {
      if (f != nullptr && f->speedup && f->speedup->claimed) values.push_back(std::log(f->speedup->median));
    }
    if (static_cast<int>(values.size()) < runs_for_spread) continue;
    double mean = 0;
    for (const double value : values) mean += value / static_cast<double>(values.size());
    for (const double value : values) squares += (value - mean) * (value - mean);
    freedom += static_cast<int>(values.size()) - 1;
  }
  return freedom == 0 ? std::nullopt : std::optional<double>(std::sqrt(squares / freedom));
}

class Comparing {
 public:
  Comparing(const std::vector<const Analysed*>& before, const std::vector<const Analysed*>& after, double false_alarms)
      : before_(before), after_(after), false_alarms_(false_alarms) {}

  Comparison all() {
    found_.runs_before = static_cast<int>(before_.size());
    found_.runs_after = static_cast<int>(after_.size());
    differences();
    for (const auto& [which, study] : {std::pair{"before", before_.back()}, {"after", after_.back()}}) {
      const std::string how = disturbed(*study->record);
      if (!how.empty())
        found_.disturbed += fmt::format("{}the run {}: {}", found_.disturbed.empty() ? "" : "; ", which, how);
    }
    const Cells old = cells_of(*before_.back());
    const Cells now = cells_of(*after_.back());
    for (const auto& [key, f] : old) {
      if (now.count(key) == 0) found_.only_before.push_back(in_words(*before_.back(), *f));
    }
    for (const auto& [key, f] : now) {
      if (old.count(key) == 0) found_.only_after.push_back(in_words(*after_.back(), *f));
    }
    std::vector<std::vector<const CellFigures*>> of_all;
    std::vector<std::pair<std::size_t, std::size_t>> places;
    for (const auto& [key, f] : now) {
      if (old.count(key) == 0) continue;
      ComparedCell cell;
      cell.before = old.at(key);
      cell.after = f;
      found_.cells.push_back(cell);
      of_all.push_back(runs_of(before_, key));
      of_all.push_back(runs_of(after_, key));
    }
    if (std::min(found_.runs_before, found_.runs_after) >= runs_for_spread)
      found_.between_runs = spread_between(of_all);
    if (!found_.between_runs) found_.margin = least_margin;
    for (std::size_t k = 0; k < found_.cells.size(); ++k) judge(found_.cells[k], of_all[2 * k], of_all[2 * k + 1]);
    return std::move(found_);
  }

 private:
  static std::vector<const CellFigures*> runs_of(const std::vector<const Analysed*>& studies, const std::string& key) {
    std::vector<const CellFigures*> runs;
    for (const Analysed* study : studies) {
      const Cells cells = cells_of(*study);
      const auto its = cells.find(key);
      runs.push_back(its == cells.end() ? nullptr : its->second);
    }
    return runs;
  }

  void differences() {
    const Record& a = *before_.back()->record;
    const Record& b = *after_.back()->record;
    const auto differ = [&](const char* what, const std::string& then, const std::string& now, bool unfair) {
      if (then != now) found_.differs.push_back({what, then, now, unfair});
    };
    differ("title", a.title, b.title, true);
    differ("agreement", a.agreement, b.agreement, true);
    differ("processor", a.machine.processor, b.machine.processor, true);
    differ("usable processors", std::to_string(a.machine.usable_processors()),
           std::to_string(b.machine.usable_processors()), true);
    differ("compiler", a.build.compiler, b.build.compiler, true);
    differ("compiler flags", a.build.flags, b.build.flags, true);
    differ("sanitizers", a.build.sanitizers, b.build.sanitizers, true);
    differ("optimised", a.build.optimised ? "yes" : "no", b.build.optimised ? "yes" : "no", true);
    differ("kernel", a.machine.system, b.machine.system, false);
    differ("program", a.build.program_hash, b.build.program_hash, false);
    differ("budget in seconds", std::to_string(std::lround(a.plan.budget_s)),
           std::to_string(std::lround(b.plan.budget_s)), false);
    differ("Ant Crew", a.library_version, b.library_version, false);
  }

  void judge(ComparedCell& cell, const std::vector<const CellFigures*>& old_runs,
             const std::vector<const CellFigures*>& new_runs) const {
    const auto old = logged(old_runs);
    const auto now = logged(new_runs);
    const Verdict was = cell.before->verdict;
    const Verdict is = cell.after->verdict;
    if (!now && is < Verdict::not_measured) {  // it does not even hold any more, or as little as before
      cell.change = was < Verdict::not_measured ? Change::same : Change::worse;
      cell.why = std::string("it is \"") + name_of(is) + "\" now";
      return;
    }
    if (!old || !now) {
      const bool mended = !old && was < Verdict::not_measured && now;
      cell.change = mended ? Change::better : Change::cannot_tell;
      cell.why = mended
                     ? std::string("it was \"") + name_of(was) + "\" before"
                     : std::string("there is no interval ") + (old ? "after" : "before") + ": more rounds would tell";
      return;
    }
    const double between = found_.between_runs.value_or(0);
    const double variance = old->deviation * old->deviation + now->deviation * now->deviation +
                            between * between * (1.0 / old->runs + 1.0 / now->runs);
    const double level = 1 - false_alarms_ / static_cast<double>(std::max<std::size_t>(1, found_.cells.size()));
    const double half = deviations_for(level) * std::sqrt(variance) + std::log1p(found_.margin);
    const double middle = now->mean - old->mean;
    cell.ratio = SpeedupInterval{std::exp(middle - half), std::exp(middle), std::exp(middle + half)};
    constexpr double alike = 0.1;  // beyond the margin: an interval as narrow says that little has changed
    cell.change = cell.ratio->high < 1                        ? Change::worse
                  : cell.ratio->low > 1                       ? Change::better
                  : half <= std::log1p(found_.margin + alike) ? Change::same
                                                              : Change::cannot_tell;
    if (cell.change == Change::cannot_tell)
      cell.why = "the interval holds 1 and is wide: more rounds, or more runs, would tell";
    cell.grown = grown(cell);
  }

  // By id and name: the one that takes more worker-seconds of a call than before, most of all.
  std::optional<GrownLoss> grown(const ComparedCell& cell) const {
    std::map<std::pair<std::string, std::string>, std::pair<double, double>> losses;
    for (const Finding& f : findings_of(*before_.back(), *cell.before)) {
      if (f.kind == Finding::Kind::loss) losses[{f.id, f.name}].first += f.loss_s;
    }
    for (const Finding& f : findings_of(*after_.back(), *cell.after)) {
      if (f.kind == Finding::Kind::loss) losses[{f.id, f.name}].second += f.loss_s;
    }
    std::optional<GrownLoss> most;
    for (const auto& [which, seconds] : losses) {
      const double more = seconds.second - seconds.first;
      if (more > 0 && (!most || more > most->after_s - most->before_s))
        most = GrownLoss{which.first, which.second, seconds.first, seconds.second};
    }
    const bool both = !cell.before->cell->metered.empty() && !cell.after->cell->metered.empty();
    return both ? most : std::nullopt;
  }

  const std::vector<const Analysed*>& before_;
  const std::vector<const Analysed*>& after_;
  double false_alarms_;
  Comparison found_;
};

}  // namespace

const char* name_of(Change change) noexcept {
  switch (change) {
    case Change::better:
      return "better";
    case Change::worse:
      return "worse";
    case Change::same:
      return "same";
    case Change::cannot_tell:
      break;
  }
  return "cannot tell";
}

bool Comparison::any(Change change) const noexcept {
  return std::any_of(cells.begin(), cells.end(), [&](const ComparedCell& cell) { return cell.change == change; });
}

std::string disturbed(const Record& record) {
  constexpr double much_of_others = 0.25;
  constexpr double much_taken = 0.1;
  double wall = 0, other = 0, steal = 0;
  for (const BlockFacts& block : record.blocks) {
    wall += block.wall_s;
    other += block.other_cpu_s;
    steal += block.steal_s;
  }
  if (wall <= 0) return {};
  if (record.another_study) return "another study was measured at the same time";
  if (other > much_of_others * wall) return fmt::format("other programs kept {:.2g} processors busy", other / wall);
  if (steal > much_taken * wall)
    return fmt::format("the hypervisor took {:.0f} % of one processor", 100 * steal / wall);
  return {};
}

const CellFigures* same_cell(const Analysed& in, const Analysed& study, const CellFigures& cell) {
  const Cells cells = cells_of(in);
  const auto found = cells.find(key_of(study, cell));
  return found == cells.end() ? nullptr : found->second;
}

double deviations_for(double level) noexcept {
  double low = 0;
  double high = 10;
  for (int k = 0; k < 60; ++k) {
    const double middle = (low + high) / 2;
    (std::erf(middle / std::sqrt(2.0)) < level ? low : high) = middle;
  }
  return (low + high) / 2;
}

Comparison compare(const std::vector<const Analysed*>& before, const std::vector<const Analysed*>& after,
                   double false_alarms) {
  return Comparing(before, after, false_alarms).all();
}

}  // namespace antcrew::analysis_layer
