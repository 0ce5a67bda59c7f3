// The built command and example, from outside.
#include <doctest/doctest.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "cli/background.hpp"
#include "support/command.hpp"
#include "support/refused.hpp"

using nlohmann::json;
using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::small_run;
using test::TemporaryFolder;
using test::tides;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;

}  // namespace

TEST_CASE("machine, for people and for programs") {
  const Outcome text = run_command({antcrew_path, "machine"});
  CHECK(text.exit == 0);
  CHECK(contains(text.out.substr(0, text.out.find('\n')), "usable processor"));
  const Outcome all = run_command({antcrew_path, "machine", "--as", "json"});
  const int usable = json::parse(all.out).at("usable_processors");
  CHECK(usable >= 1);
  const Outcome one = run_command({"taskset", "-c", "0", antcrew_path, "machine", "--as", "json"});
  CHECK(json::parse(one.out).at("usable_processors") == 1);
  CHECK(json::parse(one.out).at("online_processors").get<int>() >= usable);
}

TEST_CASE("without --save the record goes to a new file of its own") {
  const TemporaryFolder folder;
  for (int again = 0; again < 2; ++again) {
    CHECK(run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1"}, folder.path()).exit == 4);
  }
  std::size_t files = 0;
  for (const auto& entry : std::filesystem::directory_iterator(folder / "antcrew-records")) {
    files += entry.path().extension() == ".json" ? 1 : 0;
  }
  CHECK(files == 2);
}

TEST_CASE("demo finds the example and passes options on") {
  const TemporaryFolder folder;
  const Outcome demo =
      run_command({antcrew_path, "demo", "--sizes", "500", "--rounds", "6", "--budget", "2"}, folder.path());
  CHECK((demo.exit == 0 || demo.exit == 4));  // a disturbed machine may leave it open
  CHECK((demo.exit == 4 || contains(demo.out, "speedup ")));
  CHECK(contains(demo.out, "Record: antcrew-records/"));
}

TEST_CASE("help reads without an error, for the command and each part of it") {
  for (const auto& words : std::vector<std::vector<std::string>>{{antcrew_path, "--help"},
                                                                 {antcrew_path, "show", "--help"},
                                                                 {antcrew_path, "machine", "--help"},
                                                                 {tides, "--help"}}) {
    const Outcome help = run_command(words);
    CHECK(help.exit == 0);
    CHECK(contains(help.out, "Usage: "));
    CHECK(help.err.empty());
  }
  const Outcome list = run_command({tides, "--dry-run"});
  CHECK(contains(list.out, "split evenly (ThreadCrew)"));
}

TEST_CASE("bad options are refused in one line before anything runs or is written") {
  const TemporaryFolder folder;
  const std::string record = folder / "r.json";
  const std::vector<std::pair<std::vector<std::string>, std::string>> cases = {
      {{"--workers", "0"}, "--workers: 0 workers; a crew has 1 to 4096 workers"},
      {{"--workers", "-2"}, "--workers: '-2' is negative"},
      {{"--workers", "1e9"}, "a crew has 1 to 4096 workers"},
      {{"--workers", "1,1"}, "--workers: 1 is listed twice"},
      {{"--sizes", ""}, "--sizes"},
      {{"--sizes", "10q"}, "--sizes: '10q' has the unknown suffix 'q'"},
      {{"--sizes", "0"}, "--sizes: a size of 0"},
      {{"--rounds", "0"}, "0 rounds"},
      {{"--rounds", "many"}, "--rounds"},
      {{"--budget", "-1"}, "budget"},
      {{"--variant", "by magic"}, "no variant 'by magic'; choose from 'split evenly'"},
      {{"--study", "9"}, "no study '9'"},
      {{"--as", "song"}, "no form 'song'; choose from text, markdown"},
      {{"--frob"}, "--frob"},
      {{"surplus"}, "surplus"},
  };
  for (const auto& refused : cases) {
    const std::string& said = refused.second;
    std::vector<std::string> words = {tides, "--save", record};
    words.insert(words.end(), refused.first.begin(), refused.first.end());
    CAPTURE(said);
    check_refused(run_command(words), 2, said);
    CHECK_FALSE(std::filesystem::exists(record));
  }
  check_refused(run_command({tides, "--sizes", "10", "--save", folder.path()}), 2, "this is a directory");
  check_refused(run_command({antcrew_path, "polish"}), 2, "polish");
}

TEST_CASE("what is not known names its nearest, and no command at all is a question") {
  check_refused(run_command({tides, "--worker", "2"}), 2, "no option '--worker' here; did you mean '--workers'?");
  check_refused(run_command({tides, "--bugdet=5"}), 2, "did you mean '--budget'?");
  check_refused(run_command({tides, "--frobnicate"}), 2, "no option '--frobnicate' here; See tides --help");
  check_refused(run_command({antcrew_path, "shwo"}), 2, "did you mean 'show'?");
  check_refused(run_command({antcrew_path, "show", "a.json", "--detail", "x"}), 2, "did you mean '--details'?");
  const Outcome alone = run_command({antcrew_path});
  CHECK(alone.exit == 0);
  CHECK(contains(alone.out, "Usage: "));
  CHECK(contains(alone.out, "machine"));
}

TEST_CASE("answers in short, all that was seen of a variant, and no colours in a pipe") {
  const TemporaryFolder folder;
  const std::string record = folder / "tides.json";
  std::vector<std::string> words = small_run(record);
  words.push_back("--answers");
  const Outcome ran = run_command(words);
  CHECK(contains(ran.out, "Answers at size 3,000:"));
  CHECK(contains(ran.out, "3,000 values: "));
  CHECK(ran.out.find('\x1b') == std::string::npos);
  CHECK(contains(run_command({antcrew_path, "show", record, "--answers"}).out, "Answers at size 1,000:"));
  const Outcome details = run_command({antcrew_path, "show", record, "--details", "split evenly"});
  CHECK(details.exit == 0);
  CHECK(contains(details.out, "CPU time "));
  CHECK(contains(details.out, "tried with another input, of size 1,000"));  // the next smaller one of the study
  CHECK(contains(details.out, "tried with another input, of size 875"));
  check_refused(run_command({antcrew_path, "show", record, "--details", "split"}), 2,
                "the record has no variant 'split'; choose from 'baseline', 'split evenly'");
}

namespace {

Outcome planted(const std::string& plant, std::vector<std::string> more, const std::string& folder) {
  std::vector<std::string> words = {
      "/usr/bin/env", "ANTCREW_PLANT=" + plant, ANTCREW_PLANTED, "--rounds", "2", "--workers", "1", "--no-confirm"};
  words.insert(words.end(), more.begin(), more.end());
  return run_command(words, folder);
}

}  // namespace

TEST_CASE("mistakes in describing a study are one line and exit 2, not an abort") {
  const TemporaryFolder folder;
  const std::pair<const char*, const char*> cases[] = {
      {"sizes", "study 'Sums of levels': no sizes; give some with study.sizes"},
      {"twice", "two variants are called 'right' with the crew Workers"},
      {"probe", "the probe 'of nothing' refers to a variant of another study"},
      {"tolerance", "a tolerance of -1; give zero or more"},
  };
  for (const auto& [plant, said] : cases) check_refused(planted(plant, {}, folder.path()), 2, said);
}

TEST_CASE("a tolerance that any answer passes is refused with exit 2") {
  const TemporaryFolder folder;
  const Outcome outcome = planted("small", {}, folder.path());
  CHECK(outcome.exit == 2);
  CHECK(contains(test::first_paragraph(outcome.out), "compare with within(5e-19)"));
}

TEST_CASE("what a variant prints is kept aside, told, and let through on demand") {
  const TemporaryFolder folder;
  const Outcome quiet = planted("loud", {"--save", folder / "quiet.json"}, folder.path());
  CHECK_FALSE(contains(quiet.err, "level by level"));
  CHECK(contains(quiet.out, "Warning: \"loud\": output is included in the measured time, 15 B per call"));
  CHECK(contains(run_command({antcrew_path, "show", folder / "quiet.json", "--details", "loud"}).out,
                 "    printed:\n      level by level\n"));
  const Outcome loud = planted("loud", {"--pass-output", "--save", folder / "loud.json"}, folder.path());
  CHECK(contains(loud.err, "level by level"));
  CHECK_FALSE(contains(loud.out, "level by level"));
}

TEST_CASE("an exception in a thread by hand, and a title that would clear the screen") {
  const TemporaryFolder folder;
  CHECK(contains(planted("thread", {"--all"}, folder.path()).out,
                 "a thread threw std::out_of_range: no gauge 17, which nobody caught"));
  const Outcome title = planted("title", {}, folder.path());
  CHECK(contains(title.out, "Sums [2J\xEF\xBF\xBD of levels"));
  CHECK(title.out.find('\x1b') == std::string::npos);
  CHECK(contains(title.out, "antcrew-records/sums-2j-of-levels-"));
}

TEST_CASE("records that cannot be shown are refused in one line") {
  const TemporaryFolder folder;
  const std::string good = folder / "good.json";
  REQUIRE(run_command({tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--save", good}).exit == 4);
  const std::string text = test::read_file(good);
  test::write_file(folder / "short.json", text.substr(0, text.size() / 2));
  test::write_file(folder / "text.json", "tide tables");
  test::write_file(folder / "other.json", "{\"a\": 1}");
  std::string newer = text;
  newer.replace(newer.find("\"version\": 3"), 12, "\"version\": 7");
  test::write_file(folder / "newer.json", newer);
  const auto show = [&](const std::string& name) { return run_command({antcrew_path, "show", folder / name}); };
  check_refused(show("short.json"), 2, "short.json: cut short after");
  check_refused(show("text.json"), 2, "text.json: not JSON");
  check_refused(show("other.json"), 2, "other.json: JSON, but not an Ant Crew record");
  check_refused(show("newer.json"), 2, "newer.json: a record of version 7");
  check_refused(show("missing.json"), 2, "missing.json: cannot be read");
  check_refused(show(""), 2, "a directory, not a record");
  check_refused(run_command({antcrew_path, "show", good, "--as", "song"}), 2, "no form 'song'");
  check_refused(run_command({antcrew_path, "show", good, "--to", folder / "no/such/folder"}), 3, "cannot be written");
}

TEST_CASE("explain tells where the time went, for people and for programs, and refuses what it cannot read") {
  const TemporaryFolder folder;
  const std::string record = folder / "gauges.json";
  const std::string gauges = std::string(ANTCREW_EXAMPLES) + "/gauges";
  const Outcome ran = run_command({gauges, "--sizes", "40", "--rounds", "6", "--workers", "1,2", "--budget", "0",
                                   "--no-confirm", "--save", record});
  CHECK(ran.exit != 2);
  const Outcome told = run_command({antcrew_path, "explain", record});
  CAPTURE(told.out);
  CAPTURE(told.err);
  CHECK((told.exit == 0 || told.exit == 4));
  CHECK(contains(told.out, "2 workers × "));
  CHECK(contains(told.out, "running"));
  const json found = json::parse(run_command({antcrew_path, "explain", record, "--as", "json"}).out);
  CHECK(!found.at("findings").empty());
  CHECK(found.at("ledgers").size() >= 3 * 4);  // the baseline and three variants
  check_refused(run_command({antcrew_path, "explain", folder / "none.json"}), 2, "none.json");
  check_refused(run_command({antcrew_path, "explain", record, "--as", "page"}), 2, "text, json");
  check_refused(run_command({tides, "--instrument", "some"}), 2, "few, all, none");
  const Outcome none = run_command({tides, "--sizes", "1k", "--rounds", "2", "--workers", "2", "--instrument", "none",
                                    "--save", folder / "none-metered.json"});
  CHECK(
      contains(run_command({antcrew_path, "explain", folder / "none-metered.json"}).out, "it has no instrumented run"));
}

TEST_CASE("closed standard files and a full disk: no command writes elsewhere, and none says that it is done") {
  const TemporaryFolder folder;
  for (const char* how : {"<&-", ">&-", "2>&-", "<&- >&- 2>&-"}) {
    CAPTURE(std::string(how));
    const Outcome out = run_command(
        {"/bin/sh", "-c", antcrew_path + " machine --as json " + how + "; echo ended with $?"}, folder.path());
    CHECK(contains(out.out, "ended with 0"));
    CHECK(std::filesystem::is_empty(folder.path()));
  }
  for (const char* command : {"machine", "help", "--help", "--version"}) {
    CAPTURE(std::string(command));
    const Outcome full = run_command(
        {"/bin/sh", "-c", antcrew_path + " " + command + " > /dev/full; echo ended with $?"}, folder.path());
    CHECK(contains(full.out, "ended with 3"));
    CHECK(contains(full.err, "written"));
  }
}
