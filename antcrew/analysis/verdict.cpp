#include "antcrew/analysis/verdict.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <utility>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {
namespace {

// A result that is computed when it is read makes the comparison take as long as the work.
constexpr double much_longer_compare = 3;
constexpr double part_of_baseline = 0.3;
constexpr double least_judged_s = 1e-3;
constexpr double least_judged_once_s = 10e-3;  // a few turns of other programs

// Threads that merely spin for a while do so for the same time at every size; work that was left grows.
constexpr double grows = 2;
constexpr double tail_share = 0.2;
constexpr double least_tail_s = 5e-3;

constexpr double remembering_share = 0.05;

constexpr double hardly_any_cpu = 0.01;
constexpr double computing_share = 0.5;  // below this share of wall time on a processor, the work mostly waits

struct FaultVerdict {
  Fault::Kind kind;
  Verdict verdict;
};
constexpr FaultVerdict by_rank[] = {
    {Fault::Kind::crashed, Verdict::crashed},
    {Fault::Kind::out_of_memory, Verdict::out_of_memory},
    {Fault::Kind::timed_out, Verdict::timed_out},
    {Fault::Kind::threw, Verdict::threw},
    {Fault::Kind::wrong_answer, Verdict::wrong_answer},
    {Fault::Kind::left_work, Verdict::left_work},
    {Fault::Kind::remembered, Verdict::remembered},
    {Fault::Kind::changed_input, Verdict::changed_input},
    {Fault::Kind::changed_program, Verdict::changed_program},
    {Fault::Kind::cannot_disagree, Verdict::not_measured},
};

const Fault* first_fault(const Cell& cell, Fault::Kind kind) {
  for (const Fault& fault : cell.faults) {
    if (fault.kind == kind) return &fault;
  }
  return nullptr;
}

std::string wrong_answer_evidence(const Cell& cell, const Fault& fault) {
  const auto wrong = std::count_if(cell.trials.begin(), cell.trials.end(), [](const Trial& t) { return !t.agreed; });
  const std::size_t trials = cell.trials.size();
  if (wrong == 0 || static_cast<std::size_t>(wrong) == trials) return fault.text;
  return fmt::format("in {} of {} trials, right in the others: {}", wrong, trials, fault.text);
}

// How often it ended so, where it was tried once more.
std::string with_tries(const Cell& cell, const Fault& fault) {
  if (!cell.came_through) return fault.text;
  std::set<std::pair<int, int>> visits;
  for (const Trial& trial : cell.trials) visits.emplace(trial.confirming, trial.round);
  const auto ended = std::count_if(cell.faults.begin(), cell.faults.end(),
                                   [&](const Fault& other) { return other.kind == fault.kind; });
  const auto all = static_cast<std::ptrdiff_t>(visits.size()) + ended + (*cell.came_through ? 1 : 0);
  return fmt::format("in {} of {} tries: {}", ended, all, fault.text);
}

bool computed_when_read(const Cell& cell, const Cell& baseline, std::string& evidence) {
  if (cell.trials.empty() || baseline.trials.empty()) return false;
  const double own = median_of(cell, &Trial::compare_s);
  const double usual = median_of(baseline, &Trial::compare_s);
  const double baseline_s = median_of(baseline, &Trial::wall_s);
  if (baseline_s < least_judged_s || own < much_longer_compare * usual + part_of_baseline * baseline_s) return false;
  evidence = fmt::format(
      "the result was computed only when it was read: the call returned after {}, comparing its answer took {}, the "
      "baseline's {}",
      duration_text(median_of(cell, &Trial::wall_s)), duration_text(own), duration_text(usual));
  return true;
}

// The same variant, crew and workers at another size, with trials.
const Cell* sibling_at_smallest_size(const Record& record, const Cell& cell) {
  const Cell* smallest = nullptr;
  for (const Cell& other : record.cells) {
    const bool sibling = other.variant == cell.variant && other.crew == cell.crew && other.workers == cell.workers &&
                         other.attempt == cell.attempt && !other.trials.empty();
    if (!sibling || record.points[other.point].size >= record.points[cell.point].size) continue;
    if (smallest == nullptr || record.points[other.point].size < record.points[smallest->point].size) smallest = &other;
  }
  return smallest;
}

bool tail_grows(const Record& record, const Cell& cell, const Cell& baseline, std::string& evidence) {
  const double tail_cpu_s = median_of(cell, &Trial::tail_cpu_s);
  if (tail_cpu_s < std::max(least_tail_s, tail_share * median_of(baseline, &Trial::wall_s))) return false;
  const Cell* smaller = sibling_at_smallest_size(record, cell);
  if (smaller == nullptr || tail_cpu_s < grows * median_of(*smaller, &Trial::tail_cpu_s)) return false;
  evidence = fmt::format("the call returned after {}, others went on for {} more, {} of CPU time; at size {} it was {}",
                         duration_text(median_of(cell, &Trial::wall_s)), duration_text(median_of(cell, &Trial::tail_s)),
                         duration_text(tail_cpu_s), record.points[smaller->point].size,
                         duration_text(median_of(*smaller, &Trial::tail_cpu_s)));
  return true;
}

double first_cpu_s(const Cell& cell) {
  return cell.cold_cpu_s.empty() ? 0 : median(cell.cold_cpu_s);
}

// A memo that goes by the input gives the right answer to any; but it costs nothing.
bool remembers(const Cell& cell, const Cell& baseline, std::string& evidence) {
  const double first_s = first_cpu_s(cell);
  std::vector<double> settled;
  for (const Trial& trial : cell.trials) {
    const auto cpu_s = trial.cpu_s();
    if (!cpu_s || (trial.first && trial.calls < 2)) continue;
    // CPU time is a mean over all calls, the first one among them where that was timed: it is taken out again.
    const auto calls = static_cast<double>(trial.calls);
    settled.push_back(trial.first ? std::max(0.0, (*cpu_s * calls - first_s) / (calls - 1)) : *cpu_s);
  }
  if (settled.empty() || !cell.keeps.empty() || cell.kind == Cell::Kind::probe) return false;
  const double baseline_s = median_cpu_s(baseline).value_or(0);
  const double settled_s = median(std::move(settled));
  const double little_s = remembering_share * std::min(first_s, baseline_s);
  if (std::min(first_s, baseline_s) < least_judged_s || settled_s >= little_s) return false;
  evidence = fmt::format(
      "a steady-state call uses {} of CPU time, its first one {}, the baseline {}: it keeps what it has computed. "
      "Where "
      "that "
      "is meant, as with a plan, the study says so: variant(…).keeps(\"the plan\")",
      duration_text(settled_s), duration_text(first_s), duration_text(baseline_s));
  return true;
}

// The reference call was its first one. On a busy machine one short call may be kept waiting by others: then the
// shortest of several tells, and of a single one only what no waiting explains.
bool baseline_remembers(const Record& record, const Cell& baseline, std::string& evidence) {
  std::vector<double> firsts;
  for (const BlockFacts& block : record.blocks) {
    if (block.point == baseline.point) firsts.push_back(block.reference_s);
  }
  if (baseline.trials.empty() || firsts.empty()) return false;
  const double first_s = *std::min_element(firsts.begin(), firsts.end());
  const double settled_s = median_of(baseline, &Trial::wall_s);
  const double least_s = firsts.size() > 1 ? least_judged_s : least_judged_once_s;
  if (first_s < least_s || settled_s >= remembering_share * first_s) return false;
  evidence = fmt::format("its first call took {}, later ones {}: it keeps what it has computed", duration_text(first_s),
                         duration_text(settled_s));
  return true;
}

// A command is seen from outside: one thread at every look, and it computed.
bool command_has_one_thread(const Cell& cell, std::string& evidence) {
  constexpr int enough_looks = 3;
  int looked = 0;
  for (const Trial& trial : cell.trials) {
    if (!trial.most_threads) continue;
    ++looked;
    if (*trial.most_threads > 1) return false;
  }
  const auto cpu_s = median_cpu_s(cell);
  const double wall_s = median_of(cell, &Trial::wall_s);
  if (looked < enough_looks || !cpu_s || *cpu_s < computing_share * wall_s) return false;
  evidence =
      fmt::format("asked for {} workers, but whenever it was looked at it had one thread in one process", cell.workers);
  return true;
}

bool workers_idle(const Cell& cell, const Cell& baseline, std::string& evidence) {
  if (cell.workers < 2 || cell.kind == Cell::Kind::baseline || cell.trials.empty()) return false;
  if (command_has_one_thread(cell, evidence)) return true;
  // What others than the caller did is not known of every trial; then nothing is said.
  const auto known = [](const Trial& trial) { return trial.cpu_s() && trial.others_cpu_s; };
  if (!std::all_of(cell.trials.begin(), cell.trials.end(), known)) return false;
  const double cpu_s = *median_cpu_s(cell);
  const double wall_s = median_of(cell, &Trial::wall_s);
  // Being kept from running by others is not waiting.
  const bool waits = std::none_of(cell.trials.begin(), cell.trials.end(), [](const Trial& trial) {
    return *trial.cpu_s() + trial.run_delay_s.value_or(0) >= computing_share * trial.wall_s;
  });
  const bool small = median_of(baseline, &Trial::wall_s) < least_judged_s || wall_s < least_judged_s;
  const bool any = std::any_of(cell.trials.begin(), cell.trials.end(), [](const Trial& trial) {
    return *trial.others_cpu_s > hardly_any_cpu * *trial.cpu_s();
  });
  if (waits || small || any) return false;
  evidence =
      fmt::format("asked for {} workers, but the calling thread used {} of {} of CPU time itself", cell.workers,
                  duration_text(cpu_s - *median_where_known(cell, [](const Trial& t) { return t.others_cpu_s; })),
                  duration_text(cpu_s));
  return true;
}

double spins_after_s(const Cell& cell) {
  const double tail_s = median_of(cell, &Trial::tail_s);
  return tail_s < least_tail_s ? 0 : tail_s;
}

}  // namespace

const char* name_of(Verdict verdict) noexcept {
  switch (verdict) {
    case Verdict::crashed:
      return "crashed";
    case Verdict::out_of_memory:
      return "out of memory";
    case Verdict::timed_out:
      return "timed out";
    case Verdict::threw:
      return "threw";
    case Verdict::wrong_answer:
      return "wrong answer";
    case Verdict::left_work:
      return "left work running";
    case Verdict::remembered:
      return "remembered its answer";
    case Verdict::changed_input:
      return "changed its input";
    case Verdict::changed_program:
      return "changed its program";
    case Verdict::idle_workers:
      return "did not use its workers";
    case Verdict::not_measured:
      return "not measured";
    case Verdict::too_few_rounds:
      return "too few rounds";
    case Verdict::too_noisy:
      return "too noisy to call";
    case Verdict::holds:
      break;
  }
  return "holds";
}

double median_of(const Cell& cell, double Trial::*field) {
  if (cell.trials.empty()) return 0;
  std::vector<double> values;
  for (const Trial& trial : cell.trials) values.push_back(trial.*field);
  return median(std::move(values));
}

std::optional<double> median_where_known(const Cell& cell,
                                         const std::function<std::optional<double>(const Trial&)>& field) {
  std::vector<double> known;
  for (const Trial& trial : cell.trials) {
    if (const auto value = field(trial)) known.push_back(*value);
  }
  return known.empty() ? std::nullopt : std::optional<double>(median(std::move(known)));
}

std::optional<double> median_a_call(const Cell& cell, std::optional<std::int64_t> Trial::*count) {
  return median_where_known(cell, [count](const Trial& trial) -> std::optional<double> {
    if (!(trial.*count)) return std::nullopt;
    return static_cast<double>(*(trial.*count)) / static_cast<double>(trial.calls);
  });
}

std::optional<double> median_cpu_s(const Cell& cell) {
  return median_where_known(cell, [](const Trial& trial) { return trial.cpu_s(); });
}

namespace {

// One that gives two answers to the same input: whoever is compared with it is not to blame.
bool contradicts_itself(const Cell& baseline) {
  return first_fault(baseline, Fault::Kind::wrong_answer) != nullptr;
}

Judgement judge_baseline(const Record& record, const Cell& cell) {
  Judgement judgement;
  if (contradicts_itself(cell)) {
    judgement.verdict = Verdict::wrong_answer;
    judgement.evidence =
        "it gives different answers to the same input: " + first_fault(cell, Fault::Kind::wrong_answer)->text;
  } else if (baseline_remembers(record, cell, judgement.evidence)) {
    judgement.verdict = Verdict::remembered;
  }
  return judgement;
}

Judgement judge_without_trials(const Record& record, const Cell& cell) {
  if (const Fault* fault = first_fault(cell, Fault::Kind::wrong_answer))
    return {Verdict::wrong_answer, fault->text, {}};  // of a baseline: it contradicted itself before any round
  for (const Cell& other : record.cells) {
    const bool its = other.kind == cell.kind && other.key() == cell.key() && other.attempt == cell.attempt;
    if (!its || first_fault(other, Fault::Kind::timed_out) == nullptr) continue;
    return {Verdict::not_measured,
            fmt::format("not tried: it hung with {} worker{} at {}", other.workers, other.workers == 1 ? "" : "s",
                        record.points[other.point].size > 0 ? "size " + std::to_string(record.points[other.point].size)
                                                            : std::string("another cell")),
            {}};
  }
  return {Verdict::not_measured, "no trial was made", {}};
}

}  // namespace

Judgement judge(const Record& record, const Cell& cell) {
  const Cell* baseline = baseline_of(record, cell);
  if (cell.kind != Cell::Kind::baseline && baseline != nullptr && contradicts_itself(*baseline))
    return {Verdict::not_measured, "the baseline gives different answers to the same input", {}};
  for (const FaultVerdict& rank : by_rank) {
    if (cell.kind == Cell::Kind::baseline && rank.kind == Fault::Kind::wrong_answer) continue;
    if (const Fault* fault = first_fault(cell, rank.kind)) {
      const bool wrong = rank.kind == Fault::Kind::wrong_answer;
      return {rank.verdict, wrong ? wrong_answer_evidence(cell, *fault) : with_tries(cell, *fault), {}};
    }
  }
  if (cell.trials.empty()) return judge_without_trials(record, cell);
  if (cell.kind == Cell::Kind::baseline) return judge_baseline(record, cell);
  Judgement judgement;
  if (baseline == nullptr || baseline->trials.empty()) return judgement;
  if (computed_when_read(cell, *baseline, judgement.evidence) ||
      tail_grows(record, cell, *baseline, judgement.evidence)) {
    judgement.verdict = Verdict::left_work;
  } else if (remembers(cell, *baseline, judgement.evidence)) {
    judgement.verdict = Verdict::remembered;
  } else if (!cell.chooses_workers && workers_idle(cell, *baseline, judgement.evidence)) {
    judgement.verdict = Verdict::idle_workers;
  } else {
    judgement.spins_after_s = spins_after_s(cell);
  }
  return judgement;
}

}  // namespace antcrew::analysis_layer
