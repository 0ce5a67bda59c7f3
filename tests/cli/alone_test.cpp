// What is true only where no other study runs on the machine: no other test runs beside this one.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/wait.h>

#include "antcrew/record/record_file.hpp"
#include "cli/background.hpp"

using antcrew::load_record;
using test::contains;
using test::gone_within;
using test::Outcome;
using test::run_command;
using test::start;
using test::study;
using test::TemporaryFolder;
using test::tides;

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
  CHECK(contains(second.out, "another study was measured on this machine at the same time"));
  const Outcome alone =
      run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--save", folder / "alone.json"});
  CHECK_FALSE(contains(alone.err, "another study"));
}
