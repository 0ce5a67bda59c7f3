#include "antcrew/analysis/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

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
    refuse_one_run();
    found_.runs_before = static_cast<int>(before_.size());
    found_.runs_after = static_cast<int>(after_.size());
    for (std::size_t k = 0; k < std::max(before_.size(), after_.size()); ++k) {
      if (k < before_.size()) differences(*before_[k]->record, *after_.back()->record);
      if (k < after_.size()) differences(*before_.back()->record, *after_[k]->record);
    }
    for (const auto& [which, study] : {std::pair{"before", before_.back()}, {"after", after_.back()}}) {
      const std::string how = disturbed(*study->record);
      if (!how.empty())
        found_.disturbed += fmt::format("{}the run {}: {}", found_.disturbed.empty() ? "" : "; ", which, how);
    }
    const std::vector<Cells> old = cells_of_all(before_);
    const std::vector<Cells> now = cells_of_all(after_);
    for (const auto& [key, f] : old.back()) {
      if (now.back().count(key) == 0) found_.only_before.push_back({f, in_words(*before_.back(), *f)});
    }
    for (const auto& [key, f] : now.back()) {
      if (old.back().count(key) == 0) found_.only_after.push_back({f, in_words(*after_.back(), *f)});
    }
    std::vector<std::vector<const CellFigures*>> of_all;
    for (const auto& [key, f] : now.back()) {
      const auto its_old = old.back().find(key);
      if (its_old == old.back().end()) continue;
      ComparedCell& cell = found_.cells.emplace_back();
      cell.before = its_old->second;
      cell.after = f;
      of_all.push_back(runs_of(old, key));
      of_all.push_back(runs_of(now, key));
    }
    if (std::min(found_.runs_before, found_.runs_after) >= runs_for_spread)
      found_.between_runs = spread_between(of_all);
    if (!found_.between_runs) found_.margin = least_margin;
    for (std::size_t k = 0; k < found_.cells.size(); ++k) judge(found_.cells[k], of_all[2 * k], of_all[2 * k + 1]);
    return std::move(found_);
  }

 private:
  static std::vector<Cells> cells_of_all(const std::vector<const Analysed*>& studies) {
    std::vector<Cells> all;
    for (const Analysed* study : studies) all.push_back(cells_of(*study));
    return all;
  }
  static std::vector<const CellFigures*> runs_of(const std::vector<Cells>& studies, const std::string& key) {
    std::vector<const CellFigures*> runs;
    for (const Cells& cells : studies) {
      const auto its = cells.find(key);
      runs.push_back(its == cells.end() ? nullptr : its->second);
    }
    return runs;
  }

  // What was measured once says nothing twice.
  void refuse_one_run() const {
    if (before_.empty() || after_.empty())
      bad_input("compare.runs", "compare", "one side has no run", "name at least one record of each");
    std::map<std::string, const Record*> seen;
    for (const auto* side : {&before_, &after_}) {
      for (const Analysed* study : *side) {
        const Record& record = *study->record;
        if (seen.emplace(run_id(record), &record).second) continue;
        bad_input("compare.runs", printable(record.title, 60) + " of " + printable(record.created, 30),
                  "this run is named twice", "name two runs: one from before the change, and one from after it");
      }
    }
  }

  // Each of them once, of whichever runs.
  void differences(const Record& a, const Record& b) {
    using Weight = Differing::Weight;
    const auto differ = [&](const char* what, const std::string& then, const std::string& now, Weight weight) {
      const bool told = std::any_of(found_.differs.begin(), found_.differs.end(),
                                    [&](const Differing& one) { return one.what == what; });
      if (then != now && !told) found_.differs.push_back({what, then, now, weight});
    };
    differ("title", a.title, b.title, Weight::unlike);
    differ("agreement", a.agreement, b.agreement, Weight::unlike);
    differ("sizes", a.plan.weak_scaling ? "grow with the workers" : "as given",
           b.plan.weak_scaling ? "grow with the workers" : "as given", Weight::unlike);
    differ("processor", a.machine.processor, b.machine.processor, Weight::elsewhere);
    differ("usable processors", std::to_string(a.machine.usable_processors()),
           std::to_string(b.machine.usable_processors()), Weight::elsewhere);
    differ("compiler", a.build.compiler, b.build.compiler, Weight::elsewhere);
    differ("compiler flags", a.build.flags, b.build.flags, Weight::elsewhere);
    differ("sanitizers", a.build.sanitizers, b.build.sanitizers, Weight::elsewhere);
    differ("optimised", a.build.optimised ? "yes" : "no", b.build.optimised ? "yes" : "no", Weight::elsewhere);
    differ("kernel", a.machine.system, b.machine.system, Weight::aside);
    differ("program", a.build.program_hash, b.build.program_hash, Weight::aside);
    differ("budget in seconds", std::to_string(std::lround(a.plan.budget_s)),
           std::to_string(std::lround(b.plan.budget_s)), Weight::aside);
    differ("Ant Crew", a.library_version, b.library_version, Weight::aside);
  }

  static bool faulty(const CellFigures* f) { return f != nullptr && f->verdict < Verdict::not_measured; }
  // Of the newest run that has one; null where all are sound.
  static const CellFigures* fault_in(const std::vector<const CellFigures*>& runs) {
    const auto found = std::find_if(runs.rbegin(), runs.rend(), faulty);
    return found == runs.rend() ? nullptr : *found;
  }

  void judge(ComparedCell& cell, const std::vector<const CellFigures*>& old_runs,
             const std::vector<const CellFigures*>& new_runs) const {
    if (const Differing* one = found_.differs_by(Differing::Weight::unlike)) {
      cell.why = "these are two studies: " + one->what + " differs";
      return;
    }
    const CellFigures* was = fault_in(old_runs);
    const CellFigures* is = fault_in(new_runs);
    // Older runs with a fault on both sides say nothing of the newest ones: those have figures to be compared.
    const bool long_ago = is != nullptr && was != nullptr && !faulty(cell.before) && !faulty(cell.after);
    if (is != nullptr && !long_ago) {
      const bool as_before = was != nullptr && faulty(cell.before);
      cell.change = as_before ? Change::same : Change::worse;
      cell.why = faulty(cell.after) ? std::string("it is \"") + name_of(is->verdict) + "\" now"
                                    : std::string("one of its runs is \"") + name_of(is->verdict) + "\" now";
      if (as_before) cell.why += ", as it was";
      return;
    }
    const auto old = logged(old_runs);
    const auto now = logged(new_runs);
    if (was != nullptr && faulty(cell.before)) {
      cell.change = now ? Change::better : Change::cannot_tell;
      cell.why = std::string("it was \"") + name_of(was->verdict) + "\" before";
      return;
    }
    if (!old || !now) {
      cell.why = std::string("there is no interval ") + (old ? "after" : "before") + ": more rounds would tell";
      return;
    }
    const double between = found_.between_runs.value_or(0);
    const double variance = old->deviation * old->deviation + now->deviation * now->deviation +
                            between * between * (1.0 / old->runs + 1.0 / now->runs);
    const double level = 1 - false_alarms_ / static_cast<double>(std::max<std::size_t>(1, found_.cells.size()));
    const double half = deviations_for(level) * std::sqrt(variance) + std::log1p(found_.margin);
    const double middle = now->mean - old->mean;
    cell.deviation = std::sqrt(variance);
    cell.ratio = SpeedupInterval{std::exp(middle - half), std::exp(middle), std::exp(middle + half)};
    constexpr double alike = 0.1;  // beyond the margin: an interval as narrow says that little has changed
    cell.change = cell.ratio->high < 1                        ? Change::worse
                  : cell.ratio->low > 1                       ? Change::better
                  : half <= std::log1p(found_.margin + alike) ? Change::same
                                                              : Change::cannot_tell;
    if (cell.change == Change::cannot_tell)
      cell.why = "the interval holds 1 and is wide: more rounds, or more runs, would tell";
    compare_losses(cell);
  }

  // By id and name: the one that takes more worker-seconds of a call than before most of all, and the one that takes
  // less.
  void compare_losses(ComparedCell& cell) const {
    if (cell.before->cell->metered.empty() || cell.after->cell->metered.empty()) return;
    std::map<std::pair<std::string, std::string>, std::pair<double, double>> losses;
    // One that is told in one run and just too small in the other has not come or gone.
    for (const Finding& f : losses_of(*before_.back(), *cell.before)) losses[{f.id, f.name}].first += f.loss_s;
    for (const Finding& f : losses_of(*after_.back(), *cell.after)) losses[{f.id, f.name}].second += f.loss_s;
    for (const auto& [which, seconds] : losses) {
      const double more = seconds.second - seconds.first;
      const ChangedLoss one{which.first, which.second, seconds.first, seconds.second};
      if (more > 0 && (!cell.grown || more > cell.grown->after_s - cell.grown->before_s)) cell.grown = one;
      if (more < 0 && (!cell.shrunk || more < cell.shrunk->after_s - cell.shrunk->before_s)) cell.shrunk = one;
    }
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

std::string in_words(const SpeedupInterval& ratio) {
  const auto text = [](double value) {
    for (int digits = 2; digits < 8; ++digits) {
      const std::string rounded = fmt::format("{:.{}f}", value, digits);
      const double read = std::stod(rounded);
      if ((read < 1) == (value < 1) && (read > 1) == (value > 1)) return rounded;
    }
    return fmt::format("{:.17g}", value);
  };
  return fmt::format("{} ({} to {})", text(ratio.median), text(ratio.low), text(ratio.high));
}

const Differing* Comparison::differs_by(Differing::Weight weight) const noexcept {
  const auto found =
      std::find_if(differs.begin(), differs.end(), [&](const Differing& one) { return one.weight == weight; });
  return found == differs.end() ? nullptr : &*found;
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
