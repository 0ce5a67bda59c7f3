#include "antcrew/analysis/guard.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/finding_ids.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr const char* more_rounds = "more rounds would settle it: a larger --budget";

// Other programs, and the hypervisor, may keep a processor from one worker of several: then a region takes twice as
// long, and the baseline beside it no longer. What is lost beyond that was not lost to them.
constexpr double lost_to_others = 0.5;

void check_scope(const Analysed& study, const Requirements& required) {
  std::vector<std::string> known;
  bool found = false;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind != Cell::Kind::variant || !f.newest) continue;
    known.push_back(f.cell->variant);
    found =
        found || required.variant.empty() || f.cell->variant == required.variant || f.cell->key() == required.variant;
  }
  if (found) return;
  const std::string where = printable(study.record->title, 60) + " of " + printable(study.record->created, 30);
  if (known.empty()) bad_input("guard.scope", where, "no variant was tried in this run", "give a record with figures");
  const std::string near = nearest_word(known, required.variant);
  bad_input("guard.scope", where, "no variant '" + printable(required.variant, 60) + "' was tried in this run",
            near.empty() ? "see `antcrew show RECORD` for their names" : "did you mean '" + printable(near, 60) + "'?");
}

void check_ids(const Requirements& required) {
  for (const std::string& id : required.no_finding) {
    if (is_finding_id(id)) continue;
    const std::string near = nearest_word(finding_ids(), id);
    bad_input("guard.finding", "'" + printable(id, 60) + "'", "no finding has this id",
              near.empty() ? "docs/guides/findings.md lists them" : "did you mean '" + near + "'?");
  }
}

class Guarding {
 public:
  Guarding(const std::vector<const Analysed*>& runs, const Requirements& required, const Comparison* against)
      : runs_(runs), required_(required), against_(against) {}

  std::vector<Check> all() {
    check_ids(required_);
    for (const Analysed* run : runs_) check_scope(*run, required_);
    const int looked_at =
        ((required_.speedup ? 1 : 0) + (required_.efficiency ? 1 : 0)) * static_cast<int>(runs_.size());
    wider_ = deviations_for(1 - usual_false_alarms / std::max(1, looked_at)) / deviations_of_95;
    for (const Analysed* run : runs_) {
      study_ = run;
      const std::size_t first = checks_.size();
      const CellFigures* best = of_interest();
      if (required_.speedup) at_least("speedup", best, *required_.speedup, 1);
      if (required_.efficiency)
        at_least("efficiency", best, *required_.efficiency, best == nullptr ? 1 : best->cell->workers);
      if (required_.all_hold) hold();
      if (required_.memory_bytes) memory();
      for (const std::string& id : required_.no_finding) finding(id);
      for (std::size_t k = first; k < checks_.size(); ++k) checks_[k].in = run;
    }
    study_ = runs_.back();
    if (required_.not_worse && against_ != nullptr) not_worse();
    if (checks_.empty())
      bad_input("guard.option", "guard", "nothing is required",
                "say what, such as --speedup 1.5, or give --requirements FILE");
    return std::move(checks_);
  }

 private:
  // On a machine that was not idle a figure may fail for another reason than the program. `high`: of the share that is
  // left of what was asked.
  void forgive_noise(Check& check, double high, const std::string& how) const {
    if (how.empty() || check.outcome != Outcome::failed || high < lost_to_others) return;
    check.outcome = Outcome::cannot_tell;
    check.settles = "the machine was not idle (" + how + "): measure again";
  }

  bool in_scope(const CellFigures& f) const {
    return f.cell->kind == Cell::Kind::variant && f.newest &&
           (required_.variant.empty() || f.cell->variant == required_.variant || f.cell->key() == required_.variant);
  }

  // At the headline's point: its leader, else by the same ratios that it was chosen by, else the first that is there.
  const CellFigures* of_interest() const {
    const CellFigures* leader = study_->conclusion.leader;
    if (leader != nullptr && in_scope(*leader)) return leader;
    const CellFigures* best = nullptr;
    const CellFigures* any = nullptr;
    for (const CellFigures& f : study_->cells) {
      if (!in_scope(f) || f.cell->point != study_->conclusion.point) continue;
      if (any == nullptr) any = &f;
      if (f.verdict < Verdict::too_few_rounds || !f.explored) continue;
      if (best == nullptr || f.explored->median > best->explored->median) best = &f;
    }
    return best != nullptr ? best : any;
  }

  void at_least(const char* name, const CellFigures* f, double least, int per) {
    Check check;
    check.what = fmt::format("{} at least {:.4g}", name, least);
    check.of = f;
    if (f == nullptr || f->verdict < Verdict::not_measured) {
      check.outcome = Outcome::failed;
      check.found = f == nullptr ? "it was not tried at the size that the headline speaks of"
                                 : fmt::format("it is \"{}\"", name_of(f->verdict));
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
      forgive_noise(check, high / per / least, disturbed(*study_->record));
    }
    checks_.push_back(std::move(check));
  }

  void hold() {
    Check check;
    check.what = "every cell is valid";
    int open = 0;
    for (const CellFigures& f : study_->cells) {
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
      check.found = fmt::format("{} cell{} inconclusive: too few rounds, or too noisy", open, open == 1 ? "" : "s");
      check.settles = more_rounds;
    }
    checks_.push_back(std::move(check));
  }

  void memory() {
    Check check;
    check.what = "memory at most " + bytes_text(static_cast<std::uint64_t>(*required_.memory_bytes));
    double most = 0;
    const CellFigures* out = nullptr;
    for (const CellFigures& f : study_->cells) {
      if (!in_scope(f)) continue;
      if (f.verdict == Verdict::out_of_memory) {
        out = &f;
      } else if (f.peak_bytes > most) {
        most = f.peak_bytes;
        check.of = &f;
      }
    }
    if (out != nullptr) {
      check.of = out;
      check.outcome = Outcome::failed;
      check.found = "it ran out of memory";
    } else if (most <= 0) {
      check.outcome = Outcome::cannot_tell;
      check.found = "its memory is not known";
      check.settles = "measure without a launcher, and longer than 50 ms per call";
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
    for (const CellFigures* cell : explained_cells(*study_)) {
      if (!in_scope(*cell)) continue;
      told = told || withheld_because(*study_, *cell).empty();
      for (const Finding& f : findings_of(*study_, *cell)) {
        if (f.id != id || check.outcome == Outcome::failed) continue;
        check.of = cell;
        const bool sure = f.sure != Finding::Sure::open;
        check.outcome = sure ? Outcome::failed : Outcome::cannot_tell;
        check.found = f.kind == Finding::Kind::loss ? fmt::format("{:.0f} % of its workers' time", 100 * f.share)
                                                    : std::string("it is there");
        if (!sure) {
          check.found += f.or_else.empty() ? ", perhaps" : ", or it is " + f.or_else;
          check.settles = "measure again on an idle machine";
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

  std::string what_is_allowed() const {
    return required_.not_worse_by ? fmt::format("not worse by more than {:.3g} %", 100 * *required_.not_worse_by)
                                  : std::string("not worse");
  }

  // As compare() tells it, so that both say the same of the same runs.
  void not_worse() {
    const std::size_t first = checks_.size();
    for (const ComparedCell& cell : against_->cells) {
      if (in_scope(*cell.after)) not_worse(cell);
    }
    for (const Unmatched& gone : against_->only_before) missing(gone);
    if (checks_.size() > first) return;
    Check check;
    check.what = what_is_allowed();
    check.outcome = Outcome::cannot_tell;
    check.found = "the two have no cell in common";
    check.settles = "measure the same variants, worker counts and sizes";
    checks_.push_back(std::move(check));
  }

  void not_worse(const ComparedCell& cell) {
    Check check;
    check.what = what_is_allowed();
    check.of = cell.after;
    check.in = study_;
    if (!cell.ratio) {
      check.outcome = cell.change == Change::worse         ? Outcome::failed
                      : cell.change == Change::cannot_tell ? Outcome::cannot_tell
                                                           : Outcome::passed;
      check.found = cell.why;
      if (check.outcome == Outcome::cannot_tell) check.settles = more_rounds;
    } else {
      const double allowed = required_.not_worse_by.value_or(0);
      const auto speedup = [](const CellFigures& f) {
        return f.speedup ? fmt::format("{:.3g}", f.speedup->median) : std::string("none");
      };
      check.found = fmt::format("speedup {} before, {} now: {} times as high", speedup(*cell.before),
                                speedup(*cell.after), in_words(*cell.ratio));
      check.outcome = cell.change == Change::better_in_time ? Outcome::passed
                      : cell.ratio->high < 1 - allowed      ? Outcome::failed
                      : is_open(cell, allowed)              ? Outcome::cannot_tell
                                                            : Outcome::passed;
      if (cell.change == Change::better_in_time)
        check.found += ", but it takes less time: " + in_words(*cell.time) + " times as fast";
      if (cell.grown && check.outcome == Outcome::failed)
        check.found += fmt::format("; `{}` grew by {} a call", cell.grown->id,
                                   duration_text(cell.grown->after_s - cell.grown->before_s));
      if (check.outcome == Outcome::cannot_tell)
        check.settles = fmt::format("a loss of {:.0f} % would not show: store more runs", 100 * cell.told_from);
      forgive_noise(check, cell.ratio->high, against_->disturbed);
      if (const Differing* elsewhere = against_->differs_by(Differing::Weight::elsewhere)) {
        check.outcome = Outcome::cannot_tell;
        check.settles = fmt::format("{} differs between the two: measure both alike", elsewhere->what);
      }
    }
    checks_.push_back(std::move(check));
  }

  // Too wide to have seen a large loss.
  static bool is_open(const ComparedCell& cell, double allowed) {
    constexpr double large_loss = 0.15;
    return cell.told_from > std::max(large_loss, allowed) && cell.ratio->low < 1 - allowed;
  }

  void missing(const Unmatched& gone) {
    if (!in_scope(*gone.of)) return;
    Check check;
    check.what = "still measured";
    check.found = gone.words + ": the run before has it, the run now has not";
    const bool allowed =
        std::any_of(required_.allow_missing.begin(), required_.allow_missing.end(), [&](const std::string& name) {
          return name == gone.of->cell->variant || name == gone.of->cell->key() || name == gone.words;
        });
    check.outcome = allowed ? Outcome::passed : Outcome::failed;
    if (allowed) {
      check.found += ", as is allowed";
    } else {
      check.settles = "measure it, or allow it: --allow-missing '" + printable(gone.of->cell->variant, 60) + "'";
    }
    checks_.push_back(std::move(check));
  }

  const std::vector<const Analysed*>& runs_;
  const Analysed* study_ = nullptr;  // the run that is looked at
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

std::vector<Check> guard(const std::vector<const Analysed*>& runs, const Requirements& required,
                         const Comparison* against) {
  return Guarding(runs, required, against).all();
}

bool any(const std::vector<Check>& checks, Outcome outcome) noexcept {
  return std::any_of(checks.begin(), checks.end(), [&](const Check& check) { return check.outcome == outcome; });
}

}  // namespace antcrew::analysis_layer
