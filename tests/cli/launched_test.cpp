// Cells whose workers a launcher begins, seen from outside. Here the launcher is `env`, which begins one process.
#include <doctest/doctest.h>
#include <signal.h>
#include <stdlib.h>

#include <filesystem>
#include <string>
#include <utility>
#include <vector>

#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "cli/background.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

struct Planted {
  test::TemporaryFolder folder;
  test::Outcome outcome;
  Record record;

  explicit Planted(const std::string& plant, const std::string& launcher = "env -u NOTHING",
                   std::vector<std::string> more = {}) {
    ::setenv("ANTCREW_PLANT", plant.c_str(), 1);
    std::vector<std::string> words{
        ANTCREW_PLANTED,         "--workers",  "1",     "--rounds", "4", "--quiet", "--no-confirm", "--save",
        folder / "planted.json", "--launcher", launcher};
    words.insert(words.end(), more.begin(), more.end());
    outcome = test::run_command(words);
    ::unsetenv("ANTCREW_PLANT");
    if (std::filesystem::exists(folder / "planted.json")) record = load_record(folder / "planted.json");
  }
  const Cell& launched() const {
    for (const Cell& cell : record.cells) {
      if (cell.variant == "launched") return cell;
    }
    FAIL("no such cell: " << outcome.err);
    std::abort();
  }
  std::string first_fault() const { return launched().faults.empty() ? "none" : launched().faults.front().text; }
};

std::size_t scratch_folders() {
  std::size_t count = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/tmp")) {
    count += entry.path().filename().string().rfind("antcrew-scratch-", 0) == 0 ? 1 : 0;
  }
  return count;
}

}  // namespace

TEST_CASE("a launched cell is measured like any other, but for what is spent in other processes") {
  const std::size_t folders = scratch_folders();
  const Planted well("launched");
  const Cell& cell = well.launched();
  CAPTURE(well.outcome.err);
  CHECK(well.first_fault() == "none");
  CHECK(cell.crew == "Launched");
  REQUIRE(cell.trials.size() == 4);
  for (const Trial& trial : cell.trials) {
    CHECK(trial.wall_s > 0.002);
    CHECK(trial.agreed);
    CHECK_FALSE(trial.cpu_s());
    CHECK_FALSE(trial.others_cpu_s);
    CHECK_FALSE(trial.peak_bytes);
  }
  // The baseline beside it is not.
  CHECK(well.record.cells.front().trials.front().cpu_s());
  for (const auto& metered : cell.metered) CHECK(metered.withheld == "");
  CHECK(scratch_folders() <= folders);
}

TEST_CASE("a dimension that only the launcher has use for, with a value that has commas in it") {
  const Planted well("launched", "env HOSTS=@(hosts)", {"--dimension", "hosts='quay:2,weir:1',quay:3"});
  CAPTURE(well.outcome.err);
  std::vector<std::string> hosts;
  for (const Point& point : well.record.points) hosts.push_back(point.word("hosts"));
  CHECK(hosts == std::vector<std::string>{"quay:2,weir:1", "quay:3"});
  CHECK(well.first_fault() == "none");
  // One that nobody knows stays a mistake, and so does a quote that is not closed.
  CHECK(contains(Planted("launched", "env A=1", {"--dimension", "hosts=quay:3"}).outcome.err, "no dimension 'hosts'"));
  CHECK(contains(Planted("launched", "env A=@(hosts)", {"--dimension", "hosts='quay:2,weir"}).outcome.err,
                 "a quote that is not closed"));
}

TEST_CASE("a launched cell that goes wrong says how, and the others go on") {
  CHECK(contains(Planted("launched-throw").first_fault(), "no rank 17"));
  CHECK(contains(Planted("launched-crash").first_fault(), "signal 11 (Seg"));
  CHECK(contains(Planted("launched-exit").first_fault(), "exit code 9"));
  const Planted wrong("launched-wrong");
  CHECK_FALSE(wrong.launched().trials.front().agreed);
  const Planted stuck("launched-stuck", "env", {"--call-limit", "1"});
  CHECK(contains(stuck.first_fault(), "1.00 s"));
  CHECK(stuck.record.cells.front().trials.size() > 0);
}

TEST_CASE("a launcher that cannot be begun, ends at once, or begins something else, says so") {
  CHECK(contains(Planted("launched", "no-such-launcher -n @(workers)").first_fault(), "no-such-launcher"));
  CHECK(contains(Planted("launched", "false").first_fault(), "exit code 1"));
  // What cannot be called at all is found before anything is measured.
  for (const auto& [launcher, why] :
       {std::pair("env @(depth)", "no value for @(depth)"), std::pair("env 'x", "not closed")}) {
    const Planted refused("launched", launcher);
    CHECK(refused.outcome.exit == 2);
    CHECK(contains(refused.outcome.err, why));
    CHECK(refused.record.cells.empty());
  }
  // A program that does not come to study_main, but ends well.
  CHECK(contains(Planted("launched", "true").first_fault(), "came to study_main"));
}
