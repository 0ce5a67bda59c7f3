#include "antcrew/study/internal/confirming.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/series.hpp"
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
    } else if (!stands()) {
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

  // The first confirmation that came to its end stands: of several one could choose. What is edited afterwards was not
  // in it.
  bool stands() const {
    const int number = confirmed_by(run_.record);
    if (number == 0) return false;
    const ConfirmationFacts& last = run_.record.confirmations.back();
    int confirmed = 0;
    int attempt = 1;
    for (const Cell& cell : run_.record.cells) {
      for (const Trial& trial : cell.trials) {
        if (trial.confirming == number) confirmed = std::max(confirmed, trial.order.value_or(0));
      }
      attempt = std::max(attempt, cell.attempt);
    }
    if (attempt == 1) return true;
    return std::none_of(run_.record.cells.begin(), run_.record.cells.end(), [&](const Cell& cell) {
      return cell.point == last.point && cell.attempt > 1 && !cell.trials.empty() &&
             cell.trials.front().order.value_or(0) > confirmed;
    });
  }

  std::optional<ConfirmationFacts> choose() {
    const Analysed study = analyse(run_.record);
    const std::size_t point = headline_point(run_.record);
    std::vector<std::size_t> chosen = contenders(study, point);
    if (chosen.empty()) return std::nullopt;
    ConfirmationFacts facts{point, chosen.front(), {chosen.begin() + 1, chosen.end()}, run_.plan.rounds};
    const int least = run_.plan.rounds > 0 ? run_.plan.rounds : least_confirming;
    // In blocks with fewer rivals rather than in one block with all.
    facts.blocks = std::max(least_for_interval, run_.plan.launches);
    if (run_.plan.rounds > 0) facts.blocks = std::min(facts.blocks, run_.plan.rounds);
    int room = rounds_that_fit(facts);
    while (room < least && !facts.rivals.empty() && run_.plan.rounds == 0) {
      facts.rivals.pop_back();
      room = rounds_that_fit(facts);
    }
    if (room < std::min(least, least_confirming) && facts.blocks > 1) {
      facts.blocks = 1;
      room = rounds_that_fit(facts);
    }
    if (room < std::min(least, least_confirming)) {
      const double needed = run_.elapsed_s() + opening_s(point) + round_s(facts) * least * 1.1;
      run_.leave_out(LeftOut::What::confirming, point, needed, "no time left to confirm the best in fresh rounds");
      return std::nullopt;
    }
    facts.rounds =
        std::min(room, run_.plan.rounds > 0 ? run_.plan.rounds : std::max(facts.blocks, rounds_wanted(facts)));
    if (facts.blocks > 1 && run_.plan.rounds == 0) choose_blocks(facts);
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
    if (const auto known = run_.opening_s.find(point); known != run_.opening_s.end()) return known->second;
    double seconds = 0;
    for (const BlockFacts& block : run_.record.blocks) {
      if (block.point == point) seconds = block.make_input_s + block.reference_s;
    }
    return seconds;
  }

  // A block for each round, where that costs little: then blocks are many, and what they share by chance averages out.
  static bool block_a_round(double opening_s, double round_s) { return opening_s < round_s / 2; }

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

  // None where there is no time for that many blocks.
  int rounds_that_fit(const ConfirmationFacts& facts) const {
    if (!run_.budget.limited()) return stage_ends.back() + run_.plan.rounds;
    const double each = std::max(1e-6, round_s(facts));
    const double opening = opening_s(facts.point);
    const double left = run_.budget.total_s() - run_.elapsed_s();
    const double rounds = facts.blocks > 1 && block_a_round(opening, each)
                              ? left / (each + opening)
                              : (left - std::max(1, facts.blocks) * opening) / each;
    return rounds < facts.blocks ? 0 : static_cast<int>(std::clamp(rounds, 0.0, 1e6));
  }

  // More blocks than asked for, with fewer rounds where time is short, as long as that makes the interval narrower;
  // they take no more time than their rounds do.
  void choose_blocks(ConfirmationFacts& facts) const {
    const double each = std::max(1e-6, round_s(facts));
    const double opening = opening_s(facts.point);
    if (block_a_round(opening, each)) return;
    const int wanted = facts.rounds;
    ConfirmationFacts tried = facts;
    double narrowest = interval_factor(facts.blocks, facts.rounds);
    for (++tried.blocks; tried.blocks * opening <= wanted * each && tried.blocks <= wanted; ++tried.blocks) {
      tried.rounds = std::min(wanted, rounds_that_fit(tried));
      if (tried.rounds < least_confirming || tried.rounds < tried.blocks) break;
      const double width = interval_factor(tried.blocks, tried.rounds);
      if (width >= 0.99 * narrowest) continue;
      narrowest = width;
      facts = tried;
    }
  }

  int blocks_of(const ConfirmationFacts& facts, int number) const {
    int blocks = 0;
    for (const Trial& trial : run_.record.cells[facts.leader].trials) {
      if (trial.confirming == number) blocks = std::max(blocks, trial.block.value_or(1));
    }
    return blocks;
  }

  void make(const ConfirmationFacts& facts, int done) {
    const auto number = static_cast<int>(run_.record.confirmations.size());
    const double ends_s = run_.budget.limited() ? late * run_.budget.total_s() : 0;
    const auto may_go = [&](double seconds) { return run_.budget.fits(run_.elapsed_s(), seconds, ends_s); };
    for (int block = blocks_of(facts, number) + 1; done < facts.rounds; ++block) {
      if (block > 1 && !may_go(opening_s(facts.point) + round_s(facts))) break;
      auto made = make_block(facts, number, block, done, may_go);
      if (!made) made = make_block(facts, number, block, done, may_go);  // forked now
      if (made.value_or(0) == 0) break;
      done += *made;
    }
  }

  // How many rounds it had; none where the baseline failed since the program was started anew for it.
  std::optional<int> make_block(const ConfirmationFacts& facts, int number, int which, int done,
                                const BlockRun::MayGo& may_go) {
    std::vector<std::size_t> cells{facts.leader};
    cells.insert(cells.end(), facts.rivals.begin(), facts.rivals.end());
    BlockRun block(run_, facts.point, cells_among(run_, facts.point, cells), number);
    for (Running& r : block.cells()) {
      if (!r.baseline() && r.spec.baseline()) return 0;  // this run does not have that variant
    }
    if (block.baseline_over() || block.cells()[1].over) return 0;
    const auto inputs = static_cast<std::uint64_t>(run_.study.input_count());
    block.be_block(which, static_cast<std::uint64_t>(which) % inputs, afresh_);
    int made = 0;
    try {
      if (block.open()) {
        const int rounds = rounds_of_block(facts, done, which);
        while (made < rounds && !block.variants_over() && block.generation(1, may_go)) {
          ++made;
          run_.progress = 1 - Budget::reserved_share * (1 - static_cast<double>(done + made) / facts.rounds);
        }
      }
    } catch (const BlockLost& lost) {
      if (done + made < least_confirming)
        run_.leave_out(LeftOut::What::confirming, facts.point, 0, "not confirmed: " + lost.fault.text);
      made = 0;
    } catch (const FailedAfresh& failed) {
      afresh_ = false;
      run_.tools.host.fork_from_now_on(failed.trouble);
      if (made == 0) {
        run_.tools.host.close();
        return std::nullopt;
      }
    }
    block.close();
    return made;
  }

  // By what the last block cost, not by what it showed.
  int rounds_of_block(const ConfirmationFacts& facts, int done, int which) const {
    const int left = facts.rounds - done;
    if (facts.blocks <= 1) return left;
    if (block_a_round(opening_s(facts.point), round_s(facts))) return 1;
    const int blocks = std::max(1, facts.blocks - which + 1);
    return (left + blocks - 1) / blocks;
  }

  RunState& run_;
  bool afresh_ = run_.plan.launches > 0;
};

}  // namespace

void confirm(RunState& run) {
  Confirming(run).all();
}

}  // namespace antcrew::internal
