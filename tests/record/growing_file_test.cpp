// A record while it grows: killed, on a full disk, beside leftovers of another run.
#include "antcrew/record/growing_file.hpp"

#include <doctest/doctest.h>
#include <sys/resource.h>

#include <algorithm>
#include <csignal>
#include <filesystem>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/record/record_json.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::TemporaryFolder;
using Existing = GrowingFile::Existing;

namespace {

Record frame() {
  return test::record_of({test::cell_with("baseline", 1, {0.5}), test::cell_with("split", 2, {0.25})});
}

RecordStep visit_of(std::size_t cell, int round, double wall_s) {
  RecordStep step;
  step.measured_s = round;
  step.visited.emplace();
  step.visited->cell = cell;
  step.visited->seen = test::cell_with("", 1, {wall_s});
  step.visited->seen.trials[0].round = step.visited->seen.trials[0].generation = round;
  return step;
}

std::vector<RecordStep> steps() {
  std::vector<RecordStep> all{visit_of(0, 2, 0.51), visit_of(1, 2, 0.26)};
  all.emplace_back();
  all.back().block = BlockFacts{0, 0.1, 0.2, 4096};
  all.emplace_back();
  all.back().confirmation = ConfirmationFacts{0, 1, {}, 9};
  all.emplace_back();
  all.back().crowd = CrowdFacts{0, 2, {0.75}};
  all.emplace_back();
  all.back().crowd = CrowdFacts{0, 2, {0.5}};
  all.emplace_back();
  all.back().left_out = LeftOut{LeftOut::What::cells, 0, 99};
  all.emplace_back();
  all.back().dropped = DroppedTrials{1, 2};
  all.push_back(visit_of(1, 3, 0.27));
  return all;
}

Record after(std::size_t count) {
  Record record = frame();
  for (RecordStep& step : steps()) {
    if (count-- == 0) break;
    REQUIRE(apply(record, std::move(step)));
  }
  return record;
}

}  // namespace

TEST_CASE("after every step the file gives the record so far; at the end it is one file") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  GrowingFile file(path, Existing::refused);
  CHECK(std::filesystem::exists(path));  // the name is taken
  file.begin(frame());
  CHECK(to_json(load_record(path)) == to_json(frame()));
  std::size_t count = 0;
  for (const RecordStep& step : steps()) {
    file.add(step);
    CHECK(file.trouble().empty());
    CHECK(to_json(load_record(path)) == to_json(after(++count)));
  }
  CHECK(load_record(path).cells[1].trials.size() == 3);
  CHECK(load_record(path).crowds[0].time_s == std::vector<double>{0.75, 0.5});
  CHECK(load_record(path).dropped_paused == 2);
  file.finish(after(count));
  CHECK_FALSE(std::filesystem::exists(rounds_path(path)));
  CHECK(to_json(load_record(path)) == to_json(after(count)));
}

TEST_CASE("cut anywhere, everything up to the last whole line is read") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  GrowingFile file(path, Existing::refused);
  file.begin(frame());
  for (const RecordStep& step : steps()) file.add(step);
  const std::string lines = test::read_file(rounds_path(path));
  for (std::size_t length = 0; length <= lines.size(); length += 7) {
    CAPTURE(length);
    const std::string part = lines.substr(0, length);
    test::write_file(rounds_path(path), part);
    const auto ends = static_cast<std::size_t>(std::count(part.begin(), part.end(), '\n'));
    CHECK(to_json(load_record(path)) == to_json(after(ends == 0 ? 0 : ends - 1)));
  }
}

TEST_CASE("lines of another run are not taken for this one's") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  {
    GrowingFile first(path, Existing::refused);
    first.begin(frame());
    first.add(visit_of(0, 2, 0.5));
  }
  const std::string old_lines = test::read_file(rounds_path(path));
  {
    GrowingFile second(path, Existing::replaced);
    second.begin(frame());
  }
  test::write_file(rounds_path(path), old_lines);
  CHECK(load_record(path).cells[0].trials.size() == 1);
  std::filesystem::remove(rounds_path(path));
  CHECK(load_record(path).cells[0].trials.size() == 1);
}

TEST_CASE("a line that does not fit its record is an error that names it") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  GrowingFile file(path, Existing::refused);
  file.begin(frame());
  file.add(visit_of(0, 2, 0.5));
  file.add(visit_of(17, 2, 0.5));
  CHECK_THROWS_WITH_AS(
      load_record(path),
      (rounds_path(path) + ", line 3: names a cell or point that its record has not; give an undamaged "
                           "record")
          .c_str(),
      Error);
}

TEST_CASE("what cannot be written for a moment is written later, whole") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  GrowingFile file(path, Existing::refused);
  file.begin(frame());
  file.add(visit_of(0, 2, 0.5));
  const auto size = std::filesystem::file_size(rounds_path(path));
  rlimit before{};
  REQUIRE(getrlimit(RLIMIT_FSIZE, &before) == 0);
  const auto old = std::signal(SIGXFSZ, SIG_IGN);
  const rlimit little{size + 20, before.rlim_max};  // room for a part of a line
  REQUIRE(setrlimit(RLIMIT_FSIZE, &little) == 0);
  file.add(visit_of(1, 2, 0.25));
  const bool trouble = !file.trouble().empty();
  file.add(visit_of(0, 3, 0.5));
  REQUIRE(setrlimit(RLIMIT_FSIZE, &before) == 0);
  std::signal(SIGXFSZ, old);
  CHECK(trouble);
  CHECK(std::filesystem::file_size(rounds_path(path)) == size);  // no half line
  CHECK(load_record(path).cells[0].trials.size() == 2);
  file.add(visit_of(1, 3, 0.25));
  CHECK(file.trouble().empty());
  CHECK(load_record(path).cells[0].trials.size() == 3);
  CHECK(load_record(path).cells[1].trials.size() == 3);
}

TEST_CASE("a name that is taken, or cannot be, is refused before anything is measured; one never used is free again") {
  const TemporaryFolder folder;
  const std::string path = folder / "tides.json";
  { GrowingFile unused(path, Existing::refused); }
  CHECK_FALSE(std::filesystem::exists(path));
  test::write_file(path, "something");
  CHECK_THROWS_AS(GrowingFile(path, Existing::refused), Error);
  { GrowingFile unused(path, Existing::replaced); }
  CHECK(test::read_file(path) == "something");
  CHECK_THROWS_AS(GrowingFile(path + "/below.json", Existing::refused), Error);
  const std::string empty = folder / "empty.json";
  test::write_file(empty, "");  // of a run that was killed before it began
  const GrowingFile taken(empty, Existing::refused);
  CHECK_THROWS_AS(GrowingFile(empty, Existing::refused), Error);  // but not while a run is about to begin
}
