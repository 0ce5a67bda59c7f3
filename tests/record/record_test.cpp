#include "antcrew/record/record.hpp"

#include <doctest/doctest.h>

#include <filesystem>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/record/record_json.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::TemporaryFolder;

namespace {

Record sample() {
  Record record = test::record_of(
      {test::cell_with("baseline", 1, {0.1, 1.0 / 3, 2e-9}), test::cell_with("threads, \"by hand\" µ", 2, {1e-300})});
  record.machine.limits.quota_cpus = 1.5;
  record.machine.topology.caches = {{1, 32768, 2, 64}};
  record.points[0].dimensions = {{"distinct", 1'000'000}};
  record.plan = {11, 60, 0.05, 30, (1ull << 53) - 1};
  record.blocks = {{0, 0.1, 0.2, 4096, true, 3, 2, 1, 0.5, 0.25, 1, 0.01, 0.02}};
  record.confirmations = {{0, 1, {1}, 9}};
  record.left_out = {{LeftOut::What::points, 0, 120}};
  record.another_study = true;
  record.dropped_paused = 1;
  record.machine.topology.kinds = {{0, {0, 1}}, {1, {2, 3}}};
  record.crowds = {{0, 2, {0.1, 0.2}}};
  record.ladders = {{"a (ThreadCrew)", "b (Workers)"}};
  record.cells[1].trials[0].phases = {{"merge", {0.5, 3}}};
  record.cells[1].trials[0].counters = {{"nodes", 17}};
  record.cells[0].trials[1].times_s = {0.3, 1.0 / 3, 0.5};
  record.cells[0].trials[1].start_s = 1.25;
  record.cells[0].trials[1].order = 7;
  record.cells[0].trials[1].processor = 0;
  record.cells[0].trials[1].processors = {0, -1};
  record.cells[0].trials[1].throttled_s = 0;
  record.cells[0].trials[1].run_delay_s = 0;
  record.cells[1].faults = {{Fault::Kind::wrong_answer, 3, "2 differ", {{"largest_difference", 0.1}}}};
  record.cells[1].startup_s = {1e-4};
  record.cells[1].asked_processors = {0, 1};
  record.cells[1].granted_processors = {0, -1};
  return record;
}

std::string message_of(const std::string& text) {
  try {
    record_from_json(text, "tides.json");
  } catch (const Error& error) {
    CHECK(error.kind() == Error::Kind::bad_input);
    CHECK(test::lines_in(error.what()) == 0);
    return error.id() + " | " + error.what();
  }
  return "accepted";
}

std::string replaced(std::string text, const std::string& what, const std::string& by) {
  const std::size_t at = text.find(what);
  REQUIRE(at != std::string::npos);
  return text.replace(at, what.size(), by);
}

}  // namespace

TEST_CASE("a record is read back unchanged, to the last bit") {
  const Record record = sample();
  const Record again = record_from_json(to_json(record), "memory");
  CHECK(again.cells == record.cells);
  CHECK(again.points == record.points);
  CHECK(again.build == record.build);
  CHECK(again.plan == record.plan);
  CHECK(again.blocks == record.blocks);
  CHECK(again.crowds == record.crowds);
  CHECK(again.ladders == record.ladders);
  CHECK(again.confirmations == record.confirmations);
  CHECK(again.left_out == record.left_out);
  CHECK(again.machine.topology.kinds == record.machine.topology.kinds);
  CHECK(to_json(again) == to_json(record));
}

TEST_CASE("what is unknown is absent, what all trials have in common by default is not written") {
  const std::string text = to_json(sample());
  CHECK_FALSE(test::contains(text, "peak_bytes"));
  CHECK_FALSE(test::contains(text, "settling_calls"));
  const Record again = record_from_json(text, "memory");
  CHECK_FALSE(again.cells[0].trials[0].throttled_s.has_value());
  CHECK(again.cells[0].trials[1].throttled_s == 0.0);
}

TEST_CASE("records of every earlier version are read") {
  for (const std::string name : {"first", "grid", "step-5"}) {
    CAPTURE(name);
    const Record record = load_record(std::string(ANTCREW_SOURCE) + "/tests/record/old/" + name + ".json");
    CHECK(record.version == Record::newest_version);
    CHECK(record.title == "Tide heights at every sounding");
    CHECK(record.points.size() == 2);
    REQUIRE(record.cells.size() == 14);
    CHECK(record.plan.least_rounds == 7);
    CHECK(record.plan.most_rounds == 7);
    for (const Cell& cell : record.cells) {
      CHECK(cell.trials.size() == (cell.kind == Cell::Kind::baseline ? 21 : 7));
      for (const Trial& trial : cell.trials) {
        CHECK(trial.generation == trial.round);
        CHECK(trial.wall_s > 0);
        CHECK(trial.cpu_s() > 0);
      }
    }
    const Record again = record_from_json(to_json(record), name);
    CHECK(again.cells == record.cells);
  }
}

TEST_CASE("unknown fields are ignored") {
  const std::string text =
      replaced(to_json(sample()), "\"title\":", "\"mood\": {\"of\": [\"the\", \"day\"]}, \"title\":");
  CHECK(to_json(record_from_json(text, "x")) == to_json(sample()));
}

TEST_CASE("pins under their earlier names are read") {
  Record record = sample();
  for (const auto& [before, now] : {std::pair{"spread", Pin::apart}, std::pair{"close", Pin::near}}) {
    record.points.front().pin = now;
    const std::string text = to_json(record);
    const std::string name = std::string("\"pin\": \"") + name_of(now) + "\"";
    REQUIRE(test::contains(text, name));
    const Record again = record_from_json(replaced(text, name, std::string("\"pin\": \"") + before + "\""), "x");
    CHECK(again.points.front().pin == now);
  }
}

TEST_CASE("a record cut short anywhere is refused") {
  const std::string text = to_json(sample());
  for (std::size_t length = 1; length + 2 < text.size(); length += 37) {
    CAPTURE(length);
    CHECK(test::contains(message_of(text.substr(0, length)),
                         "record.syntax | tides.json: cut short after " + std::to_string(length)));
  }
}

TEST_CASE("what is not a record is refused with what it is") {
  const std::string text = to_json(sample());
  CHECK(test::contains(message_of("tide tables"), "record.syntax | tides.json: not JSON at byte"));
  CHECK(test::contains(message_of("[1, 2]"), "record.format | tides.json: JSON, but not an Ant Crew record"));
  CHECK(test::contains(message_of("{\"format\": \"other\"}"), "record.format"));
  CHECK(test::contains(message_of(replaced(text, "\"version\": 3", "\"version\": 99")),
                       "record.version | tides.json: a record of version 99"));
  CHECK(test::contains(message_of(replaced(text, "\"version\": 3", "\"version\": \"one\"")), "record.field"));
  CHECK(test::contains(message_of(replaced(text, "\"round\": [", "\"rond\": [")), "/cells/0/trials"));
  CHECK(
      test::contains(message_of(replaced(text, "\"round\": [\n     1,", "\"round\": [")), "not as long as the others"));
  CHECK(test::contains(message_of(replaced(text, "\"workers\": 2", "\"workers\": \"two\"")), "/cells/1/workers"));
  CHECK(test::contains(message_of(replaced(text, "\"kind\": \"variant\"", "\"kind\": \"hearsay\"")),
                       "unknown value 'hearsay'"));
  CHECK(test::contains(message_of(replaced(text, "\"point\": 0", "\"point\": 7")), "does not exist"));
}

TEST_CASE("files: whole or not at all") {
  const TemporaryFolder folder;
  const std::string path = folder / "new/folder/tides.json";
  save_record(sample(), path);
  CHECK(to_json(load_record(path)) == to_json(sample()));
  for (const auto& entry : std::filesystem::directory_iterator(folder / "new/folder")) {
    CHECK(entry.path().filename() == "tides.json");  // nothing half-written beside it
  }
  CHECK_THROWS_WITH_AS(load_record(folder.path()),
                       (folder.path() + ": a directory, not a record; name the record's file in it").c_str(), Error);
  CHECK_THROWS_AS(load_record(folder / "missing.json"), Error);
  test::write_file(folder / "empty.json", "");
  CHECK_THROWS_AS(load_record(folder / "empty.json"), Error);
  test::write_file(folder / "file", "x");
  CHECK_THROWS_AS(save_record(sample(), folder / "file/below.json"), Error);
  CHECK(test::read_file(folder / "file") == "x");
}

TEST_CASE("looks and timelines of metered calls come back as they were") {
  antcrew::internal::LaneSums sums;
  sums.wall_s = 0.01;
  sums.lanes = 2;
  sums.critical_path_s = 0.005;
  sums.looks.emplace();
  sums.looks->moments = 140;
  sums.looks->lanes = 280;
  sums.looks->blocked_s = {{"sleep", 0.25}};
  using antcrew::internal::TimelineKind;
  antcrew::internal::Timeline line;
  line.names = {"merge"};
  line.all_lanes = 2;
  line.wall_s = 0.01;
  line.lanes = {{0, {{0, 0.004, TimelineKind::piece, -1, 3}, {0.004, 0.01, TimelineKind::serial, 0, 0}}},
                {1, {{0, 0.01, TimelineKind::idle, -1, 0}}}};
  sums.timeline = line;
  Record record = test::record_of({test::cell_with("baseline", 1, {1}), test::cell_with("split", 2, {1})});
  record.cells[1].metered = {sums};
  const Record back = record_from_json(to_json(record), "test");
  REQUIRE(back.cells[1].metered.size() == 1);
  CHECK(back.cells[1].metered[0] == sums);
}

TEST_CASE("facts of ranks come back as they were; those that do not fit together withhold the ledger") {
  antcrew::internal::LaneSums sums;
  sums.wall_s = 0.01;
  sums.lanes = 2;
  sums.ranks.emplace();
  sums.ranks->hosts = {"quay", "weir"};
  sums.ranks->processors = {1, 2};
  sums.ranks->host_of = {0, 1};
  sums.ranks->arithmetic_s = {1e-3, 1e-3};
  sums.ranks->clock_off_s = {0, 1e-6};
  sums.ranks->links = {{0, 1, 1e-4, 1e8}, {1, 0, 1e-4, 1e8}};
  sums.ranks->sent = {{0, 1, 4096, 2, 1024}};
  sums.ranks->waits = {{1, 0, 0.004}};
  sums.ranks->parts_s.resize(2);
  Record record = test::record_of({test::cell_with("baseline", 1, {1}), test::cell_with("rows", 2, {1})});
  record.cells[1].metered = {sums};
  CHECK(record_from_json(to_json(record), "test").cells[1].metered[0] == sums);
  const auto broken = [&](auto&& breaks) {
    Record bad = record;
    breaks(*bad.cells[1].metered[0].ranks);
    const Record back = record_from_json(to_json(bad), "test");
    CHECK_FALSE(back.cells[1].metered[0].ranks);
    CHECK(back.cells[1].metered[0].withheld != "");
  };
  broken([](auto& ranks) { ranks.sent[0].to = 7; });
  broken([](auto& ranks) { ranks.host_of[1] = -1; });
  broken([](auto& ranks) { ranks.links[1].from = 2; });
  broken([](auto& ranks) { ranks.waits[0].awaited = 2; });
  broken([](auto& ranks) { ranks.parts_s.pop_back(); });
}
