#include "antcrew/study/internal/exploring.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "antcrew/analysis/claim.hpp"
#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/explaining.hpp"
#include "antcrew/study/internal/metered_cells.hpp"
#include "antcrew/study/internal/point_text.hpp"
#include "antcrew/study/internal/turns.hpp"

namespace antcrew::internal {
namespace {

constexpr int rounds_of_an_expensive_process = 3;
constexpr int least_generations = stage_ends[0];  // for an interval that is worth having
constexpr int settled_generations = stage_ends[1];
constexpr int measured_generations = 3;  // by then their cost is known, also on a machine that was disturbed at first
constexpr double crowd_share = 0.03;     // of a block's time at most
constexpr std::size_t crowd_samples = 15;
constexpr int explained_after = 6;  // rounds, so that no budget is used up before

// What a point took, for a guess at itself and at others.
struct Seen {
  double opening_s = 0;
  double round_s = 0;
  std::size_t size = 0;

  double cost_s(double rounds) const noexcept { return opening_s + rounds * round_s; }
};

class Exploring {
 public:
  explicit Exploring(RunState& run)
      : run_(run),
        explaining_(run),
        headline_(headline_point(run.record)),
        turns_(turns_of(run.record, run.budget.limited() && run.plan.rounds == 0)) {}

  void all() {
    for (turn_ = 0; turn_ < turns_.size() && !nothing_more_; ++turn_) {
      const std::size_t point = at().point;
      if (at().least && generations_at(point) >= fewest_generations()) continue;  // an earlier run has them
      if (turn_ > 0 && point != headline_ && !time_for(point)) {
        leave_out(point);
        continue;
      }
      run_.progress = base_progress();
      try_out(point);
    }
  }

 private:
  const Turn& at() const { return turns_[turn_]; }

  double base_progress() const {
    const double share = run_.budget.confirms() ? 1 - Budget::reserved_share : 1;
    return share * static_cast<double>(turn_) / static_cast<double>(turns_.size());
  }

  // What it took itself, else what the last one took: a larger one takes more, and nobody knows how much.
  double guess_s(std::size_t point, double rounds) const {
    if (const auto known = seen_.find(point); known != seen_.end()) return known->second.cost_s(rounds);
    return last_.size == 0 ? 0 : std::min(1.0, growth_to(point)) * last_.cost_s(rounds);
  }
  double growth_to(std::size_t point) const {
    return static_cast<double>(run_.record.points[point].size) / static_cast<double>(last_.size);
  }
  void saw(std::size_t point, double opening_s, double round_s) {
    last_ = {opening_s, round_s, run_.record.points[point].size};
    seen_[point] = last_;
  }

  bool time_for(std::size_t point) const {
    return run_.budget.fits(run_.elapsed_s(), guess_s(point, 1), run_.budget.exploring_ends_s());
  }

  int generations_at(std::size_t point) const {
    return BlockRun(run_, point, cells_at(run_, point), exploring).generations();
  }
  int fewest_generations() const { return std::min(least_generations, run_.record.plan.most_rounds); }

  // What has its least rounds goes without the look at where its time went. Of what has none, all points to come are
  // told at once, and their turns are taken out.
  void leave_out(std::size_t point) {
    if (generations_at(point) > 0) {
      const std::size_t cells = cells_to_meter(run_.record, cells_at(run_, point), run_.plan.meter).size();
      if (cells > 0) explaining_.say_not_metered(point, static_cast<int>(cells), budget_for(guess_s(point, 1)));
      return;
    }
    std::vector<Turn> kept(turns_.begin(), turns_.begin() + static_cast<std::ptrdiff_t>(turn_));
    std::string sizes;
    for (std::size_t i = turn_; i < turns_.size(); ++i) {
      const std::size_t other = turns_[i].point;
      if (other == headline_ || generations_at(other) > 0) {
        kept.push_back(turns_[i]);
      } else if (turns_[i].least == at().least) {
        sizes += (sizes.empty() ? " " : ", ") + std::to_string(run_.record.points[other].size);
      }
    }
    run_.leave_out(LeftOut::What::points, point, budget_for(missing_s_ + to_come_s()),
                   fmt::format("no time for size{}{}", sizes.find(',') == std::string::npos ? "" : "s", sizes));
    turns_ = std::move(kept);
    --turn_;
  }

  // What points without a round would take, if larger ones take more in proportion.
  double to_come_s() const {
    double seconds = 0;
    for (std::size_t point = 0; point < run_.record.points.size() && last_.size > 0; ++point) {
      if (seen_.count(point) == 0 && generations_at(point) == 0)
        seconds += growth_to(point) * last_.cost_s(settled_generations);
    }
    return seconds;
  }

  // A budget that has so many more seconds for exploring, a quarter of it for confirming.
  double budget_for(double more_s) const {
    const double share = run_.plan.confirm ? 1 - Budget::reserved_share : 1;
    return std::max(run_.budget.total_s() * 1.1, (run_.elapsed_s() + more_s) / share);
  }

  void try_out(std::size_t point) {
    BlockRun block(run_, point, cells_at(run_, point), exploring);
    if (block.cells().size() < 2 || block.baseline_over() || block.variants_over() || finished(block)) return;
    try {
      if (block.open()) {
        rounds(point, block);
        explaining_.explain(point, block, {at().least, true});
        block.try_again([&](double seconds) {
          return run_.budget.fits(run_.elapsed_s(), seconds, run_.budget.exploring_ends_s());
        });
      }
    } catch (const BlockLost& lost) {
      block.lost(lost.fault);
    }
    block.close();
  }

  bool finished(const BlockRun& block) const {
    return block.generations() >= (at().least ? fewest_generations() : run_.record.plan.most_rounds);
  }

  void rounds(std::size_t point, BlockRun& block) {
    if (run_.budget.limited() && turn_ == 0 && run_.elapsed_s() >= run_.budget.total_s()) {
      nothing_more_ = true;
      const double needed = budget_for(settled_generations * 3 * block.reference_s());
      run_.leave_out(LeftOut::What::everything, point, needed,
                     fmt::format("making the input and the reference answer alone took {}, more than the budget of "
                                 "{:.0f} s",
                                 duration_text(block.opening_s()), run_.budget.total_s()));
      return;
    }
    const double began_s = run_.elapsed_s();
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
      if (block.generations() == explained_after) explaining_.explain(point, block, {at().least, false});
      crowds(point, block, began_s);
      look(block);
      run_.progress = base_progress() + (1 - Budget::reserved_share) / static_cast<double>(turns_.size()) *
                                            block.generations() / run_.record.plan.most_rounds;
    }
    if (block.generations() >= least_for_interval) run_.not_left_out(LeftOut::What::rounds, point);
    saw(point, block.opening_s(), each_s);
  }

  // One visit of every cell of the first turn and of the headline's point is made in any case, as far as the whole
  // budget allows; of the first cell always.
  bool first_round(std::size_t point, BlockRun& block) {
    int visits = 0;
    const double ends_s = turn_ == 0 || point == headline_ ? run_.budget.total_s() : run_.budget.exploring_ends_s();
    const bool whole = block.generation(
        1, [&](double seconds) { return visits++ == 0 || run_.budget.fits(run_.elapsed_s(), seconds, ends_s); });
    if (whole || block.baseline_over()) return whole;
    nothing_more_ = true;
    const auto cells = static_cast<double>(block.cells().size());
    const double round_s = block.last_generation_s() * cells / std::max(1, visits - 1);
    saw(point, block.opening_s(), round_s);
    missing_s_ = (settled_generations - 1) * round_s;
    const double needed = budget_for(missing_s_ + to_come_s());
    run_.leave_out(LeftOut::What::cells, point, needed,
                   fmt::format("one round at {} takes about {}: not every cell could be tried; --resume goes on",
                               point_text(run_.record.points[point]), duration_text(round_s)));
    return false;
  }

  // Stands that cost more than their visits stay for several rounds, of which the median counts once.
  int rounds_of_generation(const BlockRun& block) const {
    return run_.plan.rounds == 0 && block.renewing_s() > block.visiting_s() ? rounds_of_an_expensive_process : 1;
  }

  // Now the cost of a generation is known, better after each of the first few. Returns when exploring this point ends.
  double plan_ahead(std::size_t point, BlockRun& block, double each_s) {
    Budget& budget = run_.budget;
    if (!budget.limited()) return 0;
    const double now = run_.elapsed_s();
    saw(point, block.opening_s(), each_s);
    const int wanted = std::min(least_generations, run_.record.plan.most_rounds) - block.generations();
    const double needed_s = std::max(0, wanted) * each_s;
    if (point == headline_ && block.generations() == measured_generations) {
      const bool hoped = budget.confirms();
      if (!budget.keep_back(now, each_s / static_cast<double>(block.cells().size()), block.opening_s(), needed_s) &&
          hoped)
        say_not_confirmed(point, each_s, now + needed_s);
    }
    const double share_ends_s = at().least ? now : budget.point_ends_s(now, turns_.size() - turn_);
    double ends_s = budget.at_least(share_ends_s, now, needed_s);
    if (budget.fits(now, needed_s, ends_s)) return ends_s;
    if ((at().least || point == headline_) && budget.confirms()) {  // what is kept back for confirming is needed here
      budget.give_up_confirming();
      say_not_confirmed(point, each_s, now + needed_s);
      ends_s = budget.at_least(ends_s, now, needed_s);
    }
    const int possible = block.generations() + static_cast<int>(std::max(0.0, ends_s - now) / each_s);
    const bool sure = block.generations() >= measured_generations || possible < 3;
    if (budget.fits(now, needed_s, ends_s) || possible >= least_for_interval || !sure) return ends_s;
    missing_s_ = std::max(0.0, now + (settled_generations - block.generations()) * each_s - ends_s);
    const double settled_s = budget_for(ends_s - now + missing_s_ + to_come_s());
    run_.leave_out(LeftOut::What::rounds, point, settled_s,
                   fmt::format("time for about {} round{} at {}, too few for an interval: a round takes {}", possible,
                               possible == 1 ? "" : "s", point_text(run_.record.points[point]), duration_text(each_s)));
    return ends_s;
  }

  void say_not_confirmed(std::size_t point, double each_s, double explored_s) {
    const double exploring_s = explored_s + to_come_s();
    const double cells = static_cast<double>(cells_at(run_, point).size());
    const double confirming_s = least_confirming * each_s * std::min(1.0, static_cast<double>(most_rivals + 2) / cells);
    const double needed = std::max(exploring_s / (1 - Budget::reserved_share), exploring_s + confirming_s);
    run_.leave_out(LeftOut::What::confirming, headline_, needed, "no time to confirm the best in fresh rounds");
  }

  // Cells that need no more rounds are left out of those to come.
  void look(BlockRun& block) {
    if (run_.plan.rounds != 0 || !is_stage_end(block.generations())) return;
    const std::vector<double> correlations = explored_correlations(run_.record);
    for (Running& r : block.cells()) {
      if (r.over || r.baseline()) continue;
      const Cell& cell = run_.record.cells[r.index];
      const Cell* baseline = baseline_of(run_.record, cell);
      const auto estimate = explored_ratio(*baseline, cell, staged_level, correlations[r.index]);
      if (estimate) r.over = r.stages.finished(*estimate);
    }
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
        most_copies_[point] = copies - 1;
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
    int most = run_.record.machine.usable_processors();
    if (const auto fitted = most_copies_.find(point); fitted != most_copies_.end())
      most = std::min(most, fitted->second);
    counts.push_back(1);
    for (const int workers : run_.grid.workers_at(run_.record.points[point])) {
      if (workers > 1 && workers <= most) counts.push_back(workers);
    }
    std::sort(counts.begin(), counts.end());
    return counts;
  }

  RunState& run_;
  Explaining explaining_;
  std::size_t headline_;
  std::vector<Turn> turns_;
  std::size_t turn_ = 0;
  std::map<std::size_t, Seen> seen_;  // of points with rounds of this run
  Seen last_;
  double missing_s_ = 0;  // that the points before would have needed
  bool nothing_more_ = false;
  std::map<std::size_t, int> most_copies_;  // of a crowd at a point where more did not fit
  double crowd_s_ = 0;                      // spent on crowds in this turn
};

}  // namespace

void explore(RunState& run) {
  Exploring(run).all();
}

}  // namespace antcrew::internal
