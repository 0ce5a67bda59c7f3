#include "antcrew/analysis/change_points.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <random>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/compare.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {
namespace {

std::vector<double> mid_ranks(const std::vector<double>& values) {
  std::vector<double> sorted = values;
  std::sort(sorted.begin(), sorted.end());
  std::vector<double> ranks;
  for (const double value : values) {
    const auto [low, high] = std::equal_range(sorted.begin(), sorted.end(), value);
    ranks.push_back((static_cast<double>(low - sorted.begin()) + static_cast<double>(high - sorted.begin()) + 1) / 2);
  }
  return ranks;
}

struct Place {
  std::size_t at = 0;
  double strength = 0;  // standard deviations of the rank sum before it
};

Place strongest(const std::vector<double>& ranks) {
  const std::size_t n = ranks.size();
  const double mean = (static_cast<double>(n) + 1) / 2;
  Place best;
  double sum = 0;
  for (std::size_t k = 1; k <= n - runs_beside_change; ++k) {
    sum += ranks[k - 1] - mean;
    if (k < runs_beside_change) continue;
    const double deviation =
        std::sqrt(static_cast<double>(k) * static_cast<double>(n - k) * (static_cast<double>(n) + 1) / 12);
    if (std::fabs(sum) / deviation > best.strength) best = {k, std::fabs(sum) / deviation};
  }
  return best;
}

// Not std::shuffle: its order differs between libraries.
void shuffle(std::vector<double>& values, std::mt19937_64& random) {
  for (std::size_t i = values.size(); i > 1; --i) std::swap(values[i - 1], values[random() % i]);
}

bool by_chance(const std::vector<double>& ranks, double strength, double level) {
  const auto shuffles = static_cast<std::size_t>(std::clamp(std::ceil(20 / level), 1e3, 2e4));
  const double allowed = level * static_cast<double>(shuffles + 1);
  std::mt19937_64 random(ranks.size());
  std::vector<double> mixed = ranks;
  double reached = 1;
  for (std::size_t k = 0; k < shuffles; ++k) {
    shuffle(mixed, random);
    reached += strongest(mixed).strength >= strength - 1e-12 ? 1 : 0;
    if (reached > allowed) return true;
  }
  return false;
}

void split(const std::vector<double>& values, std::size_t first, std::size_t last, double level,
           std::vector<std::size_t>& found) {
  if (last - first < 2 * runs_beside_change) return;
  const std::vector<double> ranks = mid_ranks(
      {values.begin() + static_cast<std::ptrdiff_t>(first), values.begin() + static_cast<std::ptrdiff_t>(last)});
  const Place place = strongest(ranks);
  if (place.strength <= 0 || by_chance(ranks, place.strength, level)) return;
  split(values, first, first + place.at, level / 2, found);
  found.push_back(first + place.at);
  split(values, first + place.at, last, level / 2, found);
}

}  // namespace

std::vector<ChangePoint> change_points(const std::vector<double>& values, double level) {
  std::vector<std::size_t> places;
  split(values, 0, values.size(), level, places);
  std::vector<ChangePoint> found;
  for (std::size_t k = 0; k < places.size(); ++k) {
    const std::size_t from = k == 0 ? 0 : places[k - 1];
    const std::size_t to = k + 1 < places.size() ? places[k + 1] : values.size();
    const auto middle = [&](std::size_t first, std::size_t last) {
      return median(
          {values.begin() + static_cast<std::ptrdiff_t>(first), values.begin() + static_cast<std::ptrdiff_t>(last)});
    };
    found.push_back({places[k], middle(from, places[k]), middle(places[k], to)});
  }
  return found;
}

CellChanges changes_of(const std::vector<const Analysed*>& runs, const CellFigures& cell, double level) {
  CellChanges changes;
  changes.cell = &cell;
  for (std::size_t run = 0; run < runs.size(); ++run) {
    const CellFigures* its = same_cell(*runs[run], *runs.back(), cell);
    if (its == nullptr || its->verdict < Verdict::too_noisy || !its->speedup || !its->speedup->claimed) continue;
    changes.speedups.push_back(its->speedup->median);
    changes.runs.push_back(run);
  }
  changes.found = change_points(changes.speedups, level);
  return changes;
}

std::vector<CellChanges> changes_over(const std::vector<const Analysed*>& runs, double level) {
  std::vector<const CellFigures*> cells;
  for (const CellFigures& f : runs.back()->cells) {
    if (f.cell->kind == Cell::Kind::variant && f.newest) cells.push_back(&f);
  }
  std::vector<CellChanges> all;
  for (const CellFigures* cell : cells)
    all.push_back(changes_of(runs, *cell, level / static_cast<double>(std::max<std::size_t>(1, cells.size()))));
  return all;
}

}  // namespace antcrew::analysis_layer
