// Parts of adding up a log: what the caller was at, and regions one by one.
#pragma once

#include <cstdint>
#include <limits>
#include <string>
#include <vector>

#include "antcrew/log/internal/slices.hpp"
#include "antcrew/log/lane_log.hpp"
#include "antcrew/log/lane_sums.hpp"

namespace antcrew::internal {

// What the caller was at: in a region, or between two.
struct Segment {
  std::int64_t begin_ns = 0;
  std::int64_t end_ns = 0;
  std::uint32_t region = 0;         // 0 = between regions
  std::uint32_t region_before = 0;  // 0 = the call began
  std::uint32_t region_after = 0;
  bool starting = false;  // a crew was being started or ended
  const char* phase = nullptr;
};
std::vector<Segment> segments_of(const LaneLog& log, const std::vector<std::vector<Slice>>& lanes);

// A region that the caller began from outside.
struct FlatRegion {
  struct OfLane {
    std::int64_t begun_ns = std::numeric_limits<std::int64_t>::max();
    std::int64_t ended_ns = 0;
    std::int64_t last_piece_ns = 0;  // when its last piece ended
    double wall_s = 0;
    double cpu_s = 0;
    double delay_s = 0;
    double lock_s = 0;
    double items = 0;
    double pieces = 0;
  };
  struct Piece {
    double seconds;
    double items;
    double first;
    int lane;
  };

  std::uint32_t number = 0;
  std::int64_t all_out_ns = 0;   // when the last piece was taken
  std::int64_t last_end_ns = 0;  // of a worker's part
  std::vector<OfLane> lanes;
  std::vector<Piece> pieces;
  RegionFacts facts;

  std::int64_t begun_ns(std::size_t lane) const noexcept { return lanes[lane].begun_ns; }
  bool takes_part(std::size_t lane) const noexcept { return lanes[lane].ended_ns > 0; }
  void add_body(std::size_t lane, double wall_s, double cpu_s, double delay_s) noexcept;
  void add_lock(std::size_t lane, double wall_s) noexcept;
  // Its imbalance seconds, by what made the last worker the last; and what other ways of sharing out would have given.
  void divide_imbalance(const LaneLog& log);
};
std::vector<FlatRegion> outer_regions_of(const LaneLog& log, const std::vector<std::vector<Slice>>& lanes);

// Of another call of the same place.
void add_up(RegionFacts& to, const RegionFacts& more);

std::string place_of(const LaneLog& log, std::uint32_t region);
const char* sharing_name(Sharing sharing) noexcept;

// The wall time of these pieces, in seconds, taken one after the other by so many workers as each gets free.
double time_on_demand(const std::vector<double>& pieces, std::size_t workers);

}  // namespace antcrew::internal
