#include "antcrew/analysis/rank_hosts.hpp"

#include <numeric>

namespace antcrew::analysis_layer {

const internal::RankFacts* ranks_of(const Cell& cell) noexcept {
  for (const internal::LaneSums& sums : cell.metered) {
    if (sums.ranks && !sums.ranks->hosts.empty()) return &*sums.ranks;
  }
  return nullptr;
}

int processors_of(const Record& record, const Cell& cell) noexcept {
  const internal::RankFacts* ranks = ranks_of(cell);
  if (ranks == nullptr) return record.machine.usable_processors();
  return std::max(1, std::accumulate(ranks->processors.begin(), ranks->processors.end(), 0));
}

std::string worker_name(const internal::RankFacts* ranks, int worker) {
  const auto at = static_cast<std::size_t>(worker);
  if (ranks == nullptr || worker < 0 || at >= ranks->host_of.size()) return "worker " + std::to_string(worker);
  const auto host = static_cast<std::size_t>(ranks->host_of[at]);
  return "rank " + std::to_string(worker) + (host < ranks->hosts.size() ? " on " + ranks->hosts[host] : std::string());
}

}  // namespace antcrew::analysis_layer
