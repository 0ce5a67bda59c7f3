// How much each variant moves to and from memory, under what this machine can read.
#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::string rate_text(double bytes_per_s) {
  return bytes_text(static_cast<std::uint64_t>(bytes_per_s)) + " a second";
}

// Bytes a second of a cell that counts its bytes.
std::optional<Estimate> rate_of(const CellFigures& cell) {
  const auto bytes = cell.quantities.find("bytes");
  if (bytes == cell.quantities.end() || !cell.time_s || !(cell.time_s->median > 0) || !drawable(cell))
    return std::nullopt;
  Estimate rate = *cell.time_s;
  rate.median = bytes->second / cell.time_s->median;
  rate.low = bytes->second / std::max(cell.time_s->high, 1e-300);
  rate.high = bytes->second / std::max(cell.time_s->low, 1e-300);
  return rate;
}

}  // namespace

MaybeFigure roofline_figure(const Analysed& study) {
  const std::vector<TogetherFacts>& roof = study.record->together;
  if (roof.empty()) return std::nullopt;
  Figure figure{"roofline", "Bytes moved, and what this machine can read from memory"};
  figure.caption =
      "Grey: what so many workers read together from memory that no cache holds, measured in this run. A variant that "
      "comes near it is bound by memory; one above it works in caches. Bytes are those that it counts itself "
      "(Quantity \"bytes\").";
  Panel panel;
  panel.x = {"workers", ""};
  panel.y = {"moved a second", "B"};
  figure.table.heads = {"workers", "of", "moved a second"};
  std::vector<double> at;
  double most = 0;
  ReferenceLine line{"the memory of this machine"};
  for (const TogetherFacts& facts : roof) {
    if (!(facts.bytes_per_s > 0)) continue;
    line.points.emplace_back(facts.workers, facts.bytes_per_s);
    figure.table.rows.push_back({fmt::format("{}", facts.workers), line.name, rate_text(facts.bytes_per_s)});
    at.push_back(facts.workers);
    most = std::max(most, facts.bytes_per_s);
  }
  for (const std::size_t curve : drawn_curves(study, study.conclusion.point).curves) {
    const Cell& first = *study.cells[study.curves[curve].front()].cell;
    Series series{curve_name(first)};
    series.colour = colour_of(study, first);
    for (const std::size_t k : study.curves[curve]) {
      const CellFigures& cell = study.cells[k];
      const auto rate = rate_of(cell);
      if (!rate) continue;
      const std::string text = fmt::format("{}, {} worker{}: {}", series.name, cell.cell->workers,
                                           cell.cell->workers == 1 ? "" : "s", rate_text(rate->median));
      series.points.push_back(point_of(cell.cell->workers, *rate, static_cast<std::ptrdiff_t>(k), text));
      figure.table.rows.push_back({fmt::format("{}", cell.cell->workers), series.name, rate_text(rate->median)});
      at.push_back(cell.cell->workers);
      most = std::max(most, rate->high);
    }
    if (!series.points.empty()) panel.series.push_back(std::move(series));
  }
  if (panel.series.empty() || line.points.empty()) return std::nullopt;
  panel.references.push_back(std::move(line));
  fit_values(panel.x, at, false);
  fit_axis(panel.y, 0, most);
  figure.panels.push_back(std::move(panel));
  return figure;
}

}  // namespace antcrew::internal
