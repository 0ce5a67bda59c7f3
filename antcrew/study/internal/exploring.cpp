#include "antcrew/study/internal/exploring.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>
#include <numeric>

#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/metered_cells.hpp"
#include "antcrew/study/internal/point_text.hpp"

namespace antcrew::internal {
namespace {

constexpr int rounds_of_a_dear_stand = 3;
constexpr int least_generations = stage_ends[0];  // for an interval that is worth having
constexpr int settled_generations = stage_ends[1];
constexpr int measured_generations = 3;  // by then their cost is known, also on a machine that was disturbed at first
constexpr double crowd_share = 0.03;     // of a block's time at most
constexpr std::size_t crowd_samples = 15;
constexpr double checks_share = 0.05;  // of the budget at most
constexpr double meter_share = 0.1;    // the same
constexpr int metered_calls = 3;

std::vector<std::size_t> order_of_points(const Record& record) {
  std::vector<std::size_t> order(record.points.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return record.points[a].size > record.points[b].size; });
  const std::size_t first = headline_point(record);
  std::stable_partition(order.begin(), order.end(), [&](std::size_t point) { return point == first; });
  if (order.size() > 2) {
    const auto middle = order.begin() + static_cast<std::ptrdiff_t>(order.size() / 2);
    std::rotate(order.begin() + 1, middle, middle + 1);
  }
  return order;
}

// What the last point took, for a guess at the next one: no more in proportion to its size.
struct Seen {
  double opening_s = 0;
  double round_s = 0;
  std::size_t size = 0;

  double guess_s(std::size_t other, double rounds) const noexcept {
    if (size == 0) return 0;
    const double scale = std::min(1.0, static_cast<double>(other) / static_cast<double>(size));
    return scale * (opening_s + rounds * round_s);
  }
};

class Exploring {
 public:
  explicit Exploring(RunState& run) : run_(run), order_(order_of_points(run.record)) {}

  void all() {
    for (position_ = 0; position_ < order_.size(); ++position_) {
      if (position_ > 0 && !time_for(order_[position_])) break;
      run_.progress = base_progress();
      point(order_[position_]);
      if (nothing_more_) break;
    }
  }

 private:
  double base_progress() const {
    const double share = run_.budget.confirms() ? 1 - Budget::reserved_share : 1;
    return share * static_cast<double>(position_) / static_cast<double>(order_.size());
  }

  bool time_for(std::size_t point) {
    const double now = run_.elapsed_s();
    const double needed = seen_.guess_s(run_.record.points[point].size, 1);
    if (run_.budget.fits(now, needed, run_.budget.exploring_ends_s())) return true;
    say_points_left_out();
    return false;
  }

  void say_points_left_out() {
    std::string sizes;
    double more = 0;
    for (std::size_t i = position_; i < order_.size(); ++i) {
      const std::size_t size = run_.record.points[order_[i]].size;
      sizes += (sizes.empty() ? "" : ", ") + std::to_string(size);
      more += seen_.guess_s(size, settled_generations);
    }
    const double needed = budget_for(missing_s_ + more);
    run_.leave_out(LeftOut::What::points, order_[position_], needed,
                   fmt::format("no time for size{} {}: a budget of about {:.0f} s would settle {}",
                               order_.size() - position_ == 1 ? "" : "s", sizes, needed,
                               order_.size() - position_ == 1 ? "it" : "them"));
  }

  // A budget that has so many more seconds for exploring, a quarter of it for confirming.
  double budget_for(double more_s) const {
    const double share = run_.plan.confirm ? 1 - Budget::reserved_share : 1;
    return std::max(run_.budget.total_s() * 1.1, (run_.elapsed_s() + more_s) / share);
  }

  void point(std::size_t point) {
    BlockRun block(run_, point, cells_at(run_, point), exploring);
    if (block.cells().size() < 2 || block.baseline_over() || block.variants_over() || finished(block)) return;
    try {
      if (block.open()) {
        rounds(point, block);
        checks(point, block);
        meter(point, block);
      }
    } catch (const BlockLost& lost) {
      block.lost(lost.fault);
    }
    block.close();
  }

  bool finished(const BlockRun& block) const { return block.generations() >= run_.record.plan.most_rounds; }

  void rounds(std::size_t point, BlockRun& block) {
    if (run_.budget.limited() && position_ == 0 && run_.elapsed_s() >= run_.budget.total_s()) {
      nothing_more_ = true;
      const double needed = budget_for(settled_generations * 3 * block.reference_s());
      run_.leave_out(LeftOut::What::everything, point, needed,
                     fmt::format("making the input and the reference answer alone took {}, more than the budget of "
                                 "{:.0f} s; with about {:.0f} s the study can begin",
                                 duration_text(block.opening_s()), run_.budget.total_s(), needed));
      return;
    }
    const double began_s = run_.elapsed_s();
    most_copies_ = std::numeric_limits<int>::max();
    crowd_s_ = 0;
    if (!first_round(point, block)) return;
    const int rounds_each = rounds_of_generation(block);
    double each_s = block.next_generation_s() * rounds_each;
    double ends_s = plan_ahead(point, block, each_s);
    crowds(point, block, began_s);
    look(block);
    while (!finished(block) && !block.variants_over() && !block.baseline_over() &&
           run_.budget.fits(run_.elapsed_s(), each_s, ends_s)) {
      if (!block.generation(rounds_each, [](double) { return true; })) break;
      each_s = block.generations() <= measured_generations ? std::min(each_s, block.next_generation_s())
                                                           : block.next_generation_s();
      if (block.generations() <= measured_generations) ends_s = plan_ahead(point, block, each_s);
      crowds(point, block, began_s);
      look(block);
      run_.progress = base_progress() + (1 - Budget::reserved_share) / static_cast<double>(order_.size()) *
                                            block.generations() / run_.record.plan.most_rounds;
    }
    if (block.generations() >= least_for_interval) run_.not_left_out(LeftOut::What::rounds, point);
    seen_ = {block.opening_s(), each_s, run_.record.points[point].size};
  }

  // One visit of every cell is made in any case, as far as the whole budget allows; of the first cell always.
  bool first_round(std::size_t point, BlockRun& block) {
    int visits = 0;
    const double ends_s = position_ == 0 ? run_.budget.total_s() : run_.budget.exploring_ends_s();
    const bool whole = block.generation(
        1, [&](double seconds) { return visits++ == 0 || run_.budget.fits(run_.elapsed_s(), seconds, ends_s); });
    if (whole || block.baseline_over()) return whole;
    nothing_more_ = true;
    const auto cells = static_cast<double>(block.cells().size());
    const double round_s = block.last_generation_s() * cells / std::max(1, visits - 1);
    seen_ = {block.opening_s(), round_s, run_.record.points[point].size};
    missing_s_ = (settled_generations - 1) * round_s;
    const double needed = budget_for(missing_s_);
    run_.leave_out(LeftOut::What::cells, point, needed,
                   fmt::format("one round at {} takes about {}: not every cell could be tried; --resume goes on, "
                               "and a budget of about {:.0f} s would settle it",
                               point_text(run_.record.points[point]), duration_text(round_s), needed));
    return false;
  }

  // Stands that cost more than their visits stay for several rounds, of which the median counts once.
  int rounds_of_generation(const BlockRun& block) const {
    return run_.plan.rounds == 0 && block.renewing_s() > block.visiting_s() ? rounds_of_a_dear_stand : 1;
  }

  // Now the cost of a generation is known, better after each of the first few. Returns when exploring this point ends.
  double plan_ahead(std::size_t point, BlockRun& block, double each_s) {
    Budget& budget = run_.budget;
    if (!budget.limited()) return 0;
    const double now = run_.elapsed_s();
    const int wanted = std::min(least_generations, run_.record.plan.most_rounds) - block.generations();
    const double needed_s = std::max(0, wanted) * each_s;
    if (position_ == 0 && block.generations() == measured_generations) {
      const bool hoped = budget.confirms();
      if (!budget.keep_back(now, each_s / static_cast<double>(block.cells().size()), needed_s) && hoped)
        say_not_confirmed(point, each_s, now + needed_s);
    }
    double ends_s = budget.at_least(budget.point_ends_s(now, order_.size() - position_), now, needed_s);
    if (budget.fits(now, needed_s, ends_s)) return ends_s;
    if (position_ == 0 && budget.confirms()) {  // what is kept back for confirming is needed here
      budget.give_up_confirming();
      say_not_confirmed(point, each_s, now + needed_s);
      ends_s = budget.at_least(ends_s, now, needed_s);
    }
    const int possible = block.generations() + static_cast<int>(std::max(0.0, ends_s - now) / each_s);
    const bool sure = block.generations() >= measured_generations || possible < 3;
    if (budget.fits(now, needed_s, ends_s) || possible >= least_for_interval || !sure) return ends_s;
    missing_s_ = std::max(0.0, now + (settled_generations - block.generations()) * each_s - ends_s);
    const double settled_s = budget_for(ends_s - now + missing_s_);
    run_.leave_out(LeftOut::What::rounds, point, settled_s,
                   fmt::format("time for about {} round{} at {}, too few for an interval: a round takes {}, and a "
                               "budget of about {:.0f} s would settle it",
                               possible, possible == 1 ? "" : "s", point_text(run_.record.points[point]),
                               duration_text(each_s), settled_s));
    return ends_s;
  }

  void say_not_confirmed(std::size_t point, double each_s, double exploring_s) {
    const double cells = static_cast<double>(cells_at(run_, point).size());
    const double confirming_s = least_confirming * each_s * std::min(1.0, static_cast<double>(most_rivals + 2) / cells);
    const double needed = std::max(exploring_s / (1 - Budget::reserved_share), exploring_s + confirming_s);
    run_.leave_out(
        LeftOut::What::confirming, point, needed,
        fmt::format("no time to confirm the best in fresh rounds: a budget of about {:.0f} s has it", needed));
  }

  // Cells that need no more rounds are left out of those to come.
  void look(BlockRun& block) {
    if (run_.plan.rounds != 0 || !is_stage_end(block.generations())) return;
    for (Running& r : block.cells()) {
      if (r.over || r.baseline()) continue;
      const Cell& cell = run_.record.cells[r.index];
      const Cell* baseline = baseline_of(run_.record, cell);
      const ByGeneration ratios = ratios_of(*baseline, cell, exploring);
      if (const auto estimate = estimate_of(ratios, staged_level)) r.over = r.stages.finished(*estimate);
    }
  }

  // Each variant that is sound so far is tried with another input, off the clock, the fastest first: what is too good
  // to be true, and what will be named the best, is among them. For a small share of the budget, which input and
  // reference may have used up already.
  void checks(std::size_t point, BlockRun& block) {
    const double allowed_s = checks_share * run_.budget.total_s();
    const std::size_t other = other_size(point);
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < block.cells().size(); ++i) {
      const Cell& cell = run_.record.cells[block.cells()[i].index];
      if (cell.kind == Cell::Kind::variant && !cell.trials.empty() && cell.faults.empty() && !cell.check)
        order.push_back(i);
    }
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
      const auto seconds = [&](std::size_t i) {
        return run_.record.cells[block.cells()[i].index].trials.back().wall_s;
      };
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
    if (left.count == 0) return;
    left.needed_s = (checks_s_ + left.needed_s) / checks_share;
    run_.leave_out(left, fmt::format("no time to try {} cell{} at {} with another input, too: a budget of about "
                                     "{:.0f} s has it",
                                     left.count, left.count == 1 ? "" : "s", point_text(run_.record.points[point]),
                                     left.needed_s));
  }

  // Each variant at its largest worker count, and the fastest cell, the baseline first: what they do is logged in calls
  // that are not timed.
  void meter(std::size_t point, BlockRun& block) {
    if (run_.plan.meter == Metering::none) return;
    const std::vector<std::size_t> order = cells_to_meter(run_.record, block.cells(), run_.plan.meter);
    const double allowed_s = meter_share * run_.budget.total_s();
    LeftOut left{LeftOut::What::metering, point, 0, 0};
    for (const std::size_t i : order) {
      const Cell& cell = run_.record.cells[block.cells()[i].index];
      // A command is looked at while it runs, without calls beside: until there are looks enough.
      constexpr double looks_enough_s = 0.3;
      const double call_s = cell.trials.back().wall_s;
      const double foreseen_s =
          run_.record.commands
              ? metered_calls * std::max(call_s, looks_enough_s)
              : (metered_calls + 3) * call_s + (works_without_a_crew(cell.crew, cell.workers) ? looking_s : 0);
      const bool baseline = cell.kind == Cell::Kind::baseline;
      if (run_.budget.limited() && meter_s_ + foreseen_s > (baseline ? 2 : 1) * allowed_s) {
        ++left.count;
        left.needed_s += foreseen_s;
        continue;
      }
      const double before_s = run_.elapsed_s();
      block.meter(i, metered_calls);
      meter_s_ += run_.elapsed_s() - before_s;
    }
    if (left.count == 0) return;
    left.needed_s = (meter_s_ + left.needed_s) / meter_share;
    run_.leave_out(left, fmt::format("no time to see where the time went in {} cell{} at {}: a budget of about "
                                     "{:.0f} s has it",
                                     left.count, left.count == 1 ? "" : "s", point_text(run_.record.points[point]),
                                     left.needed_s));
  }

  // The next smaller size of the study with all else equal, else one eighth less.
  std::size_t other_size(std::size_t point) const {
    const Point& at = run_.record.points[point];
    std::size_t best = 0;
    for (const Point& other : run_.record.points) {
      Point same = other;
      same.size = at.size;
      same.base_size = at.base_size;
      if (same == at && other.size < at.size) best = std::max(best, other.size);
    }
    if (best > 0 || at.size < 2) return best;
    return at.size - std::max<std::size_t>(1, at.size / 8);
  }

  // Copies of the baseline, alone and together, one after the other: one of each a generation, so that the k-th of them
  // belong together, for a small share of the time. A number of copies that did not fit is not tried again.
  void crowds(std::size_t point, const BlockRun& block, double began_s) {
    if (!run_.plan.crowd || block.facts().own_inputs || !run_.plan.again.empty()) return;
    const double spent_s = run_.elapsed_s() - began_s;
    const std::vector<int> counts = crowd_counts(point);
    const double foreseen_s = 5 * block.reference_s() * static_cast<double>(counts.size());
    if (counts.size() < 2 || crowd_s_ > crowd_share * spent_s || crowd_s_ + foreseen_s > 2 * crowd_share * spent_s)
      return;
    const double before_s = run_.elapsed_s();
    std::vector<RecordStep> steps;
    for (const int copies : counts) {
      const auto time_s = run_.tools.host.crowd(copies);
      if (!time_s) {
        most_copies_ = copies - 1;
        break;
      }
      steps.emplace_back();
      steps.back().crowd = CrowdFacts{point, copies, {*time_s}};
    }
    if (steps.size() > 1) {
      for (RecordStep& step : steps) run_.add(std::move(step));
    }
    crowd_s_ += run_.elapsed_s() - before_s;
    run_.visit_ended_ns = run_.tools.now_ns();  // not made up for by the next visit
  }

  // One, and the worker counts that have a processor each; none where there are samples enough.
  std::vector<int> crowd_counts(std::size_t point) const {
    const bool enough = std::any_of(run_.record.crowds.begin(), run_.record.crowds.end(), [&](const CrowdFacts& crowd) {
      return crowd.point == point && crowd.time_s.size() >= crowd_samples;
    });
    std::vector<int> counts;
    if (enough) return counts;
    counts.push_back(1);
    for (const int workers : run_.grid.workers_at(run_.record.points[point])) {
      if (workers > 1 && workers <= std::min(run_.record.machine.usable_processors(), most_copies_))
        counts.push_back(workers);
    }
    std::sort(counts.begin(), counts.end());
    return counts;
  }

  RunState& run_;
  std::vector<std::size_t> order_;
  std::size_t position_ = 0;
  Seen seen_;
  double missing_s_ = 0;  // that the points before would have needed
  bool nothing_more_ = false;
  int most_copies_ = 0;  // of a crowd at this point
  double crowd_s_ = 0;   // spent on crowds at this point
  double meter_s_ = 0;   // spent on metered calls, at all points
  double checks_s_ = 0;  // spent on checks, at all points
};

}  // namespace

void explore(RunState& run) {
  Exploring(run).all();
}

}  // namespace antcrew::internal
