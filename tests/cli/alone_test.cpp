// What is true only where no other study runs on the machine: no other test runs beside this one.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/wait.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "antcrew/record/record_file.hpp"
#include "cli/background.hpp"
#include "support/refused.hpp"

using antcrew::load_record;
using nlohmann::json;
using test::check_refused;
using test::contains;
using test::gone_within;
using test::Outcome;
using test::run_command;
using test::small_run;
using test::start;
using test::study;
using test::TemporaryFolder;
using test::tides;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;

}  // namespace

TEST_CASE("a second study on the machine is told at once, and stands in the record") {
  const TemporaryFolder folder;
  const pid_t first = start(study(folder / "first.json", "500"), folder / "out");
  while (!std::filesystem::exists(folder / "first.json.rounds"))
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  const Outcome second =
      run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--save", folder / "second.json"});
  kill(first, SIGKILL);
  waitpid(first, nullptr, 0);
  CHECK(gone_within(folder / "first.json", std::chrono::seconds(3)));
  CHECK(contains(second.err, "another study is being measured on this machine"));
  CHECK(load_record(folder / "second.json").another_study);
  CHECK(contains(second.out, "another study ran at the same time"));
  const Outcome alone =
      run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--save", folder / "alone.json"});
  CHECK_FALSE(contains(alone.err, "another study"));
}

TEST_CASE("a run that was stopped and let go on drops the trial that this fell into, and counts it") {
  const TemporaryFolder folder;
  const std::string record = folder / "paused.json";
  const pid_t run = start({tides, "--sizes", "3M", "--rounds", "2", "--workers", "1", "--variant", "split evenly",
                           "--save", record, "--quiet"},
                          folder / "out");
  while (!std::filesystem::exists(record + ".rounds")) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  std::this_thread::sleep_for(std::chrono::milliseconds(1500));
  kill(run, SIGSTOP);
  std::this_thread::sleep_for(std::chrono::milliseconds(2500));
  kill(run, SIGCONT);
  waitpid(run, nullptr, 0);
  CHECK(load_record(record).dropped_paused >= 1);
  CHECK(contains(run_command({antcrew_path, "show", record, "--all"}).out, "the run was stopped during"));
}

TEST_CASE("a study program prints, saves, and show prints the same again") {
  const TemporaryFolder folder;
  const std::string record = folder / "tides.json";
  const Outcome ran = run_command(small_run(record));
  CHECK(ran.exit == 0);
  CHECK(ran.err.empty());  // progress stays silent in a pipe
  CHECK(contains(ran.out, "speedup "));
  CHECK(contains(ran.out, "Record: " + record));
  const Outcome shown = run_command({antcrew_path, "show", record});
  CHECK(shown.exit == 0);
  CHECK(ran.out.substr(0, shown.out.size()) == shown.out);

  const json derived = json::parse(run_command({antcrew_path, "show", record, "--as", "json"}).out);
  CHECK(derived.at("cells").size() == 2 * (1 + 3 * 2));
  for (const json& cell : derived.at("cells")) {
    CHECK((cell.at("verdict") == "holds" || cell.at("verdict") == "too noisy to call"));
    CHECK(cell.at("time_s").at("low").get<double>() <= cell.at("time_s").at("high").get<double>());
  }
  const json raw = json::parse(test::read_file(record));
  CHECK(raw.at("format") == "antcrew-record");
  CHECK(raw.at("build").at("flags") != "unknown");
  CHECK(contains(raw.at("build").at("compiler").get<std::string>(), "."));

  const Outcome to_file = run_command({antcrew_path, "show", record, "--as", "json", "--to", folder / "out.json"});
  CHECK(to_file.out.empty());
  CHECK(json::parse(test::read_file(folder / "out.json")) == derived);

  const Outcome kept = run_command(small_run(record));
  check_refused(kept, 2, "--save " + record + ": this file exists; choose another name, or add --overwrite");
  CHECK(json::parse(test::read_file(record)) == raw);
}
