#include "antcrew/analysis/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/internal/logged_runs.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::analysis_layer {
namespace {

using internal::Figure;
using internal::Logged;
using internal::logged;
using internal::off_by;
using internal::speedup_of;
using internal::time_by;

constexpr double assumed_spread = 0.035;      // from run to run, where that is not measured
constexpr double assumed_time_spread = 0.05;  // of times, of which the yardstick takes along a part only
constexpr double least_of_two_runs = 0.1;     // one against one
constexpr double alike = 0.05;

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

SpeedupInterval interval_about(double middle, double half) {
  return {std::exp(middle - half), std::exp(middle), std::exp(middle + half)};
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
    std::vector<Pair> pairs;
    for (const auto& [key, f] : now.back()) {
      const auto its_old = old.back().find(key);
      if (its_old == old.back().end()) continue;
      ComparedCell& cell = found_.cells.emplace_back();
      cell.before = its_old->second;
      cell.after = f;
      pairs.push_back({runs_of(old, key), runs_of(now, key), f->baseline});
    }
    const bool one_each = found_.runs_before == 1 && found_.runs_after == 1;
    found_.least_told = one_each ? least_of_two_runs : 0;
    found_.assumed = assumed_spread;
    compare_speedups(pairs);
    compare_times(pairs);
    for (std::size_t k = 0; k < found_.cells.size(); ++k) judge(found_.cells[k], pairs[k]);
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

  // The runs of one cell.
  struct Pair {
    std::vector<const CellFigures*> old;
    std::vector<const CellFigures*> now;
    std::ptrdiff_t baseline = -1;  // its place in the newest run
  };

  double level(std::size_t comparisons) const {
    return 1 - false_alarms_ / static_cast<double>(std::max<std::size_t>(1, comparisons));
  }

  static std::vector<internal::RunSpread> spreads(const std::vector<Pair>& pairs, const Figure& old,
                                                  const Figure& now) {
    std::vector<internal::CellRuns> runs;
    for (const Pair& pair : pairs) {
      runs.push_back(
          {logged(pair.old, old).values, logged(pair.now, now).values, static_cast<std::size_t>(pair.baseline + 1)});
    }
    return internal::spreads_of(runs);
  }

  void compare_speedups(const std::vector<Pair>& pairs) {
    const auto spread = spreads(pairs, speedup_of, speedup_of);
    std::vector<double> measured;
    for (std::size_t k = 0; k < pairs.size(); ++k) {
      const Logged old = logged(pairs[k].old, speedup_of);
      const Logged now = logged(pairs[k].now, speedup_of);
      if (old.runs() == 0 || now.runs() == 0) continue;
      ComparedCell& cell = found_.cells[k];
      const internal::Off off = off_by(old, now, spread[k], assumed_spread);
      const double half = std::max(off.half(level(pairs.size())), std::log1p(found_.least_told));
      cell.ratio = interval_about(now.mean() - old.mean(), half);
      cell.told_from = 1 - std::exp(-half);
      cell.spread_measured = spread[k].measured();
      if (spread[k].measured()) measured.push_back(std::sqrt(spread[k].variance));
    }
    if (!measured.empty()) found_.between_runs = median(std::move(measured));
  }

  // By each of two pieces of the yardstick, of which nobody knows which one a program is like: the interval holds both.
  std::optional<SpeedupInterval> faster_by(const Pair& pair, const internal::RunSpread& spread,
                                           std::size_t comparisons) {
    std::optional<SpeedupInterval> all;
    for (const auto piece : {&YardstickFacts::arithmetic_s, &YardstickFacts::stream_s}) {
      const Logged old = logged(pair.old, time_by(before_, piece));
      const Logged now = logged(pair.now, time_by(after_, piece));
      if (old.runs() == 0 || now.runs() == 0) continue;
      const double half = std::max(off_by(old, now, spread, assumed_time_spread).half(level(comparisons)),
                                   std::log1p(found_.least_told));
      const SpeedupInterval by = interval_about(old.mean() - now.mean(), half);
      all = all ? SpeedupInterval{std::min(all->low, by.low), all->median, std::max(all->high, by.high)} : by;
    }
    return all;
  }

  void compare_times(const std::vector<Pair>& pairs) {
    for (const auto* side : {&before_, &after_}) {
      for (const Analysed* study : *side) {
        if (study->record->yardstick.edition != after_.back()->record->yardstick.edition) return;
      }
    }
    std::vector<Pair> baselines;
    std::vector<ComparedBaseline> of;
    for (const Pair& pair : pairs) {
      const auto same = [&](const Pair& other) { return other.baseline == pair.baseline; };
      if (pair.baseline < 0 || std::any_of(baselines.begin(), baselines.end(), same)) continue;
      Pair its{baselines_of(before_, pair.old), baselines_of(after_, pair.now), pair.baseline};
      if (its.old.back() == nullptr || its.now.back() == nullptr) continue;
      of.push_back({its.old.back(), its.now.back(), {}, false});
      baselines.push_back(std::move(its));
    }
    const std::size_t comparisons = 2 * (pairs.size() + baselines.size());
    const auto by_time = [&](const std::vector<Pair>& which) {
      return spreads(which, time_by(before_, &YardstickFacts::arithmetic_s),
                     time_by(after_, &YardstickFacts::arithmetic_s));
    };
    const auto of_cells = by_time(pairs);
    for (std::size_t k = 0; k < pairs.size(); ++k) found_.cells[k].time = faster_by(pairs[k], of_cells[k], comparisons);
    const auto of_baselines = by_time(baselines);
    for (std::size_t k = 0; k < baselines.size(); ++k) {
      const auto time = faster_by(baselines[k], of_baselines[k], comparisons);
      if (!time) continue;
      of[k].time = *time;
      of[k].moved = (time->low > 1 && time->median > 1 + alike) || (time->high < 1 && time->median < 1 / (1 + alike));
      found_.baselines.push_back(of[k]);
    }
  }

  static std::vector<const CellFigures*> baselines_of(const std::vector<const Analysed*>& studies,
                                                      const std::vector<const CellFigures*>& cells) {
    std::vector<const CellFigures*> all;
    for (std::size_t run = 0; run < studies.size(); ++run) {
      const CellFigures* cell = cells[run];
      all.push_back(cell == nullptr || cell->baseline < 0
                        ? nullptr
                        : &studies[run]->cells[static_cast<std::size_t>(cell->baseline)]);
    }
    return all;
  }

  void judge(ComparedCell& cell, const Pair& runs) const {
    if (const Differing* one = found_.differs_by(Differing::Weight::unlike)) {
      cell.ratio.reset();
      cell.time.reset();
      cell.why = "these are two studies: " + one->what + " differs";
      return;
    }
    const CellFigures* was = fault_in(runs.old);
    const CellFigures* is = fault_in(runs.now);
    // Older runs with a fault on both sides say nothing of the newest ones: those have figures to be compared.
    const bool long_ago = is != nullptr && was != nullptr && !faulty(cell.before) && !faulty(cell.after);
    if (is != nullptr && !long_ago) {
      const bool as_before = was != nullptr && faulty(cell.before);
      cell.ratio.reset();
      cell.change = as_before ? Change::same : Change::worse;
      cell.why = faulty(cell.after) ? std::string("it is \"") + name_of(is->verdict) + "\" now"
                                    : std::string("one of its runs is \"") + name_of(is->verdict) + "\" now";
      if (as_before) cell.why += ", as it was";
      return;
    }
    if (was != nullptr && faulty(cell.before)) {
      const bool told = logged(runs.now, speedup_of).runs() > 0;
      cell.ratio.reset();
      cell.change = told ? Change::better : Change::cannot_tell;
      cell.why = std::string("it was \"") + name_of(was->verdict) + "\" before";
      return;
    }
    if (!cell.ratio) {
      const bool after = logged(runs.old, speedup_of).runs() > 0;
      cell.why = std::string("there is no interval ") + (after ? "after" : "before") + ": more rounds would tell";
      return;
    }
    cell.change = by_figures(cell);
    if (cell.change == Change::cannot_tell) cell.why = "a change this small would not show: more runs would tell";
    if (cell.change == Change::better_in_time) cell.why = "it takes less time, and the baseline gained more: no loss";
    if (cell.change == Change::worse_in_time)
      cell.why = "it takes more time, and so does the baseline: the speedup hides it";
    compare_losses(cell);
  }

  static Change by_figures(const ComparedCell& cell) {
    const bool gained = cell.time && cell.time->low > 1;
    const bool lost = cell.time && cell.time->high < 1;
    if (cell.ratio->high < 1) return gained ? Change::better_in_time : Change::worse;
    if (cell.ratio->low > 1) return Change::better;
    if (lost) return Change::worse_in_time;
    const bool same = cell.ratio->low >= 1 / (1 + alike) && cell.ratio->high <= 1 + alike;
    return same ? Change::same : Change::cannot_tell;
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
  return internal::quantile_of(level, 0);
}

Comparison compare(const std::vector<const Analysed*>& before, const std::vector<const Analysed*>& after,
                   double false_alarms) {
  return Comparing(before, after, false_alarms).all();
}

}  // namespace antcrew::analysis_layer
