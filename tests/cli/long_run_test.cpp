// Runs that are interrupted, killed, gone on with; from outside.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "cli/background.hpp"
#include "support/command.hpp"

using antcrew::load_record;
using nlohmann::json;
using test::contains;
using test::gone_within;
using test::Outcome;
using test::processes_of;
using test::run_command;
using test::start;
using test::study;
using test::TemporaryFolder;
using test::tides;

namespace {

std::size_t rounds_in(const std::string& record) {
  return load_record(record).cells.at(1).trials.size();
}

std::size_t files_in(const std::string& folder) {
  return static_cast<std::size_t>(
      std::distance(std::filesystem::directory_iterator(folder), std::filesystem::directory_iterator()));
}

}  // namespace

TEST_CASE("killed at any moment: the visits before are kept, nothing is left behind, and it can be gone on with") {
  const TemporaryFolder folder;
  const std::string record = folder / "killed.json";
  for (const int after_ms : {150, 700, 1300}) {
    CAPTURE(after_ms);
    std::filesystem::remove(record);
    const pid_t run = start(study(record, "6"), folder / "out");
    std::this_thread::sleep_for(std::chrono::milliseconds(after_ms));
    kill(run, SIGKILL);
    waitpid(run, nullptr, 0);
    CHECK(gone_within(record, std::chrono::seconds(3)));
    if (!std::filesystem::exists(record) || std::filesystem::is_empty(record)) continue;  // before it began
    const std::size_t before = load_record(record).cells.at(1).trials.size();
    CHECK(files_in(folder.path()) == 3);  // the frame and its lines, and what was printed
    const Outcome resumed = run_command({tides, "--rounds", "6", "--resume", record, "--quiet"});
    CHECK((resumed.exit == 0 || resumed.exit == 4));  // on a busy machine all may be too noisy to call
    CHECK(resumed.err.empty());
    CHECK(rounds_in(record) >= 6);  // and as many to confirm, for some
    CHECK(before <= 12);
    CHECK(json::parse(test::read_file(record)).at("complete") == true);
    CHECK(files_in(folder.path()) == 2);
  }
}

TEST_CASE("Ctrl-C ends cleanly with the table so far and says how to go on") {
  const TemporaryFolder folder;
  const std::string record = folder / "stopped.json";
  const pid_t run = start(study(record, "500"), folder / "out");
  // Until some visits are kept: of the baseline, and of the variants at both worker counts.
  const auto kept = [&] {
    return std::filesystem::exists(record + ".rounds") ? test::lines_in(test::read_file(record + ".rounds")) : 0;
  };
  const auto end = std::chrono::steady_clock::now() + std::chrono::seconds(60);
  while (kept() < 12 && std::chrono::steady_clock::now() < end)
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  kill(run, SIGINT);
  int status = 0;
  waitpid(run, &status, 0);
  CHECK(WIFEXITED(status));
  CHECK(WEXITSTATUS(status) == 3);
  CHECK(gone_within(record, std::chrono::seconds(3)));
  const std::string out = test::read_file(folder / "out");
  CHECK(contains(out, "split evenly"));
  CHECK(contains(out, "the run was ended early"));
  CHECK(contains(out, "Ended early; resume with: --resume " + record));
  const json saved = json::parse(test::read_file(record));
  CHECK(saved.at("complete") == false);
  CHECK(rounds_in(record) >= 1);
}

TEST_CASE("going on is refused when the study changed, and --only needs a record") {
  const TemporaryFolder folder;
  const std::string record = folder / "r.json";
  REQUIRE(run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--save", record}).exit == 4);
  const std::string before = test::read_file(record);
  const Outcome other = run_command({tides, "--sizes", "200", "--rounds", "2", "--workers", "1", "--resume", record});
  CHECK(other.exit == 2);
  CHECK(contains(other.err, "tides: grid: the record has 'size 100', this study 'size 200'; begin a new record"));
  CHECK(test::read_file(record) == before);
  CHECK(run_command({tides, "--only", "split evenly"}).exit == 2);
  const Outcome again = run_command({tides, "--rounds", "1", "--resume", record, "--only", "split evenly"});
  CHECK(again.exit == 4);  // one round is too few
  CHECK(contains(again.out, "split evenly, attempt 2"));
  CHECK(contains(run_command({ANTCREW_COMMAND, "show", record, "--all"}).out, "Step by step"));
}

TEST_CASE("a quick answer comes in about ten seconds, also for work that would take minutes") {
  const TemporaryFolder folder;
  const auto start_time = std::chrono::steady_clock::now();
  const Outcome quick = run_command({tides, "--quick", "--workers", "2", "--save", folder / "q.json"});
  const auto took = std::chrono::steady_clock::now() - start_time;
  CHECK((quick.exit == 0 || quick.exit == 4));  // a disturbed machine may leave it open
  CHECK(took < std::chrono::seconds(25));
  CHECK(contains(quick.out, "size 100,000"));
}

TEST_CASE("looking for races in right code finds nothing; without stands works; wrong values are refused") {
  const TemporaryFolder folder;
  const Outcome races = run_command({tides, "--find-races", "--sizes", "500", "--rounds", "2"});
  CHECK(races.exit == 0);
  CHECK(contains(races.out, "No race came to light in 18 trials with random delays, of 3 variants"));
  CHECK(run_command({tides, "--without-cell-processes", "--sizes", "500", "--rounds", "1", "--workers", "1", "--save",
                     folder / "n.json"})
            .exit == 4);
  for (const auto& refused : std::vector<std::pair<std::vector<std::string>, std::string>>{
           {{"--resume", folder / "a.json", "--save", folder / "b.json"}, "--resume already names the record"},
           {{"--pin", "sideways"}, "no pinning 'sideways'; choose from off, apart, near"},
           {{"--dimension", "distinct"}, "has no '='"},
           {{"--dimension", "distinct=1k"}, "no dimension 'distinct'; it has sizes only"},
           {{"--precision", "0"}, "half-width"},
           {{"--call-timeout", "-1"}, "a limit of"},
           {{"--memory-limit", "lots"}, "--memory-limit: 'lots' is not a number"},
           {{"--resume", folder / "missing.json"}, "missing.json: cannot be read"}}) {
    std::vector<std::string> words = {tides, "--sizes", "100"};
    words.insert(words.end(), refused.first.begin(), refused.first.end());
    const Outcome outcome = run_command(words, folder.path());
    CAPTURE(outcome.err);
    CHECK(outcome.exit == 2);
    CHECK(contains(outcome.err, refused.second));
    CHECK(test::lines_in(outcome.err) == 1);
  }
}

TEST_CASE("too few rounds exit with 4, and say how much time would settle it") {
  const TemporaryFolder folder;
  const Outcome few =
      run_command({tides, "--sizes", "300k", "--budget", "1", "--workers", "1,2", "--save", folder / "f.json"});
  CHECK(few.exit == 4);
  CHECK(contains(few.out, "Too few rounds to call anything at size 300,000: about "));
  CHECK(contains(few.out, "(--budget "));
  CHECK_FALSE(contains(few.err, "budget"));
  CHECK(contains(few.out, "too few"));
}

TEST_CASE("the table is there even when the record cannot be saved at the end, and what was measured stays") {
  const TemporaryFolder folder;
  std::filesystem::create_directory(folder / "in");
  const std::string record = folder / "in/r.json";
  const pid_t run = start(study(record, "3"), folder / "out");
  while (!std::filesystem::exists(record + ".rounds")) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  // A folder takes the place of the file that is to be renamed over: even root cannot write it then.
  std::filesystem::create_directory(record + ".new");
  int status = 0;
  waitpid(run, &status, 0);
  CHECK(WEXITSTATUS(status) == 3);
  const std::string out = test::read_file(folder / "out");
  CHECK(contains(out, "split evenly"));
  CHECK(contains(out, "the record cannot be written"));
  CHECK(load_record(record).cells.at(1).trials.size() == 3);
}

TEST_CASE("runs of one study that begin in the same second each have a record of their own") {
  const TemporaryFolder folder;
  const Outcome all = run_command(
      {"/bin/sh", "-c", "for k in 1 2 3 4; do \"$0\" --sizes 100 --rounds 1 --workers 1 --quiet & done; wait", tides},
      folder.path());
  CAPTURE(all.err);
  std::set<std::string> runs;
  for (const auto& file : std::filesystem::directory_iterator(folder / "antcrew-records")) {
    CAPTURE(file.path().string());
    const auto record = load_record(file.path().string());
    CHECK(record.complete);
    runs.insert(record.run);
  }
  CHECK(runs.size() == 4);
}

TEST_CASE("copies of the baseline are timed side by side, or not where that is not wanted") {
  const TemporaryFolder folder;
  const auto crowds_with = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words = {tides, "--sizes", "5k", "--rounds", "6", "--workers", "2", "--budget", "0"};
    words.insert(words.end(), {"--quiet", "--overwrite", "--save", folder / "crowds.json"});
    words.insert(words.end(), more.begin(), more.end());
    CHECK(run_command(words).exit != 2);
    return load_record(folder / "crowds.json").crowds.size();
  };
  CHECK(crowds_with({}) > 0);
  CHECK(crowds_with({"--no-crowd"}) == 0);
}
