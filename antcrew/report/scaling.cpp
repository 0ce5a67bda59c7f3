#include "antcrew/report/scaling.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/models.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/headline.hpp"

namespace antcrew::report_layer {
namespace {

std::string range_text(const Bounds& b) {
  return fmt::format("{:.3g} ({:.3g} to {:.3g})", b.value, b.low, b.high);
}

std::string estimate_text(const Estimate& e, double scale, const char* unit) {
  // Two digits, and never an exponent: a percentage of 105 is no 1e+02.
  const auto in_words = [&](double value) {
    return std::fabs(scale * value) >= 99.5 ? fmt::format("{:.0f}", scale * value)
                                            : fmt::format("{:.2g}", scale * value);
  };
  const std::string middle = in_words(e.median) + unit;
  if (!e.claimed) return fmt::format("{} (seen {}–{})", middle, in_words(e.low), in_words(e.high));
  return fmt::format("{} ({} to {})", middle, in_words(e.low), in_words(e.high));
}

std::string signed_duration(double seconds) {
  return seconds < 0 ? "-" + duration_text(-seconds) : duration_text(seconds);
}

std::string size_text(double size) {
  return count_text(static_cast<std::uint64_t>(std::llround(std::max(0.0, size))));
}

std::string parameters_text(const ScalingFit& fit) {
  constexpr const char* names[][2] = {{"serial_fraction", "serial fraction"},
                                      {"contention", "contention"},
                                      {"coherency", "coherency"},
                                      {"scale", "scale"}};
  std::string text;
  for (const auto& [id, words] : names) {
    if (const auto found = fit.parameters.find(id); found != fit.parameters.end())
      text += fmt::format("{}{} {}", text.empty() ? "" : ", ", words, range_text(found->second));
  }
  return text;
}

std::string fit_text(const ScalingFit& fit) {
  std::string text = parameters_text(fit);
  if (fit.limit_speedup)
    text += fmt::format("; then no number of workers passes speedup {}", range_text(*fit.limit_speedup));
  if (fit.peak_workers) text += fmt::format("; then it is fastest with {} workers", range_text(*fit.peak_workers));
  return text;
}

std::string formulas(const Analysed& study) {
  std::string text;
  std::string refused;  // of the curve with the most counts: one reason is enough
  std::size_t most = 0;
  for (const CurveModels& curve : models_of(study)) {
    if (curve.scaling.fits.empty()) {
      if (refused.empty() || curve.scaling.workers.size() > most) refused = curve.scaling.refused;
      most = std::max(most, curve.scaling.workers.size());
      continue;
    }
    const ScalingFit& best = curve.scaling.fits.front();
    text += fmt::format("  \"{}\" ({}), from {} worker counts: {}\n", printable(curve.of->cell->variant, 40),
                        curve.of->cell->crew, curve.scaling.workers.size(), fit_text(best));
    for (std::size_t k = 1; k < curve.scaling.fits.size(); ++k) {
      const ScalingFit& other = curve.scaling.fits[k];
      constexpr double told_apart = 2;
      if (other.aicc - best.aicc < told_apart)
        text += fmt::format("     equally possible; more worker counts would tell: {}\n", fit_text(other));
    }
    const int last = curve.scaling.workers.back();
    if (const auto twice = best.speedup.find(2 * last); twice != best.speedup.end())
      text += fmt::format("     with {} workers, beyond what was measured: {:.3g} to {:.3g}, whichever form holds\n",
                          2 * last, twice->second.low, twice->second.high);
    if (!curve.scaling.beyond.empty()) text += fmt::format("     {}\n", curve.scaling.beyond);
  }
  if (!refused.empty()) text += fmt::format("  No formula{}: {}.\n", text.empty() ? "" : " for the others", refused);
  return text;
}

std::string ceilings(const Analysed& study) {
  std::string text;
  for (const CellFigures* cell : explained_cells(study)) {
    for (const PhaseCeiling& c : phase_ceilings_of(study, *cell)) {
      text +=
          fmt::format("  {}: phase '{}' is {} of the time and does not scale: no worker count passes speedup {:.3g}\n",
                      cell_in_words(*cell->cell), printable(c.phase, 40), percent_text(c.share), c.limit_speedup);
    }
    const auto path = critical_path_of(*cell);
    if (!path || !cell->speedup || cell->baseline < 0) continue;
    const double limit = study.cells[static_cast<std::size_t>(cell->baseline)].time_s->median / *path;
    if (limit < 10 * cell->cell->workers)
      text += fmt::format("  {}: its critical path is {}, so no machine and no number of workers pass speedup {:.3g}\n",
                          cell_in_words(*cell->cell), duration_text(*path), limit);
  }
  return text;
}

// Of the headline's point: what one would divide by hand, with what it is over.
std::string definitions(const Analysed& study) {
  std::string text;
  for (const auto& curve : study.curves) {
    const CellFigures& f = study.cells[curve.back()];
    const bool told = f.cell->kind == Cell::Kind::variant && f.newest && f.cell->point == study.conclusion.point &&
                      f.cell->workers > 1 && f.verdict == Verdict::holds && f.efficiency_bounds;
    if (!told) continue;
    text += fmt::format("  {}: efficiency {}", cell_in_words(*f.cell), estimate_text(*f.efficiency_bounds, 100, " %"));
    if (f.overhead_bounds)
      text += fmt::format(", overhead {} ({} to {}) of workers' time a call", duration_text(f.overhead_bounds->median),
                          signed_duration(f.overhead_bounds->low), signed_duration(f.overhead_bounds->high));
    if (f.serial_fraction_bounds)
      text += fmt::format(", serial fraction {}, {}", estimate_text(*f.serial_fraction_bounds, 1, ""),
                          f.serial_fraction_of_itself ? "over its own time with one worker" : "over the baseline");
    if (f.worker_s_an_item) text += fmt::format(", {} of workers' time an item", duration_text(*f.worker_s_an_item));
    text += "\n";
    if (!f.work_and_span) continue;
    const WorkAndSpan& w = *f.work_and_span;
    text +=
        fmt::format("     work {}, span {}, parallelism {:.3g}, likely: with {} workers {} at least and {} at most\n",
                    duration_text(w.work_s), duration_text(w.span_s), w.parallelism, f.cell->workers,
                    duration_text(w.least_s), duration_text(w.most_s));
  }
  return text;
}

std::string worth(const Analysed& study) {
  std::string text;
  for (const CellFigures* cell : explained_cells(study)) {
    const auto enough = worth_it(study, cell->curve);
    if (!enough || study.curves[cell->curve].size() < 2 || cell->cell->workers <= enough->of->cell->workers) continue;
    const int workers = enough->of->cell->workers;
    text += fmt::format("  \"{}\" ({}): {} worker{}", printable(cell->cell->variant, 40), cell->cell->crew, workers,
                        workers == 1 ? "" : "s");
    text += enough->of == enough->best
                ? ", the fastest of those tried\n"
                : fmt::format(", not slower than {} by more than 5 %\n", enough->best->cell->workers);
  }
  return text;
}

std::string crossover_text(const Crossover& c) {
  std::string text;
  switch (c.kind) {
    case Crossover::Kind::everywhere:
      text = fmt::format("faster at every size tried, {} and up", size_text(static_cast<double>(c.sizes.front())));
      break;
    case Crossover::Kind::nowhere:
      text = fmt::format("not faster at any size tried, up to {}", size_text(static_cast<double>(c.sizes.back())));
      break;
    case Crossover::Kind::between:
      text = fmt::format(
          "faster from size {} on ({} to {})", size_text(c.size.value),
          c.size.low <= 0 ? "below " + size_text(static_cast<double>(c.sizes.front())) : size_text(c.size.low),
          size_text(c.size.high));
      break;
    case Crossover::Kind::open:
      text = "inconclusive";
      if (c.size.low > 0 && std::isfinite(c.size.low)) text += ", not below " + size_text(c.size.low);
      break;
  }
  if (c.sure_from > 0 && c.kind != Crossover::Kind::everywhere)
    text += fmt::format("; seen from {} on", size_text(static_cast<double>(c.sure_from)));
  if (c.size_to_add > 0)
    text += fmt::format("; size {} would tell more", size_text(static_cast<double>(c.size_to_add)));
  return text;
}

std::string crossovers(const Analysed& study) {
  std::string text;
  for (const Crossover& c : crossovers_of(study)) {
    // Of each variant with its most workers; the rest is in the data.
    if (&study.cells[study.curves[c.of->curve].back()] != c.of) continue;
    text += fmt::format("  {}: {}\n", cell_in_words(*c.of->cell), crossover_text(c));
  }
  return text;
}

double smallest_size(const Analysed& study, const CellFigures* cell) {
  const Point& point = study.record->points[cell->cell->point];
  std::size_t smallest = point.size;
  for (const Point& other : study.record->points) {
    if (other.dimensions == point.dimensions) smallest = std::min(smallest, other.size);
  }
  return static_cast<double>(smallest);
}

std::string lines(const Analysed& study) {
  std::string text;
  for (const SizeLine& line : size_lines_of(study)) {
    if (&study.cells[study.curves[line.of->curve].back()] != line.of) continue;
    text += fmt::format("  {}: {} per call ({} to {}) and {} per item", cell_in_words(*line.of->cell),
                        duration_text(line.fixed_s.value), duration_text(line.fixed_s.low),
                        duration_text(line.fixed_s.high), duration_text(line.per_item_s.value));
    if (line.break_even_size)
      text += fmt::format("; paid back from size {} on ({} to {}){}", size_text(line.break_even_size->value),
                          size_text(line.break_even_size->low), size_text(line.break_even_size->high),
                          line.break_even_size->value < smallest_size(study, line.of) ? ", below all sizes tried" : "");
    if (line.break_even_calls) {
      const double calls = std::ceil(*line.break_even_calls);
      text += calls <= 1 ? "; starting its crew, within one call of the largest size"
                         : fmt::format("; starting its crew, after {} calls of the largest size", size_text(calls));
    }
    text += "\n";
  }
  return text;
}

std::string weak(const Analysed& study) {
  std::string text;
  for (const WeakScaling& w : weak_scaling_of(study)) {
    text +=
        fmt::format("  {}: efficiency {} ({} to {})\n", cell_in_words(*w.of->cell), percent_text(w.efficiency.median),
                    percent_text(w.efficiency.low), percent_text(w.efficiency.high));
  }
  return text;
}

constexpr std::size_t timeline_kinds = 10;

char sign_of(internal::TimelineKind what) {
  constexpr std::array<char, timeline_kinds> signs = {'#', '%', '.', ' ', 'L', 's', 'm', '=', '+', 'M'};
  return signs[static_cast<std::size_t>(what)];
}

// What a worker did for most of each column's time.
std::string band(const internal::TimelineLane& lane, double wall_s, std::size_t columns) {
  std::string band;
  for (std::size_t c = 0; c < columns; ++c) {
    const double from = wall_s * static_cast<double>(c) / static_cast<double>(columns);
    const double to = wall_s * static_cast<double>(c + 1) / static_cast<double>(columns);
    std::array<double, timeline_kinds> seconds{};
    for (const internal::TimelineStretch& s : lane.stretches)
      seconds[static_cast<std::size_t>(s.what)] += std::max(0.0, std::min(to, s.to_s) - std::max(from, s.from_s));
    const auto most = std::max_element(seconds.begin(), seconds.end()) - seconds.begin();
    band += sign_of(static_cast<internal::TimelineKind>(most));
  }
  return band;
}

}  // namespace

std::vector<Section> scaling_of(const Analysed& study) {
  return {{"Efficiency and overhead", definitions(study)},
          {"Scaling projection", formulas(study) + ceilings(study)},
          {"Recommended workers", worth(study)},
          {"Break-even size", crossovers(study)},
          {"Cost per call and per item", lines(study)},
          {"As much more work as workers, against one worker with one part", weak(study)}};
}

std::string timeline_text(const CellFigures& cell, std::size_t columns) {
  for (const LaneSums& sums : cell.cell->metered) {
    if (!sums.timeline) continue;
    const internal::Timeline& line = *sums.timeline;
    std::string text = fmt::format("  What each worker did in one call of {}", duration_text(line.wall_s));
    if (line.all_lanes > static_cast<int>(line.lanes.size()))
      text += fmt::format(": the slowest, two typical ones and the fastest of {}", line.all_lanes);
    text += "\n";
    std::set<char> used;
    for (const internal::TimelineLane& lane : line.lanes) {
      const std::string its = band(lane, line.wall_s, columns);
      used.insert(its.begin(), its.end());
      text += fmt::format("  {:>4} |{}|\n", lane.worker, its);
    }
    constexpr std::array<const char*, timeline_kinds> words = {
        "a piece",     "a piece of another's", "waiting", "not in a call",      "at a lock",
        "for a stage", "moving data",          "serial",  "starting or ending", "for a message"};
    std::string legend;
    for (std::size_t k = 0; k < timeline_kinds; ++k) {
      const char sign = sign_of(static_cast<internal::TimelineKind>(k));
      if (sign != ' ' && used.count(sign) > 0)
        legend += fmt::format("{}{} {}", legend.empty() ? "" : ", ", sign, words[k]);
    }
    text += fmt::format("       {}\n", legend);
    if (line.merged > 0)
      text += fmt::format("       {} stretches shorter than {} are in those before them\n",
                          count_text(static_cast<std::uint64_t>(line.merged)), duration_text(line.resolution_s));
    return text;
  }
  return {};
}

}  // namespace antcrew::report_layer
