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
  const std::vector<std::size_t> order = cells_to_meter(run_.record, block.cells(), run_.plan.meter);
  const double allowed_s = explaining_share * run_.budget.total_s();
  LeftOut left{LeftOut::What::metering, point, 0, 0};  // so far
  for (const std::size_t i : order) {
    const Cell& cell = run_.record.cells[block.cells()[i].index];
    // A command is looked at while it runs, without calls beside: until there are looks enough.
    constexpr double looks_enough_s = 0.3;
    const double call_s = cell.trials.back().wall_s;
    const double foreseen_s = run_.record.commands
                                  ? metered_calls * std::max(call_s, looks_enough_s)
                                  : (metered_calls + 3) * call_s + beside_calls_s(cell.crew, cell.workers);
    const bool baseline = cell.kind == Cell::Kind::baseline;
    if (run_.budget.limited() && checks_s_ + meter_s_ + foreseen_s > (baseline ? 1.5 : 1) * allowed_s) {
      ++left.count;
      left.needed_s += foreseen_s;
      continue;
    }
    const double before_s = run_.elapsed_s();
    block.meter(i, metered_calls);
    meter_s_ += run_.elapsed_s() - before_s;
    meter_again(i, block, allowed_s);
  }
  if (left.count > 0 && last)
    say_not_metered(point, left.count, (checks_s_ + meter_s_ + left.needed_s) / explaining_share);
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
  block.meter(i, metered_calls);
  meter_s_ += run_.elapsed_s() - before_s;
}

void Explaining::say_not_metered(std::size_t point, int cells, double needed_s) {
  run_.leave_out(LeftOut{LeftOut::What::metering, point, needed_s, cells},
                 fmt::format("no time to see where the time went in {} cell{} at {}", cells, cells == 1 ? "" : "s",
                             point_text(run_.record.points[point])));
}

}  // namespace antcrew::internal
