#include "antcrew/study/internal/explaining.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/ledger.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/metered_cells.hpp"
#include "antcrew/study/internal/point_text.hpp"
#include "antcrew/study/internal/turns.hpp"

namespace antcrew::internal {
namespace {

constexpr double checks_share = 0.05;      // of the budget at most
constexpr double explaining_share = 0.18;  // the same, of checks and metered calls together
constexpr int metered_calls = 3;
// Of a budget so short that no cell of the largest count would be seen: one call each, in up to so much of it.
constexpr double in_any_case_share = 0.3;

}  // namespace

void Explaining::explain(std::size_t point, BlockRun& block, How how) {
  checks(point, block, how.last);
  if (!how.checks_only) meter(point, block, how.last);
  run_.visit_ended_ns = run_.tools.now_ns();
}

void Explaining::checks(std::size_t point, BlockRun& block, bool last) {
  const double allowed_s = checks_share * run_.budget.total_s();
  const std::size_t other = smaller_size(run_.record, point);
  std::vector<std::size_t> order;
  for (std::size_t i = 0; i < block.cells().size(); ++i) {
    const Cell& cell = run_.record.cells[block.cells()[i].index];
    if (cell.kind == Cell::Kind::variant && !cell.trials.empty() && cell.faults.empty() && !cell.check)
      order.push_back(i);
  }
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    const auto seconds = [&](std::size_t i) { return run_.record.cells[block.cells()[i].index].trials.back().wall_s; };
    return seconds(a) < seconds(b);
  });
  LeftOut left{LeftOut::What::checks, point, 0, 0};
  for (const std::size_t i : order) {
    const Cell& cell = run_.record.cells[block.cells()[i].index];
    const double foreseen_s = block.facts().make_input_s + 2 * (block.reference_s() + cell.trials.back().wall_s);
    if (run_.budget.limited() && checks_s_ + foreseen_s > allowed_s) {
      ++left.count;
      left.needed_s += foreseen_s;
      continue;
    }
    const double before_s = run_.elapsed_s();
    block.check(i, other);
    checks_s_ += run_.elapsed_s() - before_s;
  }
  if (left.count == 0 || !last) return;
  left.needed_s = (checks_s_ + left.needed_s) / checks_share;
  run_.leave_out(left, fmt::format("no time to try {} cell{} at {} with another input, too", left.count,
                                   left.count == 1 ? "" : "s", point_text(run_.record.points[point])));
}

void Explaining::meter(std::size_t point, BlockRun& block, bool last) {
  if (run_.plan.meter == Metering::none) return;
  together(block);
  const std::vector<std::size_t> order = cells_to_meter(run_.record, block.cells(), run_.plan.meter);
  const double allowed_s = explaining_share * run_.budget.total_s();
  const double in_any_case_s = in_any_case_share * run_.budget.total_s();
  LeftOut left{LeftOut::What::metering, point, 0, 0};  // so far
  for (const std::size_t i : order) {
    const Cell& cell = run_.record.cells[block.cells()[i].index];
    const bool baseline = cell.kind == Cell::Kind::baseline;
    const bool one_worker = alone_is_missing(cell);
    const auto fits = [&](double seconds, double most_s) {
      return !run_.budget.limited() || checks_s_ + meter_s_ + seconds <= most_s;
    };
    int calls = metered_calls;
    // The baseline's calls leave time for those that are to be explained.
    if (!fits(foreseen_s(cell, calls, one_worker), (baseline ? 0.7 : 1) * allowed_s)) calls = 1;
    if (calls == 1 && !fits(foreseen_s(cell, 1, one_worker), in_any_case_s)) {
      ++left.count;
      left.needed_s += foreseen_s(cell, metered_calls, one_worker);
      continue;
    }
    const double before_s = run_.elapsed_s();
    block.meter(i, calls, one_worker);
    meter_s_ += run_.elapsed_s() - before_s;
    meter_again(i, block, allowed_s);
  }
  if (left.count > 0 && last)
    say_not_metered(point, left.count, (checks_s_ + meter_s_ + left.needed_s) / explaining_share);
}

// Once a run, for up to a second, where somebody computes on more processors than one.
void Explaining::together(BlockRun& block) {
  constexpr double share = 0.04;  // of the budget at most
  constexpr double each_s = 0.05;
  constexpr double longest_s = 1;
  if (run_.record.commands || !run_.record.together.empty() || !run_.plan.again.empty()) return;
  int most = 1;
  for (const Running& running : block.cells()) most = std::max(most, run_.record.cells[running.index].workers);
  most = std::min(most, run_.record.machine.usable_processors());
  const std::int64_t began_ns = run_.tools.now_ns();
  const auto spent_s = [&] { return static_cast<double>(run_.tools.now_ns() - began_ns) * 1e-9; };
  const double allowed_s = run_.budget.limited() ? std::min(longest_s, share * run_.budget.total_s()) : longest_s;
  for (int workers = 1; most > 1 && workers <= most;
       workers = workers == most ? most + 1 : std::min(2 * workers, most)) {
    if (spent_s() + each_s > allowed_s) break;
    const auto facts = run_.tools.host.together(workers);
    if (!facts) break;
    RecordStep step;
    step.together = *facts;
    run_.add(std::move(step));
  }
}

// What the study's own cells do not tell of a variant that computes more than the baseline.
bool Explaining::alone_is_missing(const Cell& cell) const {
  if (cell.kind != Cell::Kind::variant || cell.workers < 2 || run_.record.commands) return false;
  return std::none_of(run_.record.cells.begin(), run_.record.cells.end(), [&](const Cell& other) {
    return other.point == cell.point && other.key() == cell.key() && other.workers == 1 && !other.trials.empty();
  });
}

double Explaining::foreseen_s(const Cell& cell, int calls, bool one_worker) const {
  // A command is looked at while it runs, without calls beside: until there are looks enough.
  constexpr double looks_enough_s = 0.3;
  const double call_s = cell.trials.back().wall_s;
  if (run_.record.commands) return calls * std::max(call_s, looks_enough_s);
  // One call alone may be as long as it likes; three are made with as many without a log beside, and some more.
  const double beside_s = beside_calls_s(cell.crew, cell.workers) * calls / metered_calls;
  const double alone_s = one_worker ? 2 * cell.workers * call_s : 0;
  const double places_s = calls == 1 ? 0.2 : 0.45;
  const bool placed = cell.kind == Cell::Kind::variant && cell.workers > 1;
  return (calls == 1 ? 3 : calls + 4) * call_s + beside_s + alone_s +
         (placed ? std::min((1 + cell.workers) * call_s, places_s) : 0);
}

// Calls that met another machine than the timed ones did are made once more; those are judged then, or nothing is.
void Explaining::meter_again(std::size_t i, BlockRun& block, double allowed_s) {
  const Cell& cell = run_.record.cells[block.cells()[i].index];
  const auto disturbed = [&](const LaneSums& sums) { return was_disturbed(sums, cell); };
  const double before_s = run_.elapsed_s();
  double last_s = 0;
  for (const LaneSums& sums : cell.metered) last_s += sums.wall_s;
  if (cell.metered.empty() || !std::all_of(cell.metered.begin(), cell.metered.end(), disturbed)) return;
  if (run_.budget.limited() && checks_s_ + meter_s_ + 2 * last_s > allowed_s) return;
  block.meter(i, metered_calls, false);
  meter_s_ += run_.elapsed_s() - before_s;
}

void Explaining::say_not_metered(std::size_t point, int cells, double needed_s) {
  run_.leave_out(LeftOut{LeftOut::What::metering, point, needed_s, cells},
                 fmt::format("no time to see where the time went in {} cell{} at {}", cells, cells == 1 ? "" : "s",
                             point_text(run_.record.points[point])));
}

}  // namespace antcrew::internal
