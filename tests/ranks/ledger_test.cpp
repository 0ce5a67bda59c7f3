// Where the time of ranks goes, as a study keeps and tells it: waits, messages and shares that are known beforehand.
#include <doctest/doctest.h>
#include <stdlib.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <string>

#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::LaneState;
using internal::LaneSums;

namespace {

struct Measured {
  test::TemporaryFolder folder;
  Record record;
  std::string explained;

  Measured() {
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
    ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
    const auto ran =
        test::run_command({ANTCREW_RANKS_STUDY, "--study", "Waiting ranks", "--rounds", "1", "--no-confirm", "--quiet",
                           "--budget", "0", "--workers", "2", "--save", folder / "ranks.json"});
    CAPTURE(ran.err);
    REQUIRE((ran.exit == 0 || ran.exit == 1 || ran.exit == 4));
    record = load_record(folder / "ranks.json");
    explained = test::run_command({ANTCREW_COMMAND, "explain", folder / "ranks.json", "--as", "json"}).out;
  }
  // The call in the middle.
  const LaneSums& of(const std::string& variant) const {
    for (const Cell& cell : record.cells) {
      if (cell.variant != variant) continue;
      for (const Fault& fault : cell.faults) FAIL(variant << ": " << fault.text);
      REQUIRE_FALSE(cell.metered.empty());
      for (const LaneSums& sums : cell.metered) CHECK(sums.withheld == "");
      return cell.metered[cell.metered.size() / 2];
    }
    FAIL("no variant " << variant);
    std::abort();
  }
  double share_of(const std::string& variant, const std::string& finding) const {
    const auto told = nlohmann::json::parse(explained);
    for (const auto& one : told["findings"]) {
      if (one["variant"] == variant && one["id"] == finding) return one["share"].get<double>();
    }
    return 0;
  }
};

double wait_of(const LaneSums& sums, int rank, int awaited) {
  for (const auto& wait : sums.ranks->waits) {
    if (wait.rank == rank && wait.awaited == awaited) return wait.seconds;
  }
  return 0;
}

const internal::SentData& sent(const LaneSums& sums, int from, int to) {
  const auto found = std::find_if(sums.ranks->sent.begin(), sums.ranks->sent.end(),
                                  [&](const auto& one) { return one.from == from && one.to == to; });
  REQUIRE(found != sums.ranks->sent.end());
  return *found;
}

}  // namespace

TEST_CASE("a study keeps what each rank was at, whom it waited for, and what it sent") {
  const Measured measured;
  constexpr double step_s = 5e-3;
  constexpr double edges = 6 * 8 * 8;  // steps, items, bytes of one
  {
    const LaneSums& sums = measured.of("the last one works");
    REQUIRE(sums.ranks);
    CHECK(sums.lanes == 2);
    CHECK(sums.parts_s.sum() == doctest::Approx(2 * sums.wall_s));
    // Rank 0 waits in each step, rank 1 never long. On a busy machine some of that is waiting for a processor.
    CHECK(wait_of(sums, 0, 1) >= 3 * step_s);
    CHECK(wait_of(sums, 0, 1) > 4 * wait_of(sums, 1, 0));
    CHECK(sums.ranks->parts_s[0][LaneState::message] == doctest::Approx(wait_of(sums, 0, 1)));
    CHECK(sums.ranks->parts_s[1][LaneState::blocked] >= 5.5 * step_s);
    CHECK(sums.ranks->parts_s[0][LaneState::blocked] < 2 * step_s);
    CHECK(sent(sums, 0, 1).edge_bytes == edges);
    CHECK(sent(sums, 1, 0).edge_bytes == edges);
    CHECK(sent(sums, 1, 0).bytes >= edges + 32 * 8);  // its half of the array comes back, too
    REQUIRE(sums.ranks->hosts.size() == 1);
    REQUIRE(sums.ranks->links.size() == 1);
    CHECK(sums.ranks->links[0].round_trip_s > 0);
    CHECK(sums.ranks->links[0].bytes_per_s > 1e6);
    CHECK(measured.share_of("the last one works", "uneven-pieces") > 0.2);
    CHECK(measured.share_of("the last one works", "uneven-pieces") >
          2 * measured.share_of("the last one works", "late-message"));
  }
  {
    // Both work as long, and each waits for the other.
    const LaneSums& sums = measured.of("in turn");
    CHECK(wait_of(sums, 0, 1) >= step_s);
    CHECK(wait_of(sums, 1, 0) >= step_s);
    CHECK(measured.share_of("in turn", "late-message") > 0.15);
    CHECK(measured.share_of("in turn", "late-message") > 1.5 * measured.share_of("in turn", "uneven-pieces"));
  }
  {
    const LaneSums& sums = measured.of("in chunks");
    double pieces = 0;
    double body_s = 0;
    for (const auto& region : sums.by_place) {
      pieces += region.pieces;
      body_s += region.body_s;
      CHECK(region.sharing == "rank pieces");
    }
    CHECK(pieces == 6);
    CHECK(body_s >= 6 * step_s * 0.98);
    REQUIRE(sums.lane_body_s.size() == 2);
    CHECK(sums.lane_body_s[0] >= step_s);
    CHECK(sums.lane_body_s[1] >= step_s);
  }
  // One of two ranks has two of three pieces.
  CHECK(measured.share_of("three pieces", "not-divisible") > 0.12);
  CHECK(measured.share_of("three pieces", "not-divisible") > 2 * measured.share_of("three pieces", "uneven-pieces"));
  {
    const LaneSums& sums = measured.of("large results");
    CHECK(sent(sums, 1, 0).bytes >= 8e6);
    CHECK(sums.parts_s[LaneState::moving_data] > 0);
    CHECK(sums.moved_bytes >= 8e6);
  }
}

TEST_CASE("weak scaling over ranks: as many times the work on as many ranks") {
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
  const test::TemporaryFolder folder;
  const auto ran =
      test::run_command({ANTCREW_RANKS_STUDY, "--study", "Growing waits", "--instrument", "none", "--rounds", "2",
                         "--no-confirm", "--quiet", "--budget", "0", "--save", folder / "growing.json"});
  CAPTURE(ran.err);
  const Record record = load_record(folder / "growing.json");
  double one_s = 0;
  double three_s = 0;
  for (const Cell& cell : record.cells) {
    if (cell.crew != "RankCrew") continue;
    for (const Fault& fault : cell.faults) FAIL(fault.text);
    const Point& point = record.points[cell.point];
    CHECK(point.size == 4 * static_cast<std::size_t>(cell.workers));
    CHECK(point.grown_for == cell.workers);
    for (const Trial& trial : cell.trials) {
      double& least_s = cell.workers == 1 ? one_s : three_s;
      least_s = least_s == 0 ? trial.wall_s : std::min(least_s, trial.wall_s);
    }
  }
  CAPTURE(one_s);
  CAPTURE(three_s);
  CHECK(one_s / three_s > 0.7);
  CHECK(one_s / three_s < 1.3);
}
