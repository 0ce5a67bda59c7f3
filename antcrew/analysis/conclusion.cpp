#include "antcrew/analysis/conclusion.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/stages.hpp"
#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

// Two cells that are equally good are told apart by chance in one of a hundred studies while exploring, and in one of
// forty while confirming: together "Best" is said wrongly in less than one of twenty.
constexpr double told_apart_level = 0.99;

bool same_code(const Cell& a, const Cell& b) {
  return a.variant == b.variant && a.crew == b.crew && a.attempt == b.attempt;
}

// What is wrong with a few workers or at a small size was lucky where it held.
bool discredited(const Analysed& study, const CellFigures& of) {
  return std::any_of(study.cells.begin(), study.cells.end(), [&](const CellFigures& other) {
    const bool bad = other.verdict == Verdict::crashed || other.verdict == Verdict::threw ||
                     other.verdict == Verdict::wrong_answer || other.verdict == Verdict::left_work ||
                     other.verdict == Verdict::remembered || other.verdict == Verdict::changed_input;
    return bad && same_code(*other.cell, *of.cell);
  });
}

bool could_lead(const CellFigures& f, std::size_t point) {
  return f.cell->point == point && f.cell->kind == Cell::Kind::variant && f.newest && f.verdict == Verdict::holds &&
         f.explored;
}

// Those that hold, best first.
std::vector<const CellFigures*> ranked(const Analysed& study, std::size_t point, const CellFigures** passed_over) {
  std::vector<const CellFigures*> all;
  for (const CellFigures& f : study.cells) {
    if (could_lead(f, point)) all.push_back(&f);
  }
  std::stable_sort(all.begin(), all.end(), [](const CellFigures* a, const CellFigures* b) {
    return a->explored->median > b->explored->median;
  });
  std::vector<const CellFigures*> sound;
  for (const CellFigures* f : all) {
    if (!discredited(study, *f)) {
      sound.push_back(f);
    } else if (sound.empty() && passed_over != nullptr && *passed_over == nullptr) {
      *passed_over = f;
    }
  }
  return sound;
}

// Those not told apart from the first while exploring.
std::vector<const CellFigures*> not_told_apart(const std::vector<const CellFigures*>& ranked) {
  std::vector<const CellFigures*> level;
  for (std::size_t i = 1; i < ranked.size(); ++i) {
    const ByGeneration ratios = ratios_of(*ranked[i]->cell, *ranked[0]->cell, exploring);
    const double reachable = 1 - std::pow(0.5, static_cast<double>(ratios.size()) - 1);  // by the whole range seen
    const bool few = ratios.size() < static_cast<std::size_t>(stage_ends[0]);
    const auto ratio =
        explored_ratio(*ranked[i]->cell, *ranked[0]->cell,
                       few ? told_apart_level : std::min(told_apart_level, reachable), ranked[0]->correlation);
    if (!ratio || !ratio->claimed || ratio->low <= 1) level.push_back(ranked[i]);
  }
  return level;
}

Conclusion without_leader(const Analysed& study, Conclusion so_far) {
  const Cell* baseline = baseline_of(*study.record, so_far.point);
  bool open = false;
  for (const CellFigures& f : study.cells) {
    if (f.cell->point != so_far.point) continue;
    const bool too_little = f.verdict == Verdict::too_few_rounds || f.verdict == Verdict::too_noisy ||
                            (f.verdict == Verdict::not_measured && f.cell->kind == Cell::Kind::variant);
    open = open || (too_little && !discredited(study, f));
  }
  const bool unsound = std::any_of(study.cells.begin(), study.cells.end(), [&](const CellFigures& f) {
    return f.cell == baseline && f.verdict < Verdict::not_measured;
  });
  const bool no_baseline = baseline == nullptr || baseline->trials.empty() || unsound;
  const bool dropped = std::any_of(study.record->left_out.begin(), study.record->left_out.end(),
                                   [](const LeftOut& left) { return left.what == LeftOut::What::everything; });
  so_far.answer = no_baseline && !dropped ? Conclusion::Kind::no_baseline
                  : open                  ? Conclusion::Kind::cannot_tell
                                          : Conclusion::Kind::none_holds;
  return so_far;
}

// Leader, its speedup, those level with it and those better are known.
Conclusion::Kind said_by(const Conclusion& known) {
  if (known.better != nullptr) return Conclusion::Kind::not_confirmed;
  if (!known.speedup || !known.speedup->claimed) return Conclusion::Kind::cannot_tell;
  const double least = 1 + known.matters;
  if (known.matters > 0 && known.speedup->low > 1 / least && known.speedup->high < least)
    return Conclusion::Kind::no_difference;
  if (known.speedup->low <= least) return Conclusion::Kind::not_faster;
  return known.level.empty() && !known.of_one_block ? Conclusion::Kind::best : Conclusion::Kind::faster;
}

Conclusion apparent(Conclusion so_far, const std::vector<const CellFigures*>& ranked, double base_level,
                    const Cell& baseline) {
  so_far.leader = ranked.front();
  so_far.level = not_told_apart(ranked);
  const double level = 1 - (1 - base_level) / static_cast<double>(ranked.size());
  so_far.speedup = explored_ratio(baseline, *so_far.leader->cell, level, so_far.leader->correlation);
  so_far.answer = said_by(so_far);
  return so_far;
}

const CellFigures* figures_of(const Analysed& study, std::size_t cell) {
  return &study.cells.at(cell);
}

// Cells that were behind, and so were not tried again, though their speedup before was above what the leader has in
// fresh rounds: clearly, and then the leader is not the best of what was measured, whichever of the two times was
// unusual; or by its middle, and then it is not told apart from them.
void weigh_others(Conclusion& confirmed, const std::vector<const CellFigures*>& ranked) {
  if (!confirmed.speedup || !confirmed.speedup->claimed) return;
  for (const CellFigures* other : ranked) {
    const bool own = other == confirmed.leader || other->confirmed;
    if (own || !other->speedup || !other->speedup->claimed) continue;
    if (other->speedup->low > confirmed.speedup->high) {
      if (confirmed.better == nullptr) confirmed.better = other;
    } else if (other->speedup->median > confirmed.speedup->median &&
               std::find(confirmed.level.begin(), confirmed.level.end(), other) == confirmed.level.end()) {
      confirmed.level.push_back(other);
    }
  }
}

// By the confirmation alone, but for the cells that exploring did not tell apart and that were not tried again.
Conclusion confirmed(const Analysed& study, Conclusion so_far, const ConfirmationFacts& facts, int number,
                     const std::vector<const CellFigures*>& ranked, const Cell& baseline) {
  so_far.confirmed = true;
  so_far.leader = figures_of(study, facts.leader);
  const Cell& leader = *so_far.leader->cell;
  const std::size_t among = chosen_from(*study.record, so_far.point);
  so_far.claim = claim_of(baseline, leader, number, 0.95, among);
  if (so_far.claim) so_far.speedup = so_far.claim->ratio;
  so_far.of_one_block = counts_blocks(*study.record) && (!so_far.claim || so_far.claim->blocks == 0);
  so_far.by_input = disagreeing_inputs(*study.record, baseline, leader, number);
  const double level = 1 - 0.05 / static_cast<double>(std::max<std::size_t>(facts.rivals.size(), 1));
  for (const std::size_t index : facts.rivals) {
    const CellFigures* rival = figures_of(study, index);
    if (rival->verdict < Verdict::not_measured) continue;  // it fell out by a fault
    const auto claim = claim_of(*rival->cell, leader, number, level, among);
    const auto ratio = claim ? std::optional(claim->ratio) : std::nullopt;
    if (so_far.rivals_by_input.empty())
      so_far.rivals_by_input = disagreeing_inputs(*study.record, *rival->cell, leader, number);
    if (ratio && ratio->claimed && ratio->low > 1 + so_far.matters) continue;
    if (ratio && ratio->claimed && ratio->high < 1 / (1 + so_far.matters) &&
        (so_far.better == nullptr || ratio->median < 1 / so_far.better_by->median)) {
      so_far.better = rival;
      so_far.better_by = Estimate{1 / ratio->median, 1 / ratio->high, 1 / ratio->low, ratio->count, true};
    }
    so_far.level.push_back(rival);
  }
  for (const CellFigures* other : not_told_apart(ranked)) {
    const bool tried = std::any_of(facts.rivals.begin(), facts.rivals.end(),
                                   [&](std::size_t index) { return figures_of(study, index) == other; });
    if (!tried) so_far.level.push_back(other);
  }
  weigh_others(so_far, ranked);
  so_far.answer = said_by(so_far);
  return so_far;
}

}  // namespace

const char* name_of(Conclusion::Kind answer) noexcept {
  switch (answer) {
    case Conclusion::Kind::nothing_measured:
      return "nothing measured";
    case Conclusion::Kind::no_baseline:
      return "no baseline";
    case Conclusion::Kind::none_holds:
      return "none holds";
    case Conclusion::Kind::cannot_tell:
      return "cannot tell";
    case Conclusion::Kind::not_faster:
      return "not faster";
    case Conclusion::Kind::no_difference:
      return "no difference";
    case Conclusion::Kind::faster:
      return "faster";
    case Conclusion::Kind::best:
      return "best";
    case Conclusion::Kind::not_confirmed:
      break;
  }
  return "not confirmed";
}

std::size_t headline_point(const Record& record) noexcept {
  const auto& points = record.points;
  return static_cast<std::size_t>(
      std::max_element(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.size < b.size; }) -
      points.begin());
}

double advised_budget_s(const Record& record) noexcept {
  double figures_s = 0;
  double rest_s = 0;
  for (const LeftOut& left : record.left_out) {
    const bool beside = left.what == LeftOut::What::checks || left.what == LeftOut::What::metering;
    double& most_s = beside ? rest_s : figures_s;
    most_s = std::max(most_s, left.needed_s);
  }
  double needed_s = figures_s > 0 ? figures_s : rest_s;
  if (!(needed_s > 0)) return 0;
  constexpr double more = 1.1;
  needed_s = std::max(needed_s, more * record.plan.budget_s);
  const double unit = std::max(1.0, std::pow(10.0, std::floor(std::log10(needed_s)) - 1));  // two digits
  return std::ceil(needed_s / unit - 1e-9) * unit;
}

std::vector<std::size_t> contenders(const Analysed& study, std::size_t point) {
  const std::vector<const CellFigures*> order = ranked(study, point, nullptr);
  std::vector<std::size_t> chosen;
  if (order.empty()) return chosen;
  const auto add = [&](const CellFigures* f) { chosen.push_back(static_cast<std::size_t>(f - study.cells.data())); };
  add(order.front());
  for (const CellFigures* rival : not_told_apart(order)) {
    if (chosen.size() <= most_rivals) add(rival);
  }
  // With another input another one may be the best: exploring had one alone.
  for (const CellFigures* other : order) {
    if (study.record->plan.inputs < 2 || chosen.size() > most_rivals) break;
    const auto place = static_cast<std::size_t>(other - study.cells.data());
    if (std::find(chosen.begin(), chosen.end(), place) == chosen.end()) add(other);
  }
  return chosen;
}

// The median of n values with spread s lies within 1.96 · 1.2533 · s / √n of the true one, for normal ones.
int rounds_for(const std::vector<double>& ratios, double width, int least) {
  if (ratios.size() < 4 || !(width > 0)) return least;
  std::vector<double> logs;
  for (const double ratio : ratios) logs.push_back(std::log(ratio));
  std::sort(logs.begin(), logs.end());
  const auto at = [&](double share) {
    return logs[static_cast<std::size_t>(share * static_cast<double>(logs.size() - 1) + 0.5)];
  };
  const double spread = (at(0.75) - at(0.25)) / 1.349;
  const double needed = std::ceil(std::pow(1.96 * 1.2533 * spread / width, 2));
  return static_cast<int>(std::clamp(needed, static_cast<double>(least), static_cast<double>(stage_ends.back())));
}

int confirmed_by(const Record& record) {
  if (record.confirmations.empty()) return 0;
  const ConfirmationFacts& last = record.confirmations.back();
  const int number = static_cast<int>(record.confirmations.size());
  const Cell* baseline = baseline_of(record, record.cells[last.leader]);
  if (baseline == nullptr) return 0;
  const auto done = static_cast<int>(ratios_of(*baseline, record.cells[last.leader], number).size());
  return done >= std::min(last.rounds, least_confirming) ? number : 0;
}

Conclusion conclude(const Analysed& study) {
  Conclusion so_far;
  const Record& record = *study.record;
  if (record.points.empty()) return so_far;
  so_far.point = headline_point(record);
  so_far.matters = record.plan.matters.value_or(0);
  so_far.of_one_block = counts_blocks(record);
  const std::vector<const CellFigures*> order = ranked(study, so_far.point, &so_far.passed_over);
  const int number = confirmed_by(record);
  const bool again = number > 0 && record.confirmations.back().point == so_far.point;
  if (again) {
    const CellFigures* leader = figures_of(study, record.confirmations.back().leader);
    const bool sound = leader->verdict >= Verdict::not_measured && leader->newest && !discredited(study, *leader);
    const Cell* baseline = baseline_of(record, *leader->cell);
    if (sound && baseline != nullptr)
      return confirmed(study, so_far, record.confirmations.back(), number, order, *baseline);
  }
  const Cell* baseline = order.empty() ? nullptr : baseline_of(record, *order.front()->cell);
  if (baseline == nullptr) return without_leader(study, so_far);
  return apparent(so_far, order, level_of(record), *baseline);
}

}  // namespace antcrew::analysis_layer
