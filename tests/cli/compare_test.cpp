// `antcrew compare`, `guard` and `worth`, as their users meet them.
#include <doctest/doctest.h>

#include <filesystem>

#include "support/command.hpp"
#include "support/refused.hpp"

using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;

// Work that waits, so that its speedup is known: `slower` workers less than asked for.
void measure(const TemporaryFolder& folder, const std::string& name, const std::string& wait) {
  test::write_file(folder / (name + ".toml"), R"toml(format = 1
title = "Waiting"
[baseline]
shell = "sleep 0.1; echo 5"
[[variant]]
name = "at once"
workers = [2]
shell = "sleep )toml" + wait + R"toml(; echo 5"
)toml");
  const Outcome out = run_command({antcrew_path, "sweep", folder / (name + ".toml"), "--rounds", "11", "--no-confirm",
                                   "--instrument", "none", "--quiet", "--save", folder / (name + ".json")});
  CAPTURE(out.err);
  REQUIRE(out.exit <= 4);
}

}  // namespace

TEST_CASE("a change is told with both figures, a guard fails for it, and both have their exit codes") {
  const TemporaryFolder folder;
  measure(folder, "before", "0.05");
  measure(folder, "again", "0.05");
  measure(folder, "after", "0.09");
  const std::string before = folder / "before.json";
  const std::string after = folder / "after.json";
  const Outcome worse = run_command({antcrew_path, "compare", before, after});
  CAPTURE(worse.out);
  CHECK(worse.exit == 1);
  // "in time" where other programs widen the speedups so much that they cannot tell.
  const bool plainly_worse = contains(worse.out, "1 of 1 cell is worse: \"at once\" (command) with 2 workers");
  CHECK((plainly_worse || contains(worse.out, "1 of 1 cell is worse in time: \"at once\"")));
  CHECK(contains(worse.out, "program: "));
  const Outcome alike = run_command({antcrew_path, "compare", before, folder / "again.json", "--as", "json"});
  CHECK(alike.exit != 1);
  CHECK(contains(alike.out, "\"least_told\": 0.1"));
  const int better = run_command({antcrew_path, "compare", after, before}).exit;
  CHECK((better == 0 || (better == 4 && !plainly_worse)));
  const Outcome history = run_command({antcrew_path, "compare", before + "," + folder / "again.json", after, "--as",
                                       "figure:history", "--to", folder / "h.svg"});
  CAPTURE(history.err);
  CHECK(history.exit == 0);
  CHECK(contains(test::read_file(folder / "h.svg"), "<svg"));
  check_refused(run_command({antcrew_path, "compare", before, after, "--as", "figure:history", "--variant", "none"}), 2,
                "name another with --variant");
  check_refused(run_command({antcrew_path, "compare", before, after, "--as", "page"}), 2,
                "choose from text, json, figure");
  check_refused(run_command({antcrew_path, "compare", before, after, "--variant", "x"}), 2, "only a history");

  const Outcome failed = run_command(
      {antcrew_path, "guard", after, "--not-worse-than", before, "--by", "10", "--junit", folder / "guard.xml"});
  CAPTURE(failed.out);
  // On a machine that is not idle a guard says that it cannot tell.
  const bool cannot_tell = failed.exit == 4 && contains(failed.out, "Cannot tell: 1 of 1 requirement.");
  CHECK((failed.exit == 1 || (cannot_tell && (!plainly_worse || contains(failed.out, "not idle")))));
  CHECK(contains(test::read_file(folder / "guard.xml"), "<testsuite name=\"Waiting\" tests=\"1\""));
  test::write_file(folder / "guard.toml", "format = 1\nspeedup = 1.5\nall_hold = true\n");
  CHECK(run_command({antcrew_path, "guard", before, "--requirements", folder / "guard.toml"}).exit == 0);
  check_refused(run_command({antcrew_path, "guard", before}), 2, "nothing is required");
  check_refused(run_command({antcrew_path, "guard", before, "--by", "5"}), 2, "no record to compare with");
  check_refused(run_command({antcrew_path, "guard", before, "--speedup", "0"}), 2, "zero or less");
  check_refused(run_command({antcrew_path, "guard", before, "--all-hold", "--variant", "at onec"}), 2,
                "did you mean 'at once'?");
  check_refused(run_command({antcrew_path, "guard", before, "--no-finding", "lock-wiat"}), 2,
                "did you mean 'lock-wait'?");
  check_refused(run_command({antcrew_path, "guard", before, "--not-worse-than", before}), 2, "this run is named twice");
  check_refused(run_command({antcrew_path, "compare", before, before}), 2, "this run is named twice");
  check_refused(run_command({antcrew_path, "guard", before, "--allow-missing", "x"}), 2, "no record to compare with");
  // Renamed: what was measured before is not there any more.
  std::string renamed = test::read_file(folder / "again.json");
  for (std::size_t at = 0; (at = renamed.find("\"at once\"", at)) != std::string::npos;)
    renamed.replace(at, 9, "\"as soon\"");
  test::write_file(folder / "renamed.json", renamed);
  const Outcome gone = run_command({antcrew_path, "guard", folder / "renamed.json", "--not-worse-than", before});
  CHECK(gone.exit == 1);
  CHECK(contains(gone.out, "failed: still measured"));
  CHECK(contains(gone.out, "--allow-missing 'at once'"));
  CHECK(run_command(
            {antcrew_path, "guard", folder / "renamed.json", "--not-worse-than", before, "--allow-missing", "at once"})
            .exit != 1);
  test::write_file(folder / "guard.toml", "format = 1\nspeed = 1.5\n");
  check_refused(run_command({antcrew_path, "guard", before, "--requirements", folder / "guard.toml"}), 2,
                "did you mean 'speedup'?");
  check_refused(run_command({antcrew_path, "compare", before, folder / "none.json"}), 2, "none.json");
  check_refused(run_command({antcrew_path, "worth", before}), 2, "this study has no sizes");
}

TEST_CASE("worth answers from which size on, and writes a rule") {
  const TemporaryFolder folder;
  run_command({std::string(ANTCREW_EXAMPLES) + "/tides", "--sizes", "1k,20k", "--rounds", "11", "--workers", "1,2",
               "--budget", "0", "--no-confirm", "--instrument", "none", "--quiet", "--save", folder / "tides.json"});
  const Outcome out = run_command({antcrew_path, "worth", folder / "tides.json", "--to", folder / "tides.rule.json"});
  CAPTURE(out.out);
  CAPTURE(out.err);
  check_refused(run_command({antcrew_path, "worth", folder / "tides.json", "--variant", "none"}), 2,
                "no variant 'none' holds");
  CHECK((out.exit == 0 || out.exit == 1 || out.exit == 2));  // 2: nothing holds, on a machine with much to do
  if (out.exit == 2) return;
  CHECK(contains(test::read_file(folder / "tides.rule.json"), "\"format\": \"antcrew-rule\""));
  CHECK(contains(out.out, "At the sizes tried"));
}

TEST_CASE("the run to compare with stands beside the file that names it, wherever the guard is called from") {
  const TemporaryFolder folder;
  const TemporaryFolder elsewhere;
  measure(folder, "before", "0.05");
  measure(folder, "after", "0.2");
  const std::string rules = folder / "guard.toml";
  test::write_file(rules, "format = 1\nnot_worse_than = \"before.json\"\n");
  const auto guard = [&] {
    return run_command({antcrew_path, "guard", folder / "after.json", "--requirements", rules}, elsewhere.path());
  };
  const Outcome beside = guard();
  CAPTURE(beside.out);
  // On a machine that is not idle it may not be told; compared it is.
  const auto compared = [](const Outcome& outcome) { return outcome.exit == 1 || outcome.exit == 4; };
  CHECK(compared(beside));
  CHECK(beside.err.empty());
  // Beside it comes first: one of the same name in the current folder is the same run, and refused.
  std::filesystem::copy(folder / "after.json", elsewhere / "before.json");
  CHECK(compared(guard()));
  // Where there is none, the current folder's, and that is said.
  std::filesystem::rename(folder / "before.json", elsewhere / "gone.json");
  std::filesystem::remove(elsewhere / "before.json");
  std::filesystem::rename(elsewhere / "gone.json", elsewhere / "before.json");
  const Outcome here = guard();
  CHECK(compared(here));
  CHECK(contains(here.err, "there is no before.json beside it; taking the one in the current folder"));
  std::filesystem::remove(elsewhere / "before.json");
  CHECK(guard().exit == 2);
}
