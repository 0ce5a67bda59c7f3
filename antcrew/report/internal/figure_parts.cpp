#include "antcrew/report/internal/figure_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::internal {
namespace {

std::string plain_number(double value) {
  return fmt::format("{:.6g}", value);
}

// 1, 2 or 5 times a power of ten.
double round_step(double about) {
  const double power = std::pow(10, std::floor(std::log10(about)));
  for (const double times : {1.0, 2.0, 5.0}) {
    if (times * power >= about * 0.999) return times * power;
  }
  return 10 * power;
}

std::string tick_text(const Axis& axis, double value) {
  if (axis.unit == "s") return value == 0 ? "0" : short_duration(value);
  if (axis.unit == "B") return value == 0 ? "0" : short_bytes(value);
  if (axis.unit == "%") return plain_number(value) + " %";
  if (axis.unit == "items") return short_count(value);
  return plain_number(value);
}

// Bytes go in powers of two.
double step_for(const Axis& axis, double range, int parts) {
  const double about = range / parts;
  return axis.unit == "B" ? std::exp2(std::ceil(std::log2(about) - 0.01)) : round_step(about);
}

constexpr std::size_t most_ticks = 9;

}  // namespace

std::string short_duration(double seconds) {
  const TimeUnit unit = time_unit_for(seconds);
  return fmt::format("{:.4g} {}", seconds * unit.factor, unit.name);
}

std::string short_count(double count) {
  constexpr const char* names[] = {"", "k", "M", "G", "T"};
  std::size_t unit = 0;
  while (std::fabs(count) >= 1000 && unit < 4) {
    count /= 1000;
    ++unit;
  }
  return fmt::format("{:.4g}{}", count, names[unit]);
}

std::string short_bytes(double bytes) {
  constexpr const char* names[] = {"B", "KiB", "MiB", "GiB", "TiB"};
  std::size_t unit = 0;
  while (bytes >= 1024 && unit < 4) {
    bytes /= 1024;
    ++unit;
  }
  return fmt::format("{:.4g} {}", bytes, names[unit]);
}

void fit_axis(Axis& axis, double low, double high, bool with_zero) {
  if (with_zero) low = std::min(low, 0.0);
  if (!(high > low)) high = low + (low == 0 ? 1 : std::fabs(low));
  const double step = step_for(axis, high - low, 5);
  axis.logarithmic = false;
  axis.from = std::floor(low / step + 1e-9) * step;
  axis.to = std::ceil(high / step - 1e-9) * step;
  axis.ticks.clear();
  for (int k = 0; axis.from + k * step <= axis.to + step / 2; ++k) {
    const double at = std::fabs(axis.from + k * step) < step * 1e-9 ? 0 : axis.from + k * step;
    axis.ticks.push_back({at, tick_text(axis, at)});
  }
}

void fit_logarithmic(Axis& axis, double low, double high) {
  low = std::max(low, 1e-12);
  high = std::max(high, low * 1.0001);
  axis.logarithmic = true;
  axis.ticks.clear();
  std::vector<double> places;
  const int first = static_cast<int>(std::floor(std::log10(low))) - 1;
  const int last = static_cast<int>(std::ceil(std::log10(high))) + 1;
  for (int power = first; power <= last; ++power) {
    for (const double times : {1.0, 2.0, 5.0}) places.push_back(times * std::pow(10, power));
  }
  constexpr double nearly = 1.05;
  double below = places.front();
  for (const double place : places) below = place <= low * nearly ? place : below;
  double above = places.back();
  for (auto place = places.rbegin(); place != places.rend(); ++place) above = *place >= high * 0.999 ? *place : above;
  // The axis ends at a round value, or where the data end when that is far; with two labels at least.
  constexpr double far = 1.25;
  const auto inside = [&](double from, double to) {
    return std::count_if(places.begin(), places.end(),
                         [&](double place) { return place >= from * 0.999 && place <= to * 1.001; });
  };
  axis.from = low / below > far ? low * 0.97 : std::min(below, low * 0.97);
  axis.to = above / high > far ? high * 1.03 : above;
  if (inside(axis.from, axis.to) < 2) {
    axis.from = std::min(below, low * 0.97);
    axis.to = above;
  }
  const bool powers_only = inside(axis.from, axis.to) > static_cast<std::ptrdiff_t>(most_ticks);
  const double decades = std::log10(axis.to / axis.from);
  const int every =
      powers_only ? std::max(1, static_cast<int>(std::ceil(decades / static_cast<double>(most_ticks - 1)))) : 1;
  for (std::size_t k = 0; k < places.size(); ++k) {
    const double place = places[k];
    const bool shown = !powers_only || (k % 3 == 0 && (k / 3) % static_cast<std::size_t>(every) == 0);
    if (shown && place >= axis.from * 0.999 && place <= axis.to * 1.001)
      axis.ticks.push_back({place, tick_text(axis, place)});
  }
}

void fit_values(Axis& axis, std::vector<double> values, bool logarithmic) {
  std::sort(values.begin(), values.end());
  values.erase(std::unique(values.begin(), values.end()), values.end());
  axis.logarithmic = logarithmic;
  axis.from = values.front();
  axis.to = values.back();
  if (values.size() == 1) {
    axis.from = logarithmic ? axis.from / 2 : axis.from - 1;
    axis.to = logarithmic ? axis.to * 2 : axis.to + 1;
  }
  axis.ticks.clear();
  const auto at = [&](double v) {
    return logarithmic ? std::log(v / axis.from) / std::log(axis.to / axis.from)
                       : (v - axis.from) / (axis.to - axis.from);
  };
  // From the largest down: the ends matter most.
  constexpr double room = 0.07;
  double last = 2;
  for (std::size_t k = values.size(); k-- > 0;) {
    const bool first = k == 0;
    if (last - at(values[k]) < room || (!first && at(values[k]) - at(values.front()) < room)) continue;
    axis.ticks.push_back({values[k], tick_text(axis, values[k])});
    last = at(values[k]);
  }
  std::reverse(axis.ticks.begin(), axis.ticks.end());
  // Room for the markers at both ends.
  constexpr double beside = 0.055;
  const double from = axis.from;
  const double to = axis.to;
  axis.from = logarithmic ? from * std::pow(from / to, beside) : from - beside * (to - from);
  axis.to = logarithmic ? to * std::pow(to / from, beside) : to + beside * (to - from);
}

Axis categories(std::string label, const std::vector<std::string>& names) {
  Axis axis{std::move(label), ""};
  axis.from = -0.5;
  axis.to = static_cast<double>(names.size()) - 0.5;
  for (std::size_t k = 0; k < names.size(); ++k) axis.ticks.push_back({static_cast<double>(k), names[k]});
  return axis;
}

FigurePoint point_of(double x, const Estimate& estimate, std::ptrdiff_t cell, std::string text) {
  FigurePoint point{x, estimate.median, estimate.low, estimate.high};
  point.certainty = estimate.claimed ? Certainty::interval : Certainty::range;
  point.cell = cell;
  point.text = std::move(text);
  return point;
}

FigurePoint exact_point(double x, double y, std::ptrdiff_t cell, std::string text) {
  FigurePoint point{x, y, y, y};
  point.cell = cell;
  point.text = std::move(text);
  return point;
}

std::ptrdiff_t place_of(const Analysed& study, const CellFigures& cell) {
  return &cell - study.cells.data();
}

bool drawable(const CellFigures& cell) {
  return cell.time_s.has_value() && cell.verdict >= Verdict::too_few_rounds;
}

DrawnCurves drawn_curves(const Analysed& study, std::size_t point) {
  struct Candidate {
    std::size_t curve;
    double best;
  };
  std::vector<Candidate> all;
  std::vector<std::string> unsound;
  for (std::size_t c = 0; c < study.curves.size(); ++c) {
    const CellFigures& first = study.cells[study.curves[c].front()];
    if (first.cell->kind != Cell::Kind::variant || first.cell->point != point || !first.newest) continue;
    double best = -1;
    for (const std::size_t k : study.curves[c]) {
      const CellFigures& cell = study.cells[k];
      if (drawable(cell) && cell.speedup) best = std::max(best, cell.speedup->median);
    }
    if (best >= 0) {
      all.push_back({c, best});
    } else {
      unsound.push_back(fmt::format("{} ({})", curve_name(*first.cell), name_of(first.verdict)));
    }
  }
  std::stable_sort(all.begin(), all.end(), [](const Candidate& a, const Candidate& b) { return a.best > b.best; });
  DrawnCurves drawn;
  for (std::size_t k = 0; k < std::min(all.size(), most_curves); ++k) drawn.curves.push_back(all[k].curve);
  if (all.size() > most_curves)
    drawn.left_out = fmt::format("The {} fastest of {} variants are drawn.", most_curves, all.size());
  if (!unsound.empty()) {
    const std::size_t more = unsound.size() > 3 ? unsound.size() - 3 : 0;
    unsound.resize(unsound.size() - more);
    drawn.left_out += fmt::format("{}Not drawn: {}{}.", drawn.left_out.empty() ? "" : " ", joined(unsound),
                                  more > 0 ? fmt::format(" and {} more", more) : "");
  }
  return drawn;
}

std::vector<const CellFigures*> leaders(const Analysed& study) {
  std::vector<const CellFigures*> cells;
  for (const std::size_t c : drawn_curves(study, study.conclusion.point).curves) {
    const CellFigures* best = nullptr;
    for (const std::size_t k : study.curves[c]) {
      const CellFigures& cell = study.cells[k];
      if (drawable(cell) && cell.speedup && (best == nullptr || cell.speedup->median > best->speedup->median))
        best = &cell;
    }
    if (best != nullptr) cells.push_back(best);
  }
  return cells;
}

int colour_of(const Analysed& study, const Cell& cell) {
  std::vector<std::string> seen;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind == Cell::Kind::baseline) continue;
    const std::string key = f.cell->key();
    if (std::find(seen.begin(), seen.end(), key) != seen.end()) continue;
    if (key == cell.key()) return static_cast<int>(seen.size());
    seen.push_back(key);
  }
  return static_cast<int>(seen.size());
}

std::string workers_text(int workers) {
  return fmt::format("{} worker{}", workers, workers == 1 ? "" : "s");
}

std::string curve_name(const Cell& cell) {
  std::string name = printable(cell.variant, 34);
  if (cell.attempt > 1) name += fmt::format(", attempt {}", cell.attempt);
  return cell.kind == Cell::Kind::baseline ? name : fmt::format("{} ({})", name, printable(cell.crew, 20));
}

std::string bar_name(const Analysed& study, const Cell& cell) {
  const bool shared = std::any_of(study.cells.begin(), study.cells.end(), [&](const CellFigures& f) {
    return f.cell->variant == cell.variant && f.cell->crew != cell.crew;
  });
  return fmt::format("{}{}, {} worker{}", printable(cell.variant, 26),
                     shared ? " (" + printable(cell.crew, 14) + ")" : "", cell.workers, cell.workers == 1 ? "" : "s");
}

}  // namespace antcrew::internal
