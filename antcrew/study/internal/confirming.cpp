#include "antcrew/study/internal/confirming.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/study/internal/run_parts.hpp"

namespace antcrew::internal {
namespace {

// A confirmation may end so much after the budget: what it has is worth more than the last seconds.
constexpr double late = 1.1;

class Confirming {
 public:
  explicit Confirming(RunState& run) : run_(run) {}

  void all() {
    int done = 0;
    ConfirmationFacts facts;
    if (unfinished(done)) {
      facts = run_.record.confirmations.back();
    } else if (explored_since()) {
      const auto chosen = choose();
      if (!chosen) return;
      facts = *chosen;
      RecordStep step;
      step.confirmation = facts;
      run_.add(std::move(step));
    } else {
      return;
    }
    make(facts, done);
  }

 private:
  bool unfinished(int& done) const {
    if (run_.record.confirmations.empty()) return false;
    const ConfirmationFacts& last = run_.record.confirmations.back();
    const int number = static_cast<int>(run_.record.confirmations.size());
    // Of a round that was stopped inside, some cells have their trial and others do not.
    const auto rounds_of = [&](std::size_t index) {
      const Cell& cell = run_.record.cells[index];
      return static_cast<int>(ratios_of(*baseline_of(run_.record, cell), cell, number).size());
    };
    done = rounds_of(last.leader);
    for (const std::size_t index : last.rivals) done = std::min(done, rounds_of(index));
    return done < last.rounds;
  }

  // What was confirmed already is not confirmed again, unless there is more to choose from.
  bool explored_since() const {
    int explored = 0;
    int confirmed = 0;
    for (const Cell& cell : run_.record.cells) {
      for (const Trial& trial : cell.trials)
        (trial.confirming > 0 ? confirmed : explored) =
            std::max(trial.confirming > 0 ? confirmed : explored, trial.order.value_or(0));
    }
    return run_.record.confirmations.empty() || explored > confirmed;
  }

  std::optional<ConfirmationFacts> choose() {
    const Analysed study = analyse(run_.record);
    const std::size_t point = headline_point(run_.record);
    std::vector<std::size_t> chosen = contenders(study, point);
    if (chosen.empty()) return std::nullopt;
    ConfirmationFacts facts{point, chosen.front(), {chosen.begin() + 1, chosen.end()}, run_.plan.rounds};
    const int least = run_.plan.rounds > 0 ? run_.plan.rounds : least_confirming;
    int room = rounds_that_fit(facts);
    while (room < least && !facts.rivals.empty() && run_.plan.rounds == 0) {
      facts.rivals.pop_back();
      room = rounds_that_fit(facts);
    }
    if (room < std::min(least, least_confirming)) {
      const double needed = run_.elapsed_s() + opening_s(point) + round_s(facts) * least * 1.1;
      run_.leave_out(LeftOut::What::confirming, point, needed, "no time left to confirm the best in fresh rounds");
      return std::nullopt;
    }
    facts.rounds = std::min(room, run_.plan.rounds > 0 ? run_.plan.rounds : rounds_wanted(facts));
    return facts;
  }

  // As narrow as asked for the leader, and told apart from its rivals where 60 rounds can do that.
  int rounds_wanted(const ConfirmationFacts& facts) const {
    const Cell& leader = run_.record.cells[facts.leader];
    const auto values = [](const ByGeneration& ratios) {
      std::vector<double> plain;
      for (const auto& [generation, ratio] : ratios) plain.push_back(ratio);
      return plain;
    };
    int wanted = rounds_for(values(ratios_of(*baseline_of(run_.record, leader), leader, exploring)),
                            run_.record.plan.width, least_confirming);
    for (const std::size_t index : facts.rivals) {
      std::vector<double> ratios = values(ratios_of(run_.record.cells[index], leader, exploring));
      if (ratios.size() < 4) continue;
      const double apart = std::fabs(std::log(median(ratios)));
      const int needed = rounds_for(ratios, apart * 0.8, least_confirming);  // rivals' intervals are wider
      if (needed < stage_ends.back()) wanted = std::max(wanted, needed);
    }
    return wanted;
  }

  double opening_s(std::size_t point) const {
    double seconds = 0;
    for (const BlockFacts& block : run_.record.blocks) {
      if (block.point == point) seconds = block.make_input_s + block.reference_s;
    }
    return seconds;
  }

  double round_s(const ConfirmationFacts& facts) const {
    const auto cost = [&](std::size_t index) {
      const auto known = run_.visit_s.find(index);
      return known == run_.visit_s.end() ? 0.0 : known->second;
    };
    const Cell* baseline = baseline_of(run_.record, run_.record.cells[facts.leader]);
    double seconds = cost(facts.leader) + cost(static_cast<std::size_t>(baseline - run_.record.cells.data()));
    for (const std::size_t index : facts.rivals) seconds += cost(index);
    return seconds;
  }

  int rounds_that_fit(const ConfirmationFacts& facts) const {
    if (!run_.budget.limited()) return stage_ends.back() + run_.plan.rounds;
    const double left = run_.budget.total_s() - run_.elapsed_s() - opening_s(facts.point);
    const double each = std::max(1e-6, round_s(facts));
    return static_cast<int>(std::clamp(left / each, 0.0, 1e6));
  }

  void make(const ConfirmationFacts& facts, int done) {
    std::vector<std::size_t> cells{facts.leader};
    cells.insert(cells.end(), facts.rivals.begin(), facts.rivals.end());
    BlockRun block(run_, facts.point, cells_among(run_, facts.point, cells),
                   static_cast<int>(run_.record.confirmations.size()));
    for (Running& r : block.cells()) {
      if (!r.baseline() && r.spec.baseline()) return;  // this run does not have that variant
    }
    if (block.baseline_over() || block.cells()[1].over) return;
    try {
      if (block.open()) {
        const double ends_s = run_.budget.limited() ? late * run_.budget.total_s() : 0;
        const auto may_go = [&](double seconds) { return run_.budget.fits(run_.elapsed_s(), seconds, ends_s); };
        for (int k = done; k < facts.rounds && !block.variants_over(); ++k) {
          if (!block.generation(1, may_go)) break;
          run_.progress = 1 - Budget::reserved_share * (1 - static_cast<double>(k + 1) / facts.rounds);
        }
      }
    } catch (const BlockLost& lost) {
      run_.leave_out(LeftOut::What::confirming, facts.point, 0, "not confirmed: " + lost.fault.text);
    }
    block.close();
  }

  RunState& run_;
};

}  // namespace

void confirm(RunState& run) {
  Confirming(run).all();
}

}  // namespace antcrew::internal
