#include "antcrew/analysis/internal/between_runs.hpp"

#include <algorithm>
#include <boost/math/distributions/fisher_f.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>
#include <cmath>
#include <map>
#include <utility>

namespace antcrew::internal {
namespace {

constexpr double least_freedom = 4;
constexpr double beyond_doubt = 0.95;

// Of each run, less the mean of its side; and how many degrees of freedom they have.
struct Residuals {
  std::vector<std::optional<double>> of_runs;  // before and after, one after the other
  double squares = 0;
  double freedom = 0;
};

void add_side(Residuals& all, const std::vector<std::optional<double>>& runs) {
  double sum = 0;
  int count = 0;
  for (const auto& value : runs) {
    if (!value) continue;
    sum += *value;
    ++count;
  }
  for (const auto& value : runs) {
    if (!value) {
      all.of_runs.emplace_back();
      continue;
    }
    const double off = *value - sum / count;
    all.of_runs.emplace_back(off);
    all.squares += off * off;
  }
  all.freedom += std::max(0, count - 1);
}

Residuals residuals_of(const CellRuns& cell) {
  Residuals all;
  add_side(all, cell.before);
  add_side(all, cell.after);
  return all;
}

double limit_of(double level, double freedom, double of_others) {
  return boost::math::quantile(boost::math::fisher_f(freedom, of_others), level);
}

// Those whose spread is beyond doubt more than that of the rest, the most extreme first; each time against the rest.
std::vector<bool> noisy_ones(const std::vector<Residuals>& cells) {
  std::vector<bool> noisy(cells.size(), false);
  for (std::size_t left = cells.size(); left > 1; --left) {
    double squares = 0;
    double freedom = 0;
    std::size_t most = cells.size();
    const auto variance = [&](std::size_t k) { return cells[k].squares / cells[k].freedom; };
    for (std::size_t k = 0; k < cells.size(); ++k) {
      if (noisy[k] || cells[k].freedom <= 0) continue;
      squares += cells[k].squares;
      freedom += cells[k].freedom;
      if (most == cells.size() || variance(k) > variance(most)) most = k;
    }
    if (most == cells.size() || freedom <= cells[most].freedom) break;
    const double others = (squares - cells[most].squares) / (freedom - cells[most].freedom);
    // What the largest of so many exceeds by chance.
    const double level = 1 - (1 - beyond_doubt) / static_cast<double>(left);
    if (others > 0 && variance(most) <= others * limit_of(level, cells[most].freedom, freedom - cells[most].freedom))
      break;
    noisy[most] = true;
  }
  return noisy;
}

// Of all that are not noisy: what the cells of a baseline share, and the rest.
RunSpread pooled(const std::vector<CellRuns>& cells, const std::vector<Residuals>& residuals,
                 const std::vector<bool>& noisy) {
  std::map<std::size_t, std::vector<std::size_t>> groups;
  for (std::size_t k = 0; k < cells.size(); ++k) {
    if (!noisy[k] && residuals[k].freedom > 0) groups[cells[k].shares].push_back(k);
  }
  double squares = 0, freedom = 0;        // of single cells
  double shared = 0, shared_freedom = 0;  // of the means of a group, run by run
  double apart = 0, apart_freedom = 0;    // of cells about those means
  double mean_of_shares = 0;              // of 1 / cells of a group
  for (const auto& [baseline, members] : groups) {
    double runs_freedom = 0;
    for (const std::size_t k : members) {
      squares += residuals[k].squares;
      freedom += residuals[k].freedom;
      runs_freedom = std::max(runs_freedom, residuals[k].freedom);
    }
    const std::size_t runs = residuals[members.front()].of_runs.size();
    for (std::size_t run = 0; run < runs; ++run) {
      double sum = 0, count = 0;
      for (const std::size_t k : members) {
        if (!residuals[k].of_runs[run]) continue;
        sum += *residuals[k].of_runs[run];
        ++count;
      }
      if (count == 0) continue;
      shared += sum / count * (sum / count);
      for (const std::size_t k : members) {
        if (residuals[k].of_runs[run]) apart += std::pow(*residuals[k].of_runs[run] - sum / count, 2);
      }
    }
    shared_freedom += runs_freedom;
    apart_freedom += runs_freedom * static_cast<double>(members.size() - 1);
    mean_of_shares += runs_freedom / static_cast<double>(members.size());
  }
  if (freedom <= 0) return {};
  RunSpread spread{squares / freedom, freedom};
  if (apart_freedom <= 0 || shared_freedom <= 0) return spread;
  // Satterthwaite 1946, "An approximate distribution of estimates of variance components".
  const double of_means = shared / shared_freedom;
  const double of_cells = apart / apart_freedom * (1 - mean_of_shares / shared_freedom);
  spread.variance = of_means + of_cells;
  const double unsure = of_means * of_means / shared_freedom + of_cells * of_cells / apart_freedom;
  if (unsure > 0) spread.freedom = spread.variance * spread.variance / unsure;
  return spread;
}

}  // namespace

std::vector<RunSpread> spreads_of(const std::vector<CellRuns>& cells) {
  std::vector<Residuals> residuals;
  for (const CellRuns& cell : cells) residuals.push_back(residuals_of(cell));
  const std::vector<bool> noisy = noisy_ones(residuals);
  const RunSpread all = pooled(cells, residuals, noisy);
  std::vector<RunSpread> spreads;
  for (std::size_t k = 0; k < cells.size(); ++k) {
    const Residuals& own = residuals[k];
    const bool its_own = noisy[k] && own.freedom > 0;
    RunSpread spread = its_own ? RunSpread{own.squares / own.freedom, own.freedom} : all;
    if (own.freedom < least_freedom) spread = {};
    spreads.push_back(spread);
  }
  return spreads;
}

double quantile_of(double level, double freedom) {
  const double side = 1 - (1 - level) / 2;
  return freedom > 0 ? boost::math::quantile(boost::math::students_t(freedom), side)
                     : boost::math::quantile(boost::math::normal(), side);
}

}  // namespace antcrew::internal
