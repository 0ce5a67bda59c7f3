#include "antcrew/analysis/claim.hpp"

#include <algorithm>
#include <boost/math/distributions/fisher_f.hpp>
#include <cmath>
#include <map>

#include "antcrew/analysis/series.hpp"
#include "antcrew/analysis/stages.hpp"
#include "antcrew/analysis/thresholds.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::analysis_layer {
namespace {

std::vector<double> plain(const ByGeneration& values) {
  std::vector<double> all;
  for (const auto& [generation, value] : values) all.push_back(value);
  return all;
}

std::map<int, int> blocks_of_generations(const Cell& cell, int confirming) {
  std::map<int, int> blocks;
  for (const Trial& trial : cell.trials) {
    if (trial.confirming == confirming && trial.block) blocks[trial.generation] = *trial.block;
  }
  return blocks;
}

// By block: the ratios of its rounds, in time.
std::map<int, std::vector<double>> by_block(const ByGeneration& ratios, const Cell& cell, int confirming) {
  const std::map<int, int> blocks = blocks_of_generations(cell, confirming);
  std::map<int, std::vector<double>> values;
  for (const auto& [generation, ratio] : ratios) {
    if (const auto known = blocks.find(generation); known != blocks.end()) values[known->second].push_back(ratio);
  }
  return values;
}

// How far off no trend a series must be. Downwards more, where the start was flattered by a choice.
constexpr double rising = 1.64;
double falling(std::size_t chosen_from) {
  return chosen_from <= 1 ? rising : chosen_from <= 4 ? 2.0 : 2.5;
}

void span_exploring(Claim& claim, const std::vector<double>& explored, const std::vector<double>& fresh,
                    std::size_t chosen_from) {
  const double times = widening(claim.correlation);
  const Estimate before = widened(median_interval(explored, 0.95), times);
  if (!before.claimed || !claim.ratio.claimed) return;
  std::vector<double> all = explored;
  all.insert(all.end(), fresh.begin(), fresh.end());
  const double slope = trend(all) / times;
  claim.drifts = slope > rising || slope < -falling(chosen_from);
  const bool apart = before.low > claim.ratio.high || before.high < claim.ratio.low;
  if (!claim.drifts && !apart) return;
  claim.spans = before;
  claim.ratio.low = std::min(claim.ratio.low, before.low);
  claim.ratio.high = std::max(claim.ratio.high, before.high);
}

}  // namespace

bool counts_blocks(const Record& record) noexcept {
  return record.plan.matters.has_value();
}

std::optional<Claim> claim_of(const Cell& a, const Cell& b, int confirming, double level, std::size_t chosen_from) {
  const ByGeneration ratios = ratios_of(a, b, confirming);
  if (ratios.empty()) return std::nullopt;
  const std::vector<double> fresh = plain(ratios);
  const auto blocks = by_block(ratios, b, confirming);
  Claim claim;
  claim.rounds = static_cast<int>(fresh.size());
  if (blocks.empty()) {  // of before blocks were counted
    claim.ratio = median_interval(fresh, level);
    return claim;
  }
  const std::vector<double> explored = plain(ratios_of(a, b, exploring));
  claim.correlation = neighbour_correlation({explored, fresh});
  const bool enough = static_cast<int>(blocks.size()) >= least_for_interval;
  const auto of_each = static_cast<int>((fresh.size() + blocks.size() / 2) / blocks.size());
  claim.widened = widening(claim.correlation, enough ? of_each : 1);
  if (enough) {
    std::vector<double> medians;
    for (const auto& [block, values] : blocks) medians.push_back(median(values));
    const bool trimmed = of_each < 3 && static_cast<int>(blocks.size()) >= least_confirming;
    claim.ratio = mean_ratio(medians, level, trimmed);
    claim.blocks = static_cast<int>(blocks.size());
  } else {
    claim.ratio = median_interval(fresh, level);
  }
  claim.ratio = widened(claim.ratio, claim.widened);
  if (!explored.empty()) span_exploring(claim, explored, fresh, chosen_from);
  return claim;
}

std::optional<Estimate> explored_ratio(const Cell& a, const Cell& b, double level, double correlation) {
  const auto estimate = estimate_of(ratios_of(a, b, exploring), level);
  return estimate ? std::optional(widened(*estimate, widening(correlation))) : std::nullopt;
}

std::vector<double> explored_correlations(const Record& record) {
  std::vector<double> found(record.cells.size(), 0);
  if (!counts_blocks(record)) return found;
  for (std::size_t point = 0; point < record.points.size(); ++point) {
    std::vector<std::size_t> places;
    std::vector<std::vector<double>> series;
    for (std::size_t k = 0; k < record.cells.size(); ++k) {
      const Cell& cell = record.cells[k];
      const Cell* baseline =
          cell.point == point && cell.kind != Cell::Kind::baseline ? baseline_of(record, cell) : nullptr;
      if (baseline == nullptr) continue;
      places.push_back(k);
      series.push_back(plain(ratios_of(*baseline, cell, exploring)));
    }
    const double together = neighbour_correlation(series);
    for (std::size_t k = 0; k < places.size(); ++k) {
      const double own = neighbour_correlation({series[k]});
      const double clearly = 2 / std::sqrt(std::max<double>(1, static_cast<double>(series[k].size())));
      found[places[k]] = own > together + clearly ? own : together;
    }
  }
  return found;
}

std::size_t chosen_from(const Record& record, std::size_t point) {
  return static_cast<std::size_t>(std::count_if(record.cells.begin(), record.cells.end(), [&](const Cell& cell) {
    return cell.point == point && cell.kind == Cell::Kind::variant && !cell.trials.empty();
  }));
}

std::vector<ByInput> disagreeing_inputs(const Record& record, const Cell& a, const Cell& b, int confirming) {
  std::map<int, std::uint64_t> seeds;
  for (const BlockFacts& block : record.blocks) {
    if (block.confirming == confirming && block.block > 0) seeds[block.block] = block.input_seed;
  }
  std::map<std::uint64_t, std::vector<double>> logs;
  std::size_t count = 0;
  double mean = 0;
  for (const auto& [block, values] : by_block(ratios_of(a, b, confirming), b, confirming)) {
    const auto seed = seeds.find(block);
    if (seed == seeds.end()) continue;
    const double value = std::log(median(values));
    logs[seed->second].push_back(value);
    mean += value;
    ++count;
  }
  if (logs.size() < 2 || count < logs.size() + 2) return {};
  mean /= static_cast<double>(count);
  double between = 0;
  double within = 0;
  bool faster = false;
  bool slower = false;
  std::vector<ByInput> found;
  for (const auto& [seed, values] : logs) {
    double own = 0;
    for (const double value : values) own += value / static_cast<double>(values.size());
    for (const double value : values) within += (value - own) * (value - own);
    between += static_cast<double>(values.size()) * (own - mean) * (own - mean);
    faster = faster || own > 0;
    slower = slower || own < 0;
    found.push_back({seed, std::exp(own)});
  }
  if (!faster || !slower) return {};
  const auto freedom = static_cast<double>(logs.size() - 1);
  const auto left = static_cast<double>(count - logs.size());
  if (within <= 0) return found;
  constexpr double level = 0.99;
  const double ratio = (between / freedom) / (within / left);
  return ratio > boost::math::quantile(boost::math::fisher_f(freedom, left), level) ? found : std::vector<ByInput>{};
}

}  // namespace antcrew::analysis_layer
