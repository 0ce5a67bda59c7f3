#include "antcrew/report/scaling.hpp"

#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/study_json.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

// A variant with 1 to 8 workers on 8 processors, a tenth of it in turn.
Record curve_record() {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, std::vector<double>(9, 1.0))};
  for (const int p : {1, 2, 3, 4, 6, 8}) {
    std::vector<double> times;
    for (int r = 0; r < 9; ++r) times.push_back((0.1 + 0.9 / p) * (1 + 0.002 * ((r * 7 + p) % 5 - 2)));
    cells.push_back(test::cell_with("split", p, times));
  }
  Record record = test::record_of(std::move(cells));
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 8;
  record.machine.topology.physical_cores = 8;
  return record;
}

internal::LaneSums looked_at(double wall_s) {
  internal::LaneSums sums;
  sums.wall_s = wall_s;
  sums.lanes = 4;
  sums.parts_s[LaneState::running] = 1.0 * wall_s;
  sums.parts_s[LaneState::lock] = 2.4 * wall_s;
  sums.parts_s[LaneState::imbalance] = 0.6 * wall_s;
  sums.cpu_frames_s = sums.cpu_tree_s = wall_s;
  sums.locks = {{"lock 1", 0, 2.4 * wall_s, 0, 0}};
  internal::SampleFacts looks;
  looks.moments = 120;
  looks.lanes = 480;
  looks.lock_waiters = 2.9;
  looks.lock_kinds = 1;
  sums.looks = looks;
  return sums;
}

Record hand_made(bool refused = false) {
  Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
                                   test::cell_with("threads", 4, std::vector<double>(9, 0.9))});
  record.cells[1].crew = "Workers";
  record.cells[1].metered = {looked_at(0.9), looked_at(0.9), looked_at(0.9)};
  for (internal::LaneSums& sums : record.cells[1].metered) sums.looks->refused = refused;
  return record;
}

}  // namespace

TEST_CASE("a curve over workers is told by its best formula, with bounds and where it ends") {
  const Record record = curve_record();
  const std::string text = text_of(scaling_of(analyse(record)));
  CHECK(contains(text, "Scaling projection"));
  CHECK(contains(text, "from 6 worker counts: serial fraction 0.1 ("));
  CHECK(contains(text, "then no number of workers passes speedup 10 ("));
  const auto json = nlohmann::json::parse(explanation_json(analyse(record)));
  const auto& fit = json.at("models").at(0).at("fits").at(0);
  CHECK(fit.at("parameters").at("serial_fraction").at("low") < 0.1);
  CHECK(fit.at("parameters").at("serial_fraction").at("high") > 0.1);
  CHECK(fit.at("speedup").back().at("workers") >= 16);
  CHECK(json.at("worth_it").at(0).at("workers") == 8);
}

TEST_CASE("few worker counts are refused with the reason, once for all curves") {
  const Record record = test::record_of(
      {test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
       test::cell_with("a", 1, std::vector<double>(9, 1.0)), test::cell_with("a", 2, std::vector<double>(9, 0.5)),
       test::cell_with("b", 1, std::vector<double>(9, 1.0)), test::cell_with("b", 2, std::vector<double>(9, 0.5))});
  const std::string text = text_of(scaling_of(analyse(record)));
  CHECK(contains(text, "No formula: a formula needs 4 worker counts at least"));
  CHECK(text.find("No formula", text.find("No formula") + 1) == std::string::npos);
}

TEST_CASE("a coarse ledger says that it is coarse, on how many looks it rests, and by how much it may be off") {
  const Record record = hand_made();
  const std::string text = explanation(analyse(record), Look{100});
  CHECK(contains(text, "coarse: 1,440 samples, at 360 moments; a share may be off by 5 points"));
  CHECK(contains(text, "workers wait for one and the same lock, 2.9 of 4 of them while anybody does"));
  CHECK_FALSE(contains(text, "(measured)"));
  const auto json = nlohmann::json::parse(explanation_json(analyse(record)));
  CHECK(json.at("ledgers").at(0).at("looks").at("lanes") == 480);
  for (const auto& finding : json.at("findings")) {
    if (finding.at("class") == "loss") CHECK(finding.at("sure") != "measured");
  }
}

TEST_CASE("where the system refuses to tell what threads wait for, the explanation says so") {
  const Record record = hand_made(true);
  CHECK(contains(explanation(analyse(record), Look{200}), "the kernel did not tell what sleeping threads wait for"));
}

TEST_CASE("too few looks withhold the ledger, with the reason") {
  Record record = hand_made();
  for (internal::LaneSums& sums : record.cells[1].metered) sums.looks->lanes = 40;
  const std::string text = explanation(analyse(record), Look{200});
  CHECK(contains(text, "too short or too few to be looked at often enough"));
  CHECK_FALSE(contains(text, "60 %"));
}

TEST_CASE("a timeline is a band for each worker, with the signs that it uses explained") {
  Record record = hand_made();
  internal::Timeline line;
  line.wall_s = 1;
  line.all_lanes = 2;
  using Kind = internal::TimelineKind;
  line.lanes = {{0, {{0, 0.5, Kind::piece, -1, 1}, {0.5, 1, Kind::serial, -1, 0}}},
                {1, {{0, 0.25, Kind::piece, -1, 1}, {0.25, 1, Kind::lock, -1, 0}}}};
  record.cells[1].metered[1].timeline = line;
  const Analysed study = analyse(record);
  const std::string text = timeline_text(study.cells[1], 8);
  CHECK(contains(text, "0 |####====|"));
  CHECK(contains(text, "1 |##LLLLLL|"));
  CHECK(contains(text, "# a piece, L at a lock, = serial"));
  const auto json = nlohmann::json::parse(explanation_json(study, true));
  CHECK(json.at("timelines").at(0).at("lanes").at(1).at("stretches").at(1).at("what") == "lock");
  CHECK_FALSE(nlohmann::json::parse(explanation_json(study)).contains("timelines"));
}
