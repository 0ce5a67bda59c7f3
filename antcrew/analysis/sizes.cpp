#include "antcrew/analysis/sizes.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <random>
#include <tuple>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/pairing.hpp"
#include "antcrew/analysis/thresholds.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr double infinite = std::numeric_limits<double>::infinity();

const Point& point_of(const Analysed& study, const CellFigures& f) {
  return study.record->points[f.cell->point];
}

const CellFigures* baseline_figures(const Analysed& study, const CellFigures& f) {
  return f.baseline < 0 ? nullptr : &study.cells[static_cast<std::size_t>(f.baseline)];
}

// Cells that differ in their size only, by size.
using Series = std::vector<const CellFigures*>;
std::vector<Series> series_of(const Analysed& study, Cell::Kind kind) {
  using Key = std::tuple<std::string, int, std::map<std::string, PointValue>, int>;
  std::map<Key, std::size_t> known;
  std::vector<Series> all;
  for (const CellFigures& f : study.cells) {
    const Point& point = point_of(study, f);
    const bool told = f.cell->kind == kind && f.newest && f.cell->baseline_for.empty() && point.grown_for == 0 &&
                      f.time_s && (kind == Cell::Kind::baseline || f.verdict >= Verdict::too_few_rounds);
    if (!told) continue;
    const Key key{f.cell->key(), f.cell->workers, point.dimensions, static_cast<int>(point.pin)};
    const auto [at, fresh] = known.emplace(key, all.size());
    if (fresh) all.emplace_back();
    all[at->second].push_back(&f);
  }
  for (Series& series : all) {
    std::stable_sort(series.begin(), series.end(), [&](const CellFigures* a, const CellFigures* b) {
      return point_of(study, *a).size < point_of(study, *b).size;
    });
  }
  return all;
}

struct Differences {
  std::vector<double> sizes;
  std::vector<double> low, median, high;  // baseline's time − variant's
};

// From where on the values stay above 0; 0 and infinite where that lies beyond the sizes.
double crossing(const std::vector<double>& sizes, const std::vector<double>& values) {
  std::size_t first = values.size();
  while (first > 0 && values[first - 1] > 0) --first;
  if (first == 0) return 0;
  if (first == values.size()) return infinite;
  const double below = values[first - 1];
  const double above = values[first];
  if (std::isinf(below)) return sizes[first];  // nothing is known of the smaller size: anywhere up to the larger
  return sizes[first - 1] + (sizes[first] - sizes[first - 1]) * (-below) / (above - below);
}

std::size_t rounded(double size) {
  if (!(size >= 1)) return 1;
  const double unit = std::pow(10, std::floor(std::log10(size)) - 1);
  return static_cast<std::size_t>(std::llround(std::round(size / unit) * unit));
}

// Where another size would tell most.
std::size_t size_to_add(const Crossover& c) {
  constexpr double known_well = 1.5;
  const auto smallest = static_cast<double>(c.sizes.front());
  const auto largest = static_cast<double>(c.sizes.back());
  if (std::isinf(c.size.high)) return rounded(10 * largest);
  if (c.size.low <= 0) return rounded(std::max(1.0, smallest / 10));
  return c.size.high > known_well * c.size.low ? rounded(std::sqrt(c.size.low * c.size.high)) : 0;
}

struct Line {
  double fixed = 0;
  double per_item = 0;
  double misfit = 0;  // the largest deviation in units of its noise
};

struct SizedTime {
  double size;
  double time_s;
  double noise;  // relative
};

Line line_through(const std::vector<SizedTime>& points) {
  double w = 0, wx = 0, wy = 0, wxx = 0, wxy = 0;
  for (const SizedTime& p : points) {
    const double weight = 1 / (p.time_s * p.noise * p.time_s * p.noise);
    w += weight;
    wx += weight * p.size;
    wy += weight * p.time_s;
    wxx += weight * p.size * p.size;
    wxy += weight * p.size * p.time_s;
  }
  Line line;
  const double det = w * wxx - wx * wx;
  line.per_item = det > 0 ? (w * wxy - wx * wy) / det : 0;
  line.fixed = (wy - line.per_item * wx) / w;
  for (const SizedTime& p : points) {
    const double off = std::fabs(p.time_s - line.fixed - line.per_item * p.size) / (p.time_s * p.noise);
    line.misfit = std::max(line.misfit, off);
  }
  return line;
}

// Rounds drawn again, each size for itself: sizes are measured in blocks of their own.
class LineDraws {
 public:
  explicit LineDraws(const Analysed& study, const Series& series) {
    for (const CellFigures* f : series) {
      std::vector<double> times;
      for (const auto& [round, time] : times_of(*f->cell, exploring)) times.push_back(time);
      sizes_.push_back(static_cast<double>(point_of(study, *f).size));
      const Estimate middle = median_interval(times);
      constexpr double least_noise = 0.02;  // no line is truer
      noise_.push_back(std::max(least_noise, middle.relative_half_width() / 1.96));
      times_.push_back(std::move(times));
    }
  }
  bool enough() const {
    constexpr std::size_t least_sizes = 3;
    return sizes_.size() >= least_sizes && std::all_of(times_.begin(), times_.end(), [](const auto& times) {
             return times.size() >= static_cast<std::size_t>(least_for_interval);
           });
  }
  Line measured() const {
    std::vector<SizedTime> points;
    for (std::size_t i = 0; i < sizes_.size(); ++i) points.push_back({sizes_[i], median(times_[i]), noise_[i]});
    return line_through(points);
  }
  Line drawn(std::mt19937_64& random) const {
    std::vector<SizedTime> points;
    for (std::size_t i = 0; i < sizes_.size(); ++i) {
      std::vector<double> again;
      for (std::size_t k = 0; k < times_[i].size(); ++k) again.push_back(times_[i][random() % times_[i].size()]);
      points.push_back({sizes_[i], median(std::move(again)), noise_[i]});
    }
    return line_through(points);
  }

 private:
  std::vector<double> sizes_;
  std::vector<double> noise_;
  std::vector<std::vector<double>> times_;
};

// From the largest size at which it is slower beyond doubt to the smallest from which it is faster beyond doubt.
// Between two measured sizes times may do anything: with n² or a step of a cache they are no line.
Bounds bracket_of(const Differences& d, double middle) {
  std::size_t first = d.sizes.size();
  while (first > 0 && d.low[first - 1] > 0) --first;
  std::size_t last = first;
  while (last > 0 && !(d.high[last - 1] < 0)) --last;
  const double low = last == 0 ? 0 : d.sizes[last - 1];
  const double high = first == 0 ? 0 : first == d.sizes.size() ? infinite : d.sizes[first];
  return {std::clamp(middle, low, high), low, high};
}

// Both times lie on lines over the sizes, within their noise.
bool on_lines(const Analysed& study, const Series& series) {
  constexpr double fits = 2;
  Series baselines;
  for (const CellFigures* f : series) baselines.push_back(baseline_figures(study, *f));
  const LineDraws own(study, series);
  const LineDraws theirs(study, baselines);
  return own.enough() && theirs.enough() && own.measured().misfit <= fits && theirs.measured().misfit <= fits;
}

Crossover crossover_of(const Analysed& study, const Series& series, double level) {
  Crossover found;
  found.of = series.back();
  Differences d;
  for (const CellFigures* f : series) {
    const CellFigures& baseline = *baseline_figures(study, *f);
    const auto speedup = estimate_of(ratios_of(*baseline.cell, *f->cell, exploring), level);
    if (!speedup) continue;
    const double base_s = baseline.time_s->median;
    const std::size_t size = point_of(study, *f).size;
    found.sizes.push_back(size);
    d.sizes.push_back(static_cast<double>(size));
    d.median.push_back(base_s * (1 - 1 / speedup->median));
    d.low.push_back(speedup->claimed ? base_s * (1 - 1 / speedup->low) : -infinite);
    d.high.push_back(speedup->claimed ? base_s * (1 - 1 / speedup->high) : infinite);
    if (speedup->claimed && speedup->low > 1) {
      if (found.sure_from == 0) found.sure_from = size;
    } else {
      found.sure_from = 0;
    }
  }
  if (d.sizes.empty()) return found;
  found.size = {crossing(d.sizes, d.median), crossing(d.sizes, d.high), crossing(d.sizes, d.low)};
  found.on_lines = on_lines(study, series);
  if (!found.on_lines && found.size.high > 0 && std::isfinite(found.size.low))
    found.size = bracket_of(d, found.size.value);
  found.kind = found.size.high <= 0          ? Crossover::Kind::everywhere
               : std::isinf(found.size.low)  ? Crossover::Kind::nowhere
               : std::isinf(found.size.high) ? Crossover::Kind::open
                                             : Crossover::Kind::between;
  found.size_to_add = found.kind == Crossover::Kind::everywhere ? 0 : size_to_add(found);
  return found;
}

Bounds bounds_of(double value, std::vector<double> drawn) {
  std::sort(drawn.begin(), drawn.end());
  const auto at = [&](double share) { return drawn[static_cast<std::size_t>(share * double(drawn.size() - 1))]; };
  return {value, std::min(value, at(0.025)), std::max(value, at(0.975))};
}

double meeting(const Line& variant, const Line& baseline) {
  const double saved = baseline.per_item - variant.per_item;
  return saved > 0 ? std::max(0.0, (variant.fixed - baseline.fixed) / saved) : infinite;
}

}  // namespace

std::vector<Crossover> crossovers_of(const Analysed& study) {
  std::vector<Series> all = series_of(study, Cell::Kind::variant);
  std::size_t cells = 0;
  for (Series& series : all) {
    std::erase_if(series, [&](const CellFigures* f) {
      const CellFigures* baseline = baseline_figures(study, *f);
      return baseline == nullptr || !baseline->time_s || !f->speedup;
    });
    cells += series.size();
  }
  std::vector<Crossover> found;
  for (const Series& series : all) {
    if (series.size() < 2) continue;
    found.push_back(crossover_of(study, series, 1 - 0.05 / static_cast<double>(std::max<std::size_t>(1, cells))));
  }
  return found;
}

std::vector<SizeLine> size_lines_of(const Analysed& study) {
  constexpr int draws = 200;
  constexpr double fits = 3;
  const std::vector<Series> baselines = series_of(study, Cell::Kind::baseline);
  std::vector<SizeLine> all;
  for (const Series& series : series_of(study, Cell::Kind::variant)) {
    const Series* base = nullptr;
    for (const Series& baseline : baselines) {
      if (point_of(study, *baseline.back()).dimensions == point_of(study, *series.back()).dimensions &&
          point_of(study, *baseline.back()).pin == point_of(study, *series.back()).pin)
        base = &baseline;
    }
    if (base == nullptr) continue;
    const LineDraws own(study, series);
    const LineDraws theirs(study, *base);
    if (!own.enough() || !theirs.enough()) continue;
    const Line line = own.measured();
    const Line base_line = theirs.measured();
    if (line.misfit > fits || base_line.misfit > fits) continue;
    std::mt19937_64 random(0x517e);
    std::vector<double> fixed, per_item, meet;
    for (int k = 0; k < draws; ++k) {
      const Line again = own.drawn(random);
      fixed.push_back(again.fixed);
      per_item.push_back(again.per_item);
      meet.push_back(meeting(again, theirs.drawn(random)));
    }
    SizeLine found;
    found.of = series.back();
    found.fixed_s = bounds_of(line.fixed, std::move(fixed));
    found.per_item_s = bounds_of(line.per_item, std::move(per_item));
    const double size = meeting(line, base_line);
    if (size > 0 && std::isfinite(size)) found.break_even_size = bounds_of(size, std::move(meet));
    const CellFigures* largest = baseline_figures(study, *series.back());
    if (largest != nullptr && largest->time_s && series.back()->startup_s) {
      const double saved_s = largest->time_s->median - series.back()->time_s->median;
      if (saved_s > 0) found.break_even_calls = *series.back()->startup_s / saved_s;
    }
    all.push_back(std::move(found));
  }
  return all;
}

std::vector<CacheStep> cache_steps_of(const Analysed& study) {
  constexpr double told = 1.1;
  std::map<std::size_t, double> bytes;
  for (const BlockFacts& block : study.record->blocks) {
    if (block.confirming == 0 && block.input_bytes > 0) bytes[block.point] = static_cast<double>(block.input_bytes);
  }
  std::vector<CacheStep> steps;
  const auto look_at = [&](const Series& series) {
    for (std::size_t k = 1; k < series.size(); ++k) {
      const CellFigures& small = *series[k - 1];
      const CellFigures& large = *series[k];
      CacheStep step;
      step.of = &large;
      step.from_size = point_of(study, small).size;
      step.to_size = point_of(study, large).size;
      const double per_small = small.time_s->low / static_cast<double>(step.from_size);
      const double per_large = large.time_s->median / static_cast<double>(step.to_size);
      const double least = large.time_s->low / static_cast<double>(step.to_size) * static_cast<double>(step.from_size);
      step.ratio = per_large / (small.time_s->median / static_cast<double>(step.from_size));
      step.from_bytes = bytes[small.cell->point];
      step.to_bytes = bytes[large.cell->point];
      const bool clear = per_small > 0 && step.ratio > told && least > small.time_s->high;
      if (!clear || !(step.from_bytes > 0) || !(step.to_bytes > 0)) continue;
      for (const Cache& cache : study.record->machine.topology.caches) {
        const auto size = static_cast<double>(cache.bytes);
        if (size <= 0 || step.from_bytes >= size || step.to_bytes < size) continue;
        step.level = cache.level;
        step.cache_bytes = size;
      }
      if (step.level > 0) steps.push_back(step);
    }
  };
  for (const Series& series : series_of(study, Cell::Kind::baseline)) look_at(series);
  for (const Series& series : series_of(study, Cell::Kind::variant)) look_at(series);
  return steps;
}

std::vector<WeakScaling> weak_scaling_of(const Analysed& study) {
  std::vector<WeakScaling> all;
  for (const CellFigures& f : study.cells) {
    const Point& point = point_of(study, f);
    if (point.grown_for < 2 || f.cell->kind != Cell::Kind::variant || !f.newest || f.verdict != Verdict::holds)
      continue;
    for (const CellFigures& one : study.cells) {
      const Point& base = point_of(study, one);
      const bool its = one.cell->key() == f.cell->key() && one.newest && one.cell->workers == 1 &&
                       base.grown_for == 1 && base.base_size == point.base_size &&
                       base.dimensions == point.dimensions && one.verdict == Verdict::holds && one.time_s;
      if (!its) continue;
      // Measured in different blocks: the wider one of two.
      const Estimate& a = *one.time_s;
      const Estimate& b = *f.time_s;
      all.push_back(
          {&f,
           {a.median / b.median, a.low / b.high, a.high / b.low, std::min(a.count, b.count), a.claimed && b.claimed}});
    }
  }
  return all;
}

std::optional<WorthIt> worth_it(const Analysed& study, std::size_t curve) {
  constexpr double most_slower = 1.05;
  std::vector<const CellFigures*> cells;
  for (const std::size_t k : study.curves[curve]) {
    const CellFigures& f = study.cells[k];
    if (f.verdict == Verdict::holds && f.time_s) cells.push_back(&f);
  }
  if (cells.empty()) return std::nullopt;
  const CellFigures* best = *std::min_element(
      cells.begin(), cells.end(), [](const auto* a, const auto* b) { return a->time_s->median < b->time_s->median; });
  const double level = 1 - 0.05 / static_cast<double>(std::max<std::size_t>(1, cells.size() - 1));
  for (const CellFigures* f : cells) {
    if (f == best) break;
    const auto ratio = ratio_of_times(*f->cell, *best->cell, level);
    if (ratio && ratio->claimed && ratio->high <= most_slower) return WorthIt{f, best, ratio->high};
  }
  return WorthIt{best, best, 1};
}

}  // namespace antcrew::analysis_layer
