#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <numeric>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/log/coarse_sums.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/internal/ledger_words.hpp"

namespace antcrew::report_layer {

const char* words_for(LaneState state) noexcept {
  constexpr const char* words[] = {"running",
                                   "waiting outside the crew",
                                   "runnable without a processor",
                                   "waiting for a lock",
                                   "waiting for a stage or for room",
                                   "moving data",
                                   "serial section",
                                   "serial section, waiting",
                                   "starting and ending workers",
                                   "wake-up delay",
                                   "nothing ready to do",
                                   "idle at the join",
                                   "not accounted for",
                                   "waiting for a message"};
  return words[static_cast<std::size_t>(state)];
}

std::string parts_text(const LaneParts& parts, double lane_seconds, bool crew) {
  constexpr double told = 0.005;
  std::vector<std::size_t> order;
  for (std::size_t k = 0; k < parts.seconds.size(); ++k) {
    if (parts.seconds[k] > told * lane_seconds) order.push_back(k);
  }
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return parts.seconds[a] > parts.seconds[b]; });
  std::string text;
  for (const std::size_t k : order) {
    const auto state = static_cast<LaneState>(k);
    const char* words = crew || (state != LaneState::serial && state != LaneState::serial_wait) ? words_for(state)
                        : state == LaneState::serial                                            ? "one at work alone"
                                                     : "waiting for that one";
    text += fmt::format("    {:<40} {:>8} {:>6}\n", words, duration_text(parts.seconds[k]),
                        percent_text(parts.seconds[k] / lane_seconds));
  }
  return text;
}

namespace {

struct Share {
  char sign;
  const char* words;
  std::vector<LaneState> states;
  double part = 0;
};

// The largest parts of what workers do; work first.
std::vector<Share> shares_of(const LaneParts& parts, double lane_seconds) {
  std::vector<Share> shares = {{'#', "at work", {LaneState::running}},
                               {'.', "waiting outside", {LaneState::blocked}},
                               {'=', "serial", {LaneState::serial}},
                               {'-', "idle meanwhile", {LaneState::serial_wait}},
                               {'~', "idle at the join", {LaneState::imbalance}},
                               {'L', "at a lock", {LaneState::lock}},
                               {'s', "for a stage", {LaneState::stage}},
                               {'o', "nothing ready", {LaneState::no_work}},
                               {'w', "runnable without a processor", {LaneState::waiting_to_run}},
                               {'m', "moving data", {LaneState::moving_data}},
                               {'+', "starting", {LaneState::start_up, LaneState::dispatch}},
                               {'v', "waiting for a message", {LaneState::message}},
                               {'?', "not accounted for", {LaneState::unaccounted}}};
  for (Share& share : shares) {
    for (const LaneState state : share.states) share.part += std::max(0.0, parts[state]) / lane_seconds;
  }
  return shares;
}

constexpr double least_share = 0.05;

}  // namespace

std::string ledger_bar(const LaneParts& parts, double lane_seconds) {
  constexpr double width = 50;
  if (!(lane_seconds > 0)) return {};
  std::string bar;
  std::string words;
  double so_far = 0;
  for (const Share& share : shares_of(parts, lane_seconds)) {
    so_far += share.part;
    const auto until = static_cast<std::size_t>(std::lround(width * std::min(1.0, so_far)));
    if (until > bar.size()) bar.append(until - bar.size(), share.sign);
    if (share.part >= least_share)
      words += fmt::format("{}{} {} {}", words.empty() ? "" : ", ", share.sign, share.words, percent_text(share.part));
  }
  return fmt::format("  {}\n  {}\n", bar, words);
}

std::string ledger_shares(const LaneParts& parts, double lane_seconds) {
  std::string text;
  if (!(lane_seconds > 0)) return text;
  std::vector<Share> shares = shares_of(parts, lane_seconds);
  std::stable_sort(shares.begin(), shares.end(), [](const Share& a, const Share& b) { return a.part > b.part; });
  for (const Share& share : shares) {
    if (share.part >= least_share)
      text += fmt::format("{}{} {}", text.empty() ? "" : ", ", percent_text(share.part), share.words);
  }
  return text;
}

std::string ledger_text(const LaneSums& sums) {
  if (!sums.withheld.empty()) return "where the workers' seconds went is not told: " + sums.withheld + "\n";
  std::string text = fmt::format("{} worker{} × {} = {}, of which:\n", sums.lanes, sums.lanes == 1 ? "" : "s",
                                 duration_text(sums.wall_s), duration_text(sums.lane_seconds()));
  text += parts_text(sums.parts_s, sums.lane_seconds(), !sums.looks.has_value());
  for (const internal::LockFacts& lock : sums.locks) {
    if (lock.wait_s > 0.005 * sums.lane_seconds())
      text += fmt::format("    lock '{}': waited for {}, held {} in all\n", printable(lock.name, 60),
                          duration_text(lock.wait_s), duration_text(lock.hold_s));
  }
  for (const internal::SerialFacts& serial : sums.serials) {
    if (sums.lanes > 1 && serial.seconds > 0.01 * sums.wall_s)
      text += fmt::format(
          "    on one worker {}{}{}: {}\n", serial.after.empty() ? "from the start" : "after " + serial.after,
          serial.before.empty() ? "" : " until " + serial.before,
          serial.phase.empty() ? "" : " in phase '" + printable(serial.phase, 60) + "'", duration_text(serial.seconds));
  }
  return text;
}

namespace {

double total(const LaneSums& sums, const std::string& phase) {
  const auto found = sums.phases.find(phase);
  return found == sums.phases.end() ? 0 : found->second.sum();
}

std::string link_name(const internal::RankFacts& ranks, const internal::HostLink& link) {
  const std::string from = printable(ranks.hosts[static_cast<std::size_t>(link.from)], 40);
  if (link.from == link.to) return "between ranks of " + from;
  return "from " + from + " to " + printable(ranks.hosts[static_cast<std::size_t>(link.to)], 40);
}

// Phases that the baseline names, too: what became of their time.
std::string phases_text(const Analysed& study, const CellFigures& cell, const LaneSums& sums) {
  std::string text;
  if (cell.baseline < 0) return text;
  const Cell& baseline = *study.cells[static_cast<std::size_t>(cell.baseline)].cell;
  if (baseline.metered.empty()) return text;
  for (const auto& [name, parts] : sums.phases) {
    const double before_s = total(baseline.metered.front(), name);
    if (!(before_s > 0)) continue;
    std::size_t largest = 0;
    for (std::size_t k = 1; k < internal::lane_states; ++k) {
      const bool work =
          static_cast<LaneState>(k) == LaneState::serial || static_cast<LaneState>(k) <= LaneState::blocked;
      if (!work && parts.seconds[k] > parts.seconds[largest]) largest = k;
    }
    text += fmt::format("    phase '{}': {} of workers' time, {} in the baseline", printable(name, 40),
                        duration_text(parts.sum()), duration_text(before_s));
    const auto state = static_cast<LaneState>(largest);
    if (state > LaneState::blocked)
      text += fmt::format("; {} of it {}", percent_text(parts[state] / parts.sum()), words_for(state));
    text += "\n";
  }
  return text;
}

// Whose messages it waited for, the longest first.
std::string whose_messages(const internal::RankFacts& ranks, int rank, double wall_s) {
  constexpr double told = 0.05;
  std::vector<internal::MessageWait> waits;
  std::copy_if(ranks.waits.begin(), ranks.waits.end(), std::back_inserter(waits),
               [&](const auto& wait) { return wait.rank == rank && wait.seconds > told * wall_s; });
  std::sort(waits.begin(), waits.end(), [](const auto& a, const auto& b) { return a.seconds > b.seconds; });
  std::string text;
  for (const internal::MessageWait& wait : waits)
    text += fmt::format("{}{} for rank {}", text.empty() ? "; messages: " : ", ", duration_text(wait.seconds),
                        wait.awaited);
  return text;
}

// Rank by rank; of many the ones at work longest and shortest.
std::string ranks_text(const LaneSums& sums) {
  constexpr std::size_t most_ranks = 8;
  const internal::RankFacts& ranks = *sums.ranks;
  std::vector<std::size_t> order(ranks.parts_s.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::string text = "    by rank:\n";
  if (order.size() > most_ranks) {
    const auto work = [&](std::size_t rank) { return ranks.parts_s[rank][LaneState::running]; };
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return work(a) > work(b); });
    order.erase(order.begin() + most_ranks / 2, order.end() - most_ranks / 2);
    text = fmt::format("    by rank, the {} at work longest and the {} shortest of {}:\n", most_ranks / 2,
                       most_ranks / 2, ranks.parts_s.size());
  }
  for (const std::size_t rank : order) {
    text += fmt::format("      {:<20} {}{}\n", printable(worker_name(&ranks, static_cast<int>(rank)), 40),
                        ledger_shares(ranks.parts_s[rank], sums.wall_s),
                        whose_messages(ranks, static_cast<int>(rank), sums.wall_s));
  }
  for (const internal::HostLink& link : ranks.links) {
    if (link.from == link.to && ranks.hosts.size() > 1) continue;
    text += fmt::format("    {}: {} to and fro, {} a second\n", link_name(ranks, link),
                        duration_text(link.round_trip_s), bytes_text(static_cast<std::uint64_t>(link.bytes_per_s)));
  }
  return text;
}

// How coarse it is.
std::string looks_text(const LaneSums& sums, const std::vector<Ledger>& ledgers) {
  double lanes = 0;
  internal::SampleFacts all = *sums.looks;
  all.moments = 0;
  for (const Ledger& ledger : ledgers) {
    lanes += ledger.sums->looks->lanes;
    all.moments += ledger.sums->looks->moments;
  }
  std::string text = fmt::format(
      "    (coarse: {} samples, at {} moments; a share may be off by {} points; sampling took {} of a "
      "processor",
      count_text(static_cast<std::uint64_t>(lanes)), count_text(static_cast<std::uint64_t>(all.moments)),
      std::lround(100 * internal::share_error(all)), percent_text(all.own_share, 1));
  text += fmt::format("; CPU time by samples {}, by the kernel {}", duration_text(sums.cpu_frames_s),
                      duration_text(sums.cpu_kernel_s));
  if (all.outside > 0.05) text += fmt::format("; {:.1f} more threads were busy than workers asked for", all.outside);
  if (all.refused)
    text += "; the kernel did not tell what sleeping threads wait for: those are \"for something outside\"";
  return text + ")\n";
}

std::string difference_text(double over_baseline_s) {
  return over_baseline_s < 0 ? duration_text(-over_baseline_s) + " less work than the baseline"
                             : duration_text(over_baseline_s) + " lost or extra work";
}

}  // namespace

std::string ledger_text(const Analysed& study, const CellFigures& cell, const Look&) {
  const std::string withheld = withheld_because(study, cell);
  if (!withheld.empty()) {
    return fmt::format("  Where its workers' seconds went is not told: {}. What follows rests on timed figures{}.\n",
                       withheld, cell.cell->metered.empty() ? "" : " and counts");
  }
  std::vector<Ledger> ledgers = ledgers_of(study, cell);
  std::sort(ledgers.begin(), ledgers.end(), [](const Ledger& a, const Ledger& b) { return a.wall_s < b.wall_s; });
  const Ledger& middle = ledgers[ledgers.size() / 2];
  std::string text =
      fmt::format("  {} worker{} × {} = {} per call; the baseline takes {}: {}. By state:\n", middle.lanes,
                  middle.lanes == 1 ? "" : "s", duration_text(middle.wall_s), duration_text(middle.lane_seconds()),
                  duration_text(middle.necessary_s), difference_text(middle.lane_seconds() - middle.necessary_s));
  text += parts_text(middle.parts_s, middle.lane_seconds(), middle.sums == nullptr || !middle.sums->looks.has_value());
  if (middle.sums->ranks) text += ranks_text(*middle.sums);
  text += phases_text(study, cell, *middle.sums);
  if (middle.sums->looks) return text + looks_text(*middle.sums, ledgers);
  text += fmt::format("    (median of {} instrumented runs", ledgers.size());
  if (middle.slowdown) text += fmt::format(", which slowed it by {}", percent_text(std::max(0.0, *middle.slowdown), 1));
  if (middle.lane_seconds() > 0)
    text += fmt::format("; the log itself {}", percent_text(middle.metering_s / middle.lane_seconds(), 1));
  if (middle.cpu_kernel_s > 0)
    text += fmt::format("; CPU time by state {}, by the kernel {}", duration_text(middle.cpu_frames_s),
                        duration_text(middle.cpu_kernel_s));
  constexpr double worth_a_word = 0.02;
  if (middle.unattributed_s > worth_a_word * middle.lane_seconds())
    text += fmt::format("; {} lost have no owner", duration_text(middle.unattributed_s));
  if (middle.outside_s > 0.01 * middle.lane_seconds())
    text += fmt::format("; CPU time outside of these workers {}", duration_text(middle.outside_s));
  return text + ")\n";
}

}  // namespace antcrew::report_layer
