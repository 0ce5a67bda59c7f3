#include "antcrew/log/internal/flat_regions.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <functional>
#include <queue>

namespace antcrew::internal {

std::string place_of(const LaneLog& log, std::uint32_t region) {
  if (region == 0 || region > log.regions.size()) return {};
  const LaneRegion& its = log.regions[region - 1];
  if (its.file == nullptr) return {};
  const char* slash = std::strrchr(its.file, '/');
  const std::string name = slash == nullptr ? its.file : slash + 1;
  return its.line == 0 ? name : name + ":" + std::to_string(its.line);  // of a crew's own call, the call's name
}

const char* sharing_name(Sharing sharing) noexcept {
  constexpr const char* names[] = {"even",  "pieces", "halves",    "forks", "group",
                                   "graph", "stages", "processes", "ranks", "rank pieces"};
  return names[static_cast<std::size_t>(sharing)];
}

namespace {

std::vector<std::uint32_t> outer_numbers(const LaneLog& log) {
  std::vector<std::uint32_t> numbers;
  for (std::size_t k = 0; k < log.regions.size(); ++k) {
    if (!log.regions[k].inner) numbers.push_back(static_cast<std::uint32_t>(k + 1));
  }
  return numbers;
}

std::int64_t end_of(const LaneRegion& region, const LaneLog& log) noexcept {
  return region.end_ns == 0 ? log.end_ns : std::min(region.end_ns, log.end_ns);
}

}  // namespace

std::vector<Segment> segments_of(const LaneLog& log, const std::vector<std::vector<Slice>>& lanes) {
  std::vector<Segment> segments;
  const std::vector<std::uint32_t> numbers = outer_numbers(log);
  std::int64_t at = log.begin_ns;
  std::size_t slice = 0;
  const auto between = [&](std::int64_t to, std::uint32_t before, std::uint32_t after) {
    const std::vector<Slice>& mine = lanes.front();
    while (at < to) {
      while (slice + 1 < mine.size() && mine[slice].end_ns <= at) ++slice;
      const Slice& here = mine[slice];
      const std::int64_t end = here.end_ns > at ? std::min(here.end_ns, to) : to;
      Segment one{at, end, 0, before, after, here.doing == Doing::starting, nullptr};
      if (here.stretch != nullptr) one.phase = here.stretch->phase;
      segments.push_back(one);
      at = end;
    }
  };
  std::uint32_t before = 0;
  for (const std::uint32_t number : numbers) {
    const LaneRegion& region = log.regions[number - 1];
    const std::int64_t begin = std::clamp(region.begin_ns, at, log.end_ns);
    between(begin, before, number);
    const std::int64_t end = std::max(begin, end_of(region, log));
    segments.push_back({begin, end, number, before, 0, false, region.phase});
    at = end;
    before = number;
  }
  between(log.end_ns, before, 0);
  return segments;
}

std::vector<FlatRegion> outer_regions_of(const LaneLog& log, const std::vector<std::vector<Slice>>& lanes) {
  std::vector<FlatRegion> regions;
  std::vector<std::size_t> index(log.regions.size() + 1, log.regions.size());
  for (const std::uint32_t number : outer_numbers(log)) {
    const LaneRegion& its = log.regions[number - 1];
    index[number] = regions.size();
    FlatRegion& region = regions.emplace_back();
    region.number = number;
    region.lanes.resize(lanes.size());
    region.facts.calls = 1;
    region.facts.n = static_cast<double>(its.n);
    region.facts.wall_s = static_cast<double>(end_of(its, log) - its.begin_ns) * 1e-9;
    region.all_out_ns = its.begin_ns;
  }
  for (std::size_t lane = 0; lane < lanes.size(); ++lane) {
    std::int64_t piece_began = -1;  // where the piece under way began: a wait may lie in it
    std::uint32_t piece_region = 0;
    for (const Slice& slice : lanes[lane]) {
      const Stretch* stretch = slice.stretch;
      if (stretch == nullptr || stretch->region == 0 || stretch->region >= index.size()) continue;
      if (index[stretch->region] >= regions.size()) continue;
      FlatRegion& region = regions[index[stretch->region]];
      FlatRegion::OfLane& mine = region.lanes[lane];
      if (stretch->doing == Doing::away) continue;
      if (stretch->doing != Doing::waiting) mine.begun_ns = std::min(mine.begun_ns, slice.begin_ns);
      if (stretch->doing != Doing::waiting) {
        mine.ended_ns = std::max(mine.ended_ns, slice.end_ns);
        region.last_end_ns = std::max(region.last_end_ns, slice.end_ns);
      }
      if (stretch->doing == Doing::body && (piece_began < 0 || piece_region != stretch->region)) {
        piece_began = slice.begin_ns;
        piece_region = stretch->region;
      }
      if (stretch->pieces == 0) continue;
      region.all_out_ns = std::max(region.all_out_ns, piece_began);
      mine.last_piece_ns = slice.end_ns;
      mine.items += static_cast<double>(stretch->items);
      mine.pieces += stretch->pieces;
      region.facts.stolen += stretch->stolen ? 1 : 0;
      const double seconds = static_cast<double>(slice.end_ns - piece_began) * 1e-9;
      region.pieces.push_back(
          {seconds, static_cast<double>(stretch->items), static_cast<double>(stretch->first), static_cast<int>(lane)});
      const double each_s = seconds / stretch->pieces;
      region.facts.pieces += stretch->pieces;
      if (each_s > region.facts.longest_piece_s) {
        region.facts.longest_piece_s = each_s;
        region.facts.longest_piece_at = static_cast<double>(stretch->first);
        region.facts.longest_piece_lane = static_cast<int>(lane);
      }
      piece_began = -1;
    }
  }
  return regions;
}

void FlatRegion::add_body(std::size_t lane, double wall_s, double cpu_s, double delay_s) noexcept {
  lanes[lane].wall_s += wall_s;
  lanes[lane].cpu_s += cpu_s;
  lanes[lane].delay_s += delay_s;
  facts.body_s += wall_s;
}

void FlatRegion::add_lock(std::size_t lane, double wall_s) noexcept {
  lanes[lane].lock_s += wall_s;
}

double time_on_demand(const std::vector<double>& pieces, std::size_t workers) {
  std::priority_queue<double, std::vector<double>, std::greater<>> free_at;
  for (std::size_t k = 0; k < workers; ++k) free_at.push(0);
  double end = 0;
  for (const double seconds : pieces) {
    const double at = free_at.top() + seconds;
    free_at.pop();
    free_at.push(at);
    end = std::max(end, at);
  }
  return end;
}

namespace {

// Pieces of many items are cut as if their items were alike: what is known of them.
std::vector<double> cut_finer(const std::vector<FlatRegion::Piece>& pieces, double items_each) {
  std::vector<double> cut;
  for (const FlatRegion::Piece& piece : pieces) {
    const auto parts =
        static_cast<std::size_t>(std::max(1.0, std::min(piece.items / std::max(items_each, 1.0), 4096.0)));
    for (std::size_t k = 0; k < parts; ++k) cut.push_back(piece.seconds / static_cast<double>(parts));
  }
  return cut;
}

}  // namespace

void FlatRegion::divide_imbalance(const LaneLog& log) {
  const LaneRegion& its = log.regions[number - 1];
  double body_s = 0;
  for (const Piece& piece : pieces) body_s += piece.seconds;
  facts.mean_piece_s = facts.pieces > 0 ? body_s / facts.pieces : 0;
  const std::size_t workers = std::max<std::size_t>(1, std::min<std::size_t>(its.workers, lanes.size()));
  if (!pieces.empty() && pieces.size() < 100'000) {
    std::sort(pieces.begin(), pieces.end(), [](const Piece& a, const Piece& b) { return a.first < b.first; });
    std::vector<double> finer = cut_finer(pieces, static_cast<double>(its.n) / static_cast<double>(16 * workers));
    facts.finer_s = time_on_demand(finer, workers);
    std::sort(finer.begin(), finer.end(), std::greater<>());
    facts.tapering_s = time_on_demand(finer, workers);
  }
  if (!(facts.imbalance_s > 0)) return;
  std::size_t last = 0;
  for (std::size_t k = 1; k < workers; ++k) {
    if (lanes[k].last_piece_ns > lanes[last].last_piece_ns) last = k;
  }
  if (workers < 2 || lanes[last].last_piece_ns == 0) {
    facts.causes.uneven_s = facts.imbalance_s;
    return;
  }
  const auto late_s = [&](const OfLane& lane) {
    return lane.ended_ns == 0 ? 0.0 : std::max(0.0, static_cast<double>(lane.begun_ns - its.begin_ns) * 1e-9);
  };
  OfLane mean;
  double mean_late_s = 0;
  for (std::size_t k = 0; k < workers; ++k) {
    if (k == last) continue;
    const double share = 1.0 / static_cast<double>(workers - 1);
    mean.wall_s += share * lanes[k].wall_s;
    mean.delay_s += share * lanes[k].delay_s;
    mean.lock_s += share * lanes[k].lock_s;
    mean_late_s += share * late_s(lanes[k]);
  }
  const OfLane& m = lanes[last];
  ImbalanceCauses excess;
  excess.late_s = std::max(0.0, late_s(m) - mean_late_s);
  excess.shared_s = std::max(0.0, m.delay_s - mean.delay_s);
  excess.lock_s = std::max(0.0, m.lock_s - mean.lock_s);
  const double work_s = std::max(0.0, (m.wall_s - m.delay_s) - (mean.wall_s - mean.delay_s));
  // As many units as there are, some worker has more than its share of them.
  const bool by_pieces = its.sharing == Sharing::pieces || its.sharing == Sharing::rank_pieces;
  const double units = by_pieces && facts.pieces > 0 ? facts.pieces : facts.n;
  const double share = units / static_cast<double>(workers);
  const double unit_s = units > 0 ? body_s / units : 0;
  const double more = std::ceil(share - 1e-9) - share;
  const double mine = by_pieces ? m.pieces : m.items;
  const bool has_more = mine > share + 1e-9;
  excess.divisible_s = has_more ? std::min(work_s, (more + share - std::floor(share)) * unit_s) : 0;
  excess.uneven_s = work_s - excess.divisible_s;
  const double sum = excess.sum();
  if (!(sum > 0)) {
    facts.causes.uneven_s = facts.imbalance_s;
    return;
  }
  const double scale = facts.imbalance_s / sum;
  facts.causes = {scale * excess.late_s, scale * excess.shared_s, scale * excess.lock_s, scale * excess.uneven_s,
                  scale * excess.divisible_s};
}

void add_up(RegionFacts& to, const RegionFacts& more) {
  const double pieces = to.pieces + more.pieces;
  if (pieces > 0) to.mean_piece_s = (to.mean_piece_s * to.pieces + more.mean_piece_s * more.pieces) / pieces;
  if (more.longest_piece_s > to.longest_piece_s) {
    to.longest_piece_s = more.longest_piece_s;
    to.longest_piece_at = more.longest_piece_at;
    to.longest_piece_lane = more.longest_piece_lane;
  }
  to.calls += more.calls;
  to.n += more.n;
  to.pieces = pieces;
  to.stolen += more.stolen;
  to.wall_s += more.wall_s;
  to.body_s += more.body_s;
  to.dispatch_s += more.dispatch_s;
  to.late_s += more.late_s;
  to.no_work_s += more.no_work_s;
  to.imbalance_s += more.imbalance_s;
  to.causes.late_s += more.causes.late_s;
  to.causes.shared_s += more.causes.shared_s;
  to.causes.lock_s += more.causes.lock_s;
  to.causes.uneven_s += more.causes.uneven_s;
  to.causes.divisible_s += more.causes.divisible_s;
  to.finer_s += more.finer_s;
  to.tapering_s += more.tapering_s;
}

}  // namespace antcrew::internal
