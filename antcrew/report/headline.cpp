#include "antcrew/report/headline.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/compare.hpp"
#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

constexpr std::size_t longest_name = 60;  // columns

std::string workers_in_words(int workers) {
  return fmt::format("{} worker{}", workers, workers == 1 ? "" : "s");
}

std::string speedup_in_words(const CellFigures& figures) {
  return figures.speedup ? "speedup " + ratio_text(*figures.speedup) : std::string("no speedup");
}

bool is_only_point(const Point& point) {
  return point.size == 0 && point.dimensions.empty() && point.pin == Pin::off;
}

// " at size 10,000"; nothing where there is only one point and it has no name.
std::string at_words(const Point& point) {
  return is_only_point(point) ? std::string() : " at " + point_in_words(point);
}

std::string at_point(const Analysed& study) {
  return study.record->points.empty() ? std::string() : at_words(study.record->points[study.conclusion.point]);
}

// What nobody should read over.
std::string build_first(const Record& record) {
  if (!record.build.sanitizers.empty())
    return "Built with a sanitizer, so these times say nothing about a real build. ";
  return record.build.optimised || record.commands
             ? ""
             : "Built without optimisation, so these times say nothing about a real build. ";
}

std::string no_baseline(const Analysed& study) {
  for (const CellFigures& figures : study.cells) {
    const bool told = figures.cell->point == study.conclusion.point && !figures.evidence.empty();
    if (told && figures.cell->kind == Cell::Kind::baseline && !figures.cell->trials.empty()) {
      return fmt::format("Nothing can be ranked{}: the baseline is not to be relied on: {}.", at_point(study),
                         figures.evidence);
    }
    if (told && figures.cell->kind == Cell::Kind::baseline) {
      return fmt::format("Nothing to compare with{}: the baseline has no figures ({}).", at_point(study),
                         figures.evidence);
    }
  }
  return fmt::format("Nothing to compare with{}: the baseline was not tried.", at_point(study));
}

// What is wrong with some workers, or at some size, is not praised for where it was lucky.
std::string passed_over(const Analysed& study) {
  const CellFigures* f = study.conclusion.passed_over;
  if (f == nullptr) return {};
  for (const CellFigures& other : study.cells) {
    const bool same = other.cell->key() == f->cell->key() && other.cell->attempt == f->cell->attempt;
    if (!same || other.verdict >= Verdict::idle_workers) continue;
    return fmt::format(" Faster but excluded: {}, {}, since it is \"{}\" with {}{}.", cell_in_words(*f->cell),
                       speedup_in_words(*f), name_of(other.verdict), workers_in_words(other.cell->workers),
                       at_words(study.record->points[other.cell->point]));
  }
  return {};
}

std::string budget_advice(const Analysed& study) {
  const double needed = advised_budget_s(*study.record);
  if (needed <= 0) return "give it more time with --budget";
  return fmt::format("about {:.0f} s would settle it (--budget {:.0f})", needed, needed);
}

std::string cannot_tell(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  if (c.leader != nullptr) {
    return fmt::format("Too few rounds to call{}: the best so far is {}, {}; {}.", at_point(study),
                       cell_in_words(*c.leader->cell), speedup_in_words(*c.leader), budget_advice(study));
  }
  bool noisy = true;
  for (const CellFigures& f : study.cells) {
    const bool few = f.verdict == Verdict::too_few_rounds || f.verdict == Verdict::not_measured;
    noisy = noisy && !(f.cell->point == c.point && few);
  }
  if (noisy) {
    return fmt::format(
        "Too noisy to call{}: no interval says which side of 1 its speedup is on. Measure on an "
        "idle machine, or give it more time with --budget.",
        at_point(study));
  }
  return fmt::format("Too few rounds to call anything{}: {}.", at_point(study), budget_advice(study));
}

std::string not_confirmed(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  if (!c.better_by) {
    return fmt::format(
        "Not confirmed{}: {} led, but in fresh rounds it reached {} only, less than {} had before: {}. Measure again, "
        "on "
        "an "
        "idle machine or with a larger --budget.",
        at_point(study), cell_in_words(*c.leader->cell), speedup_in_words(*c.leader), cell_in_words(*c.better->cell),
        speedup_in_words(*c.better));
  }
  return fmt::format(
      "Not confirmed{}: {} led, {}, but in fresh rounds {} is faster, {} ({} times as fast). Try again with more "
      "time.",
      at_point(study), cell_in_words(*c.leader->cell), speedup_in_words(*c.leader), cell_in_words(*c.better->cell),
      speedup_in_words(*c.better), ratio_text(*c.better_by));
}

bool by_ratio(const ByInput& a, const ByInput& b) {
  return a.ratio < b.ratio;
}
std::string plain_ratio(double ratio) {
  return fmt::format("{:.2g}", ratio);
}

std::string level_with(const Conclusion& c) {
  if (c.level.empty()) return {};
  const CellFigures& first = *c.level.front();
  return fmt::format(" Statistically indistinguishable from {}, {}{}.", cell_in_words(*first.cell),
                     speedup_in_words(first),
                     c.level.size() > 1 ? fmt::format("; and from {} more", c.level.size() - 1) : "");
}

// Part of the gain then has another cause than the workers.
std::string with_one_worker(const Analysed& study) {
  constexpr double told = 1.05;
  const CellFigures& leader = *study.conclusion.leader;
  if (leader.cell->workers < 2) return {};
  const CellFigures& one = study.cells[study.curves[leader.curve].front()];
  const bool faster = one.cell->workers == 1 && one.verdict == Verdict::holds && one.speedup && one.speedup->claimed &&
                      one.speedup->low >= told;
  if (!faster) return {};
  return fmt::format(" With one worker it has {} already: that part of its gain is not parallelism.",
                     speedup_in_words(one));
}

// Beside the figure, so that nobody reads over it.
std::string few_rounds(const Analysed& study) {
  constexpr int enough = 26;
  const Conclusion& c = study.conclusion;
  if (!c.confirmed || !counts_blocks(*study.record) || !c.claim || c.claim->rounds >= enough) return {};
  return fmt::format(", few rounds ({})", c.claim->rounds);
}

// The sentence speaks of the largest size. Where it says no, what is faster at others is not kept back.
std::string other_sizes(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  if (!counts_blocks(*study.record)) return {};
  if (c.answer != Conclusion::Kind::not_faster && c.answer != Conclusion::Kind::no_difference) return {};
  std::string text;
  for (std::size_t point = study.best.size(); point-- > 0;) {
    const Best& best = study.best[point];
    if (point == c.point || !best.faster || best.cell->speedup->low <= 1 + c.matters) continue;
    text += fmt::format("{}{}, {} is faster, {}", text.empty() ? " At " : "; at ",
                        point_in_words(study.record->points[point]), cell_in_words(*best.cell->cell),
                        speedup_in_words(*best.cell));
  }
  return text.empty() ? text : text + ".";
}

// What the claim rests on, where that is less than one would think.
std::string how_sure(const Analysed& study) {
  constexpr double told_widening = 1.2;
  const Conclusion& c = study.conclusion;
  if (!c.confirmed) return " Preliminary: not confirmed in fresh rounds.";
  if (!counts_blocks(*study.record) || !c.claim) return {};
  std::string text;
  if (c.of_one_block) text += " Of this input and process only: there was no time for six blocks of rounds.";
  if (c.claim->spans) {
    text += fmt::format(" {}: {} before the fresh rounds; the interval spans both.",
                        c.claim->drifts ? "The ratio may drift with time" : "Earlier rounds disagree",
                        ratio_text(*c.claim->spans));
  }
  if (c.claim->widened >= told_widening) {
    text += fmt::format(
        " Neighbouring rounds resemble each other (correlation {:.1f}), which makes the interval {:.1f} "
        "times as wide.",
        c.claim->correlation, c.claim->widened);
  }
  const auto by_input = [&](const std::vector<ByInput>& inputs, const std::string& over) {
    if (inputs.empty()) return;
    text += fmt::format(" It depends on the input: {} times as fast as {} with one, {} with another.",
                        plain_ratio(std::max_element(inputs.begin(), inputs.end(), by_ratio)->ratio), over,
                        plain_ratio(std::min_element(inputs.begin(), inputs.end(), by_ratio)->ratio));
  };
  by_input(c.by_input, "the baseline");
  by_input(c.rivals_by_input, "a rival");
  return text;
}

std::string leads(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  const std::string cell = cell_in_words(*c.leader->cell);
  const std::string speedup = "speedup " + ratio_text(*c.speedup) + few_rounds(study);
  const std::string how = how_sure(study) + other_sizes(study);
  if (c.answer == Conclusion::Kind::no_difference) {
    return fmt::format("No difference that matters (within ±{}){}: the nearest to a gain is {}, {}.{}",
                       percent_text(c.matters), at_point(study), cell, speedup, how);
  }
  if (c.answer == Conclusion::Kind::not_faster) {
    return fmt::format("No variant is shown to beat the baseline{}: the nearest is {}, {}.{}", at_point(study), cell,
                       speedup, how);
  }
  return fmt::format("{}{}{}: {}, efficiency {}.{}{}",
                     c.answer == Conclusion::Kind::best ? "Best: " : "Among the best: ", cell, at_point(study), speedup,
                     percent_text(c.speedup->median / c.leader->cell->workers), with_one_worker(study),
                     level_with(c) + how);
}

}  // namespace

std::string cell_in_words(const Cell& cell) {
  if (cell.kind == Cell::Kind::baseline) return "the baseline";
  const std::string attempt = cell.attempt > 1 ? fmt::format(", attempt {},", cell.attempt) : "";
  return fmt::format("\"{}\" ({}){} with {}", printable(cell.variant, longest_name), cell.crew, attempt,
                     workers_in_words(cell.workers));
}

bool speaks_against(const CellFigures& f) {
  if (f.evidence.empty()) return false;
  return f.verdict != Verdict::not_measured || f.evidence.rfind("not tried", 0) == 0;
}

std::string point_in_words(const Point& point) {
  if (is_only_point(point)) return "the only point";
  std::string text = point.size > 0 ? "size " + count_text(point.size) : std::string();
  if (point.grown_for > 0) {
    text += fmt::format(" ({} grown for {} worker{})", count_text(point.base_size), point.grown_for,
                        point.grown_for == 1 ? "" : "s");
  }
  const auto add = [&text](const std::string& more) { text += (text.empty() ? "" : ", ") + more; };
  for (const auto& [name, value] : point.dimensions)
    add(name + " " + (value.is_word() ? value.word() : count_text(value.number())));
  if (point.pin != Pin::off) add(std::string("pinned ") + name_of(point.pin));
  return text;
}

namespace {

// Where noise limits what can be said it comes first.
std::string busy_machine(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  const std::string how = disturbed(*study.record);
  // Records of before blocks were counted say what they said.
  if (!counts_blocks(*study.record) || how.empty() || c.answer == Conclusion::Kind::nothing_measured ||
      c.answer == Conclusion::Kind::no_baseline)
    return {};
  const bool narrow = c.speedup && c.speedup->claimed && c.speedup->relative_half_width() <= study.record->plan.width;
  if (c.answer == Conclusion::Kind::best && narrow) return {};
  return fmt::format("Limited by noise ({}): ", how);
}

std::string answer_in_words(const Analysed& study) {
  switch (study.conclusion.answer) {
    case Conclusion::Kind::nothing_measured:
      return "Nothing was measured.";
    case Conclusion::Kind::no_baseline:
      return no_baseline(study);
    case Conclusion::Kind::none_holds:
      return fmt::format("No variant is valid{}: see the verdicts.", at_point(study)) + passed_over(study);
    case Conclusion::Kind::cannot_tell:
      return cannot_tell(study);
    case Conclusion::Kind::not_confirmed:
      return not_confirmed(study) + passed_over(study);
    default:
      return leads(study) + passed_over(study);
  }
}

}  // namespace

std::string answer_in_short(const Analysed& study) {
  const Conclusion& c = study.conclusion;
  const auto led_by = [&](const char* before) {
    return fmt::format("{}{}, {}", before, cell_in_words(*c.leader->cell), speedup_in_words(*c.leader));
  };
  switch (c.answer) {
    case Conclusion::Kind::best:
      return led_by("best: ");
    case Conclusion::Kind::faster:
      return led_by("among the best: ");
    case Conclusion::Kind::not_faster:
      return led_by("none is faster; nearest: ");
    case Conclusion::Kind::no_difference:
      return led_by("no difference that matters; nearest: ");
    case Conclusion::Kind::not_confirmed:
      return led_by("not confirmed: ");
    case Conclusion::Kind::cannot_tell:
      return c.leader != nullptr ? led_by("cannot tell; so far: ") : "cannot tell";
    case Conclusion::Kind::none_holds:
      return "no variant is valid";
    case Conclusion::Kind::no_baseline:
      return "nothing to compare with: the baseline has no figures";
    case Conclusion::Kind::nothing_measured:
      break;
  }
  return "nothing was measured";
}

std::string headline(const Analysed& study) {
  return build_first(*study.record) + busy_machine(study) + answer_in_words(study);
}

}  // namespace antcrew::report_layer
