#include "antcrew/analysis/guard.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr const char* more_rounds = "more rounds would settle it: a larger --budget";

class Guarding {
 public:
  Guarding(const Analysed& study, const Requirements& required, const Comparison* against)
      : study_(study), required_(required), against_(against) {}

  std::vector<Check> all() {
    const CellFigures* best = of_interest();
    const int looked_at = (required_.speedup ? 1 : 0) + (required_.efficiency ? 1 : 0);
    wider_ = deviations_for(1 - false_alarms_of_a_guard / std::max(1, looked_at)) / deviations_of_95;
    if (required_.speedup) at_least("speedup", best, *required_.speedup, 1);
    if (required_.efficiency)
      at_least("efficiency", best, *required_.efficiency, best == nullptr ? 1 : best->cell->workers);
    if (required_.all_hold) hold();
    if (required_.memory_bytes) memory();
    for (const std::string& id : required_.no_finding) finding(id);
    if (required_.not_worse_by && against_ != nullptr) not_worse();
    forgive_noise();
    return std::move(checks_);
  }

 private:
  // On a machine that was not quiet figures fail for another reason than the program; verdicts and findings stand.
  void forgive_noise() {
    const std::string how = against_ != nullptr ? against_->disturbed : disturbed(*study_.record);
    if (how.empty()) return;
    for (Check& check : checks_) {
      const bool by_time = check.of != nullptr && check.of->speedup &&
                           (check.what.rfind("speedup", 0) == 0 || check.what.rfind("efficiency", 0) == 0 ||
                            check.what.rfind("not worse", 0) == 0);
      if (!by_time || check.outcome != Outcome::failed) continue;
      check.outcome = Outcome::cannot_tell;
      check.settles = "the machine was not quiet (" + how + "): measure again";
    }
  }

  bool in_scope(const CellFigures& f) const {
    return f.cell->kind == Cell::Kind::variant && f.newest &&
           (required_.variant.empty() || f.cell->variant == required_.variant || f.cell->key() == required_.variant);
  }

  // At the headline's point: the fastest of those that hold, else the first that is there.
  const CellFigures* of_interest() const {
    const CellFigures* best = nullptr;
    const CellFigures* any = nullptr;
    for (const CellFigures& f : study_.cells) {
      if (!in_scope(f) || f.cell->point != study_.conclusion.point) continue;
      if (any == nullptr) any = &f;
      if (f.verdict < Verdict::too_few_rounds || !f.time_s) continue;
      if (best == nullptr || f.time_s->median < best->time_s->median) best = &f;
    }
    return best != nullptr ? best : any;
  }

  void at_least(const char* name, const CellFigures* f, double least, int per) {
    Check check;
    check.what = fmt::format("{} at least {:.4g}", name, least);
    check.of = f;
    if (f == nullptr || f->verdict < Verdict::not_measured) {
      check.outcome = Outcome::failed;
      check.found = f == nullptr ? "no such variant was tried" : fmt::format("it is \"{}\"", name_of(f->verdict));
    } else if (!f->speedup || !f->speedup->claimed) {
      check.outcome = Outcome::cannot_tell;
      check.found = fmt::format("no interval: {}", name_of(f->verdict));
      check.settles = more_rounds;
    } else {
      const Estimate& s = *f->speedup;
      const double high = s.median * std::pow(s.high / s.median, wider_);
      check.found = fmt::format("{:.3g} ({:.3g} to {:.3g})", s.median / per, s.low / per, s.high / per);
      check.outcome = high / per < least        ? Outcome::failed
                      : s.median / per >= least ? Outcome::passed
                                                : Outcome::cannot_tell;
      if (check.outcome == Outcome::cannot_tell) check.settles = more_rounds;
    }
    checks_.push_back(std::move(check));
  }

  void hold() {
    Check check;
    check.what = "every cell holds";
    int open = 0;
    for (const CellFigures& f : study_.cells) {
      if (!in_scope(f) || f.verdict == Verdict::holds) continue;
      const bool beyond_doubt = f.verdict < Verdict::not_measured;
      if (beyond_doubt && check.outcome != Outcome::failed) {
        check.outcome = Outcome::failed;
        check.of = &f;
        check.found = fmt::format("it is \"{}\": {}", name_of(f.verdict), f.evidence);
      }
      open += beyond_doubt ? 0 : 1;
    }
    if (check.outcome != Outcome::failed && open > 0) {
      check.outcome = Outcome::cannot_tell;
      check.found = fmt::format("{} cell{} cannot be told: too few rounds, or too noisy", open, open == 1 ? "" : "s");
      check.settles = more_rounds;
    }
    checks_.push_back(std::move(check));
  }

  void memory() {
    Check check;
    check.what = "memory at most " + bytes_text(static_cast<std::uint64_t>(*required_.memory_bytes));
    double most = 0;
    for (const CellFigures& f : study_.cells) {
      if (!in_scope(f) || f.peak_bytes <= most) continue;
      most = f.peak_bytes;
      check.of = &f;
    }
    if (most <= 0) {
      check.outcome = Outcome::cannot_tell;
      check.found = "its memory is not known";
      check.settles = "measure without a launcher, and longer than 50 ms a call";
    } else {
      check.found = bytes_text(static_cast<std::uint64_t>(most));
      check.outcome = most > *required_.memory_bytes ? Outcome::failed : Outcome::passed;
    }
    checks_.push_back(std::move(check));
  }

  void finding(const std::string& id) {
    Check check;
    check.what = "no finding " + id;
    bool told = false;
    for (const CellFigures* cell : explained_cells(study_)) {
      if (!in_scope(*cell)) continue;
      told = told || withheld_because(study_, *cell).empty();
      for (const Finding& f : findings_of(study_, *cell)) {
        if (f.id != id || check.outcome == Outcome::failed) continue;
        check.of = cell;
        const bool sure = f.sure != Finding::Sure::open;
        check.outcome = sure ? Outcome::failed : Outcome::cannot_tell;
        check.found = f.kind == Finding::Kind::loss ? fmt::format("{:.0f} % of its workers' time", 100 * f.share)
                                                    : std::string("it is there");
        if (!sure) {
          check.found += f.or_else.empty() ? ", perhaps" : ", or it is " + f.or_else;
          check.settles = "measure again on a quiet machine";
        }
      }
    }
    if (!told && check.outcome == Outcome::passed) {
      check.outcome = Outcome::cannot_tell;
      check.found = "where the time went is not told of any cell";
      check.settles = "give it time for that: a larger --budget";
    }
    checks_.push_back(std::move(check));
  }

  void not_worse() {
    const double least = 1 - *required_.not_worse_by;
    for (const ComparedCell& cell : against_->cells) {
      if (!in_scope(*cell.after)) continue;
      Check check;
      check.what = fmt::format("not worse by more than {:.3g} %", 100 * *required_.not_worse_by);
      check.of = cell.after;
      if (!cell.ratio) {
        check.outcome = cell.change == Change::worse         ? Outcome::failed
                        : cell.change == Change::cannot_tell ? Outcome::cannot_tell
                                                             : Outcome::passed;
        check.found = cell.why;
        if (check.outcome == Outcome::cannot_tell) check.settles = more_rounds;
      } else {
        check.found = fmt::format("speedup {:.3g} before, {:.3g} now: {:.3g} ({:.3g} to {:.3g}) times as high",
                                  cell.before->speedup->median, cell.after->speedup->median, cell.ratio->median,
                                  cell.ratio->low, cell.ratio->high);
        check.outcome = cell.ratio->high < least      ? Outcome::failed
                        : cell.ratio->median >= least ? Outcome::passed
                                                      : Outcome::cannot_tell;
        if (cell.grown && check.outcome == Outcome::failed)
          check.found += fmt::format("; `{}` grew by {} a call", cell.grown->id,
                                     duration_text(cell.grown->after_s - cell.grown->before_s));
        if (check.outcome == Outcome::cannot_tell) check.settles = "five runs of each, or more rounds, would settle it";
      }
      checks_.push_back(std::move(check));
    }
  }

  const Analysed& study_;
  const Requirements& required_;
  const Comparison* against_;
  double wider_ = 1;
  std::vector<Check> checks_;
};

}  // namespace

const char* name_of(Outcome outcome) noexcept {
  switch (outcome) {
    case Outcome::passed:
      return "passed";
    case Outcome::failed:
      return "failed";
    case Outcome::cannot_tell:
      break;
  }
  return "cannot tell";
}

std::vector<Check> guard(const Analysed& study, const Requirements& required, const Comparison* against) {
  return Guarding(study, required, against).all();
}

bool any(const std::vector<Check>& checks, Outcome outcome) noexcept {
  return std::any_of(checks.begin(), checks.end(), [&](const Check& check) { return check.outcome == outcome; });
}

}  // namespace antcrew::analysis_layer
