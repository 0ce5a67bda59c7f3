// Figures of where worker-seconds went: states, shares, phases, and what each worker did when.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/rank_hosts.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/internal/ledger_words.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

constexpr std::size_t most_bars = 10;

// The order of the pieces of a bar, work first; dispatch is drawn as part of starting.
struct Part {
  const char* name;
  std::vector<LaneState> states;
  int colour;
};
const std::vector<Part>& parts() {
  static const std::vector<Part> all = {{"at work", {LaneState::running}, 0},
                                        {"waiting for something outside", {LaneState::blocked}, 5},
                                        {"in turn, at work", {LaneState::serial}, 10},
                                        {"in turn, waiting for it", {LaneState::serial_wait}, 6},
                                        {"idle at the join", {LaneState::imbalance}, 1},
                                        {"waiting for a lock", {LaneState::lock}, 4},
                                        {"waiting for a stage or room", {LaneState::stage}, 7},
                                        {"nothing ready to do", {LaneState::no_work}, 3},
                                        {"runnable without a processor", {LaneState::waiting_to_run}, 8},
                                        {"moving data", {LaneState::moving_data}, 2},
                                        {"waiting for a message", {LaneState::message}, 3},
                                        {"starting and ending", {LaneState::start_up, LaneState::dispatch}, 9},
                                        {"not accounted for", {LaneState::unaccounted}, -1}};
  return all;
}

struct Bar {
  const CellFigures* cell;
  Ledger ledger;
};

// The middle metered call of each explained cell whose ledger is told.
std::vector<Bar> told_ledgers(const Analysed& study) {
  std::vector<Bar> bars;
  for (const CellFigures* cell : explained_cells(study)) {
    if (bars.size() == most_bars || !withheld_because(study, *cell).empty()) continue;
    std::vector<Ledger> ledgers = ledgers_of(study, *cell);
    if (ledgers.empty()) continue;
    std::sort(ledgers.begin(), ledgers.end(), [](const Ledger& a, const Ledger& b) { return a.wall_s < b.wall_s; });
    bars.push_back({cell, ledgers[ledgers.size() / 2]});
  }
  return bars;
}

MaybeFigure bars_figure(const Analysed& study, bool shares) {
  const std::vector<Bar> bars = told_ledgers(study);
  if (bars.empty()) return std::nullopt;
  std::vector<std::string> names;
  for (const Bar& bar : bars) names.push_back(bar_name(study, *bar.cell->cell));
  Figure figure{shares ? "ledger-shares" : "ledger",
                shares ? "Where the workers' time went, in shares" : "Where the workers' time went"};
  figure.caption =
      shares ? "Shares of workers × time, of the median instrumented run of each."
             : "Worker-seconds of the median instrumented run of each: together workers × time. The line is the "
               "baseline's time.";
  if (bars.size() == most_bars && explained_cells(study).size() > most_bars)
    figure.caption += fmt::format(" The first {} are drawn.", most_bars);
  Panel panel;
  panel.y = categories("", names);
  panel.y.reversed = true;
  panel.x = {shares ? "share of workers × time" : "worker-seconds", shares ? "%" : "s"};
  figure.table.heads = {"part"};
  for (const std::string& name : names) figure.table.heads.push_back(name);
  double most = 0;
  for (const Bar& bar : bars) most = std::max(most, shares ? 100.0 : bar.ledger.lane_seconds());
  for (const Part& part : parts()) {
    Series series{part.name, Series::Kind::bars, part.colour};
    std::vector<std::string> row = {part.name};
    double largest = 0;
    for (std::size_t b = 0; b < bars.size(); ++b) {
      double seconds = 0;
      for (const LaneState state : part.states) seconds += std::max(0.0, bars[b].ledger.parts_s[state]);
      const double share = seconds / bars[b].ledger.lane_seconds();
      largest = std::max(largest, share);
      row.push_back(fmt::format("{} ({})", duration_text(seconds), percent_text(share, share < 0.01 ? 1 : 0)));
      series.points.push_back(exact_point(static_cast<double>(b), shares ? 100 * share : seconds,
                                          place_of(study, *bars[b].cell),
                                          fmt::format("{}: {} {}", names[b], part.name, row.back())));
    }
    if (largest < 0.001) continue;  // nobody would see it
    panel.series.push_back(std::move(series));
    figure.table.rows.push_back(std::move(row));
  }
  fit_axis(panel.x, 0, most);
  if (!shares) {
    const CellFigures& first = *bars.front().cell;
    if (first.baseline >= 0) {
      const auto& baseline = study.cells[static_cast<std::size_t>(first.baseline)].time_s;
      if (baseline) panel.marks.push_back({baseline->median, "baseline " + duration_text(baseline->median)});
    }
  }
  figure.panels.push_back(std::move(panel));
  return figure;
}

}  // namespace

MaybeFigure ledger_figure(const Analysed& study) {
  return bars_figure(study, false);
}

MaybeFigure ledger_shares_figure(const Analysed& study) {
  return bars_figure(study, true);
}

// Wall time of each named phase, of the baseline and of the explained cells.
MaybeFigure phases_figure(const Analysed& study) {
  std::vector<const CellFigures*> cells;
  for (const CellFigures& cell : study.cells) {
    if (cells.empty() && cell.cell->kind == Cell::Kind::baseline && cell.cell->point == study.conclusion.point)
      cells.push_back(&cell);
  }
  for (const CellFigures* cell : explained_cells(study)) cells.push_back(cell);
  std::map<std::string, double> total;
  std::vector<const CellFigures*> with;
  for (const CellFigures* cell : cells) {
    if (cell->phases.empty() || !drawable(*cell) || with.size() == most_bars) continue;
    with.push_back(cell);
    for (const auto& [name, phase] : cell->phases) total[name] += phase.wall_s.value_or(phase.worker_s);
  }
  if (with.empty()) return std::nullopt;
  std::vector<std::string> order;
  for (const auto& [name, seconds] : total) order.push_back(name);
  std::stable_sort(order.begin(), order.end(), [&](const auto& a, const auto& b) { return total[a] > total[b]; });
  constexpr std::size_t most_phases = 10;
  const std::size_t all = order.size();
  if (order.size() > most_phases) order.resize(most_phases);
  Figure figure{"phases", "Time in named phases"};
  figure.caption = "Wall time during which anybody was in the phase, of a call; phases may overlap.";
  if (all > most_phases) figure.caption += fmt::format(" The {} longest of {} are drawn.", most_phases, all);
  Panel panel;
  std::vector<std::string> names;
  for (const CellFigures* cell : with)
    names.push_back(cell->cell->kind == Cell::Kind::baseline ? "baseline" : bar_name(study, *cell->cell));
  panel.y = categories("", names);
  panel.y.reversed = true;
  panel.x = {"time of a call", "s"};
  figure.table.heads = {"phase"};
  for (const std::string& name : names) figure.table.heads.push_back(name);
  std::vector<double> sums(with.size(), 0.0);
  for (std::size_t p = 0; p < order.size(); ++p) {
    Series series{printable(order[p], 30), Series::Kind::bars, static_cast<int>(p)};
    std::vector<std::string> row = {series.name};
    for (std::size_t b = 0; b < with.size(); ++b) {
      const auto found = with[b]->phases.find(order[p]);
      const bool has = found != with[b]->phases.end();
      const double seconds = has ? found->second.wall_s.value_or(found->second.worker_s) : 0;
      sums[b] += seconds;
      row.push_back(has ? duration_text(seconds) : "");
      if (has)
        series.points.push_back(exact_point(static_cast<double>(b), seconds, place_of(study, *with[b]),
                                            fmt::format("{}: phase {} {}", names[b], series.name, row.back())));
    }
    panel.series.push_back(std::move(series));
    figure.table.rows.push_back(std::move(row));
  }
  fit_axis(panel.x, 0, *std::max_element(sums.begin(), sums.end()));
  figure.panels.push_back(std::move(panel));
  return figure;
}

MaybeFigure timeline_figure(const Analysed& study) {
  static const std::vector<BandKind> kinds = {
      {"a piece", 0},     {"a piece of another's", 5}, {"waiting", 1}, {"not in a call", -1},     {"at a lock", 4},
      {"for a stage", 7}, {"moving data", 2},          {"serial", 10}, {"starting or ending", 9}, {"for a message", 3}};
  for (const CellFigures* cell : explained_cells(study)) {
    for (const LaneSums& sums : cell->cell->metered) {
      if (!sums.timeline || sums.timeline->lanes.empty()) continue;
      const Timeline& line = *sums.timeline;
      Figure figure{"timeline", "What each worker did when: " + bar_name(study, *cell->cell)};
      figure.caption = fmt::format("One instrumented run of {}.", duration_text(line.wall_s));
      if (line.all_lanes > static_cast<int>(line.lanes.size()))
        figure.caption += fmt::format(" The slowest, two typical ones and the fastest of {} workers.", line.all_lanes);
      if (line.merged > 0)
        figure.caption +=
            fmt::format(" {} stretches shorter than {} are in those before them.",
                        count_text(static_cast<std::uint64_t>(line.merged)), duration_text(line.resolution_s));
      Panel panel;
      std::vector<std::string> names;
      const RankFacts* ranks = ranks_of(*cell->cell);
      for (const TimelineLane& lane : line.lanes) names.push_back(printable(worker_name(ranks, lane.worker), 30));
      if (ranks != nullptr && !ranks->clock_off_s.empty())
        figure.caption +=
            fmt::format(" Each rank has a clock of its own: brought to rank 0's by messages, it may be off by {}.",
                        duration_text(*std::max_element(ranks->clock_off_s.begin(), ranks->clock_off_s.end())));
      panel.y = categories("", names);
      panel.y.reversed = true;
      panel.x = {"time since the call began", "s"};
      fit_axis(panel.x, 0, line.wall_s);
      panel.x.to = std::max(line.wall_s, panel.x.from + 1e-12);
      while (!panel.x.ticks.empty() && panel.x.ticks.back().at > panel.x.to) panel.x.ticks.pop_back();
      panel.band_kinds = kinds;
      figure.table.heads = {"worker", "from", "to", "what"};
      for (std::size_t k = 0; k < line.lanes.size(); ++k) {
        for (const TimelineStretch& s : line.lanes[k].stretches) {
          std::string what = kinds[static_cast<std::size_t>(s.what)].name;
          if (s.name >= 0 && static_cast<std::size_t>(s.name) < line.names.size())
            what += " '" + printable(line.names[static_cast<std::size_t>(s.name)], 40) + "'";
          if (s.pieces > 1) what += fmt::format(", {} of them", count_text(static_cast<std::uint64_t>(s.pieces)));
          panel.bands.push_back(
              {static_cast<int>(k), s.from_s, s.to_s, static_cast<int>(s.what),
               fmt::format("{}: {} to {}, {}", names[k], duration_text(s.from_s), duration_text(s.to_s), what)});
          figure.table.rows.push_back(
              {fmt::format("{}", line.lanes[k].worker), duration_text(s.from_s), duration_text(s.to_s), what});
        }
      }
      figure.panels.push_back(std::move(panel));
      return figure;
    }
  }
  return std::nullopt;
}

}  // namespace antcrew::internal
