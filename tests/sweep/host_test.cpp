// Whole studies of real commands: what they measure, what they find out, and that nothing is left of them.
#include <doctest/doctest.h>

#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/taken_processors.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/sweep/run_sweep.hpp"
#include "antcrew/sweep/study_file.hpp"
#include "support/command.hpp"
#include "sweep/station.hpp"

using namespace antcrew;
using namespace antcrew::layers;
namespace fs = std::filesystem;

namespace {

using namespace test::station;

bool alive(const std::string& marker) {
  const test::Outcome ps = test::run_command({"/bin/sh", "-c", "cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' '"});
  return test::contains(ps.out, marker);
}

}  // namespace

TEST_CASE("waiting work in the background: two and four at once, known speedups") {
  const Station place;
  const Record record = place.run(shells("sleep 0.4; echo 5", R"(
worker=0
while [ $worker -lt $ANTCREW_WORKERS ]; do
  sleep $(awk -v p=$ANTCREW_WORKERS 'BEGIN { print 0.4 / p }') &
  worker=$((worker + 1))
done
wait
echo 5)"),
                                  quick(6, {1, 2, 4}));
  const Analysed study = analyse(record);
  for (const int workers : {1, 2, 4}) {
    const CellFigures& f = figures(study, "it", workers);
    REQUIRE(f.speedup);
    CAPTURE(f.speedup->median);
    CHECK(f.speedup->median <= 1.02 * workers);
    CHECK(f.speedup->median >= 0.6 * workers);
    CHECK(f.verdict == Verdict::holds);
  }
  const Cell& four = cell(record, "it", 4);
  for (const Trial& trial : four.trials) CHECK(trial.most_processes.value_or(0) >= 5);
  CHECK(record.commands);
  CHECK(record.complete);
  CHECK(four.command == std::vector<std::string>{"/bin/sh", "-c", four.command.back()});
  CHECK(four.cold_s.size() == 1);
}

TEST_CASE("every trial has a folder of its own, empty when it begins; before_all runs once, before_each each time") {
  const Station place;
  place.script("all.sh", "echo all >> \"$ANTCREW_STUDY/log\"");
  place.script("each.sh", "echo each >> \"$ANTCREW_STUDY/log\"; echo 5 > \"$ANTCREW_FOLDER/input\"");
  const Found found = verdict_of(place,
                                 "test -e \"$ANTCREW_FOLDER/mine\" && exit 9; touch \"$ANTCREW_FOLDER/mine\"; "
                                 "cat \"$ANTCREW_FOLDER/input\"",
                                 "before_all = [\"./all.sh\"]\nbefore_each = [[\"./each.sh\"]]\n"
                                 "after_each = [\"test\", \"-e\", \"@(folder)/input\"]",
                                 "cat \"$ANTCREW_FOLDER/input\"", 3);
  CHECK(found.evidence == "");
  const std::string log = test::read_file(place.folder / "log");
  CHECK(log.find("all") == 0);
  CHECK(log.rfind("all") == 0);
  CHECK(test::lines_in(log) >= 1 + 2 + 3 + 4);  // two runs of the reference, three rounds of each, one cold
  CHECK_FALSE(fs::exists(place.folder / "kept"));
}

TEST_CASE("the night list: what goes wrong is told as what it is, and nothing is left of it") {
  const Station place;
  const std::string short_limit = "[limits]\ncall_s = 0.5\nmemory = \"100Mi\"\noutput = \"1Mi\"\n";
  const auto check = [&](const std::string& shell, Verdict verdict, const std::string& said) {
    CAPTURE(shell);
    const Found found = verdict_of(place, shell, short_limit);
    CAPTURE(found.evidence);
    CHECK(found.verdict == verdict);
    CHECK_MESSAGE(test::contains(found.evidence, said), said);
    return found;
  };
  check("sleep 77.25 & echo 5", Verdict::left_work, "left 1 process behind (sleep)");
  CHECK_FALSE(alive("sleep 77.25"));
  check("sh -c 'k=0; while [ $k -lt 120000 ]; do k=$((k + 1)); done' & echo 5", Verdict::left_work,
        "which went on for");
  check("setsid sleep 77.5 & echo 5", Verdict::left_work, "behind (s");
  CHECK_FALSE(alive("sleep 77.5"));
  check("yes", Verdict::crashed, "wrote more than 1 MiB");
  check("head -c 3000000 /dev/zero > \"$ANTCREW_FOLDER/large\"; sleep 5", Verdict::timed_out, "no end after");
  check("trap '' TERM; while true; do sleep 0.1; done", Verdict::timed_out, "after it was asked to end");
  check("sleep 77.75", Verdict::timed_out, "no end after 500 ms");
  CHECK_FALSE(alive("sleep 77.75"));
  check("head -c 300000000 /dev/zero | tail -n 1 | wc -c", Verdict::out_of_memory, "limit is 100 MiB");
  check("echo said something >&2; exit 3", Verdict::crashed, "exit code 3; the last that it said: \"said something\"");
  check("kill -SEGV $$", Verdict::crashed, "signal 11");
  check("kill -KILL $PPID; sleep 77.85; echo 5", Verdict::crashed, "was ended from outside");
  CHECK_FALSE(alive("sleep 77.85"));
  check("(setsid sh -c 'sleep 77.3 & sleep 77.4' &); echo 5", Verdict::left_work, "behind");
  CHECK_FALSE(alive("sleep 77.3"));
  check("kill -KILL $$", Verdict::crashed, "signal 9");
  check("true", Verdict::wrong_answer, "it printed nothing");
  const Found wrong = check("echo 6", Verdict::wrong_answer, "line 1: expected \"5\", got \"6\"");
  const std::string kept = cell(wrong.record, "it", 2).folder;
  CHECK(test::read_file(kept + "/output") == "6\n");
}

TEST_CASE("a program that is changed between rounds is told as that") {
  const Station place;
  place.script("it.sh", "echo 5");
  const std::string text =
      "[baseline]\nshell = \"sleep 0.01; echo 5\"\n[[variant]]\nname = \"it\"\ncommand = [\"./it.sh\"]\n";
  RunHooks hooks;
  int rounds = 0;
  hooks.on_round = [&](const Record&) {
    if (++rounds == 2) place.script("it.sh", "echo 5 # other");
    if (rounds == 1) place.script("it.sh", "echo 5");  // written again as it was
  };
  const Record record = place.run(text, quick(5, {1}), hooks);
  const Analysed study = analyse(record);
  CHECK(figures(study, "it", 1).verdict == Verdict::changed_program);
  CHECK(test::contains(figures(study, "it", 1).evidence, "./it.sh is not what it was"));
  CHECK(cell(record, "it", 1).trials.size() == 2);
  CHECK(std::any_of(record.files.begin(), record.files.end(),
                    [](const FileFacts& file) { return file.name == "./it.sh" && !file.hash.empty(); }));
}

TEST_CASE("a baseline that answers otherwise each time, fails or says nothing is found before anything else") {
  const Station place;
  const auto fault = [&](const std::string& baseline) {
    const Record record = place.run(shells(baseline, "echo 5"), quick(2));
    REQUIRE(record.cells.front().faults.size() == 1);
    CHECK(record.cells[1].trials.empty());
    return record.cells.front().faults.front().text;
  };
  CHECK(test::contains(fault("date +%N"), "two runs of the baseline"));
  const Record unsteady = place.run(shells("date +%N", "echo 5"), quick(2));
  const Analysed told = analyse(unsteady);
  CHECK(told.cells[0].verdict == Verdict::wrong_answer);
  CHECK(test::contains(told.cells[0].evidence, "line 1: expected"));
  CHECK(test::contains(told.cells[0].evidence, "Leave out what changes"));
  CHECK(test::contains(fault("exit 4"), "exit code 4"));
  CHECK(test::contains(fault("true"), "printed nothing"));
  const Record hangs = place.run(shells("sleep 77.9", "echo 5", "[limits]\ncall_s = 0.3\n"),
                                 quick(2));  // an hour where nothing is asked
  CHECK(hangs.cells.front().faults.front().kind == Fault::Kind::timed_out);
  CHECK_FALSE(alive("sleep 77.9"));
  CHECK(test::contains(fault("echo 5; sleep 0.1 & exit 1"), "exit code 1"));
}

TEST_CASE("answers in files, in any order of lines, by a command of one's own") {
  const Station place;
  const auto check = [&](const std::string& rule, const std::string& baseline, const std::string& variant) {
    return verdict_of(place, variant, "[answer]\n" + rule, baseline).verdict;
  };
  const std::string file = "file = \"heights\"\n";
  CHECK(check(file, "echo a > $ANTCREW_FOLDER/heights", "echo a > $ANTCREW_FOLDER/heights; echo noise") !=
        Verdict::wrong_answer);
  CHECK(check(file, "echo a > $ANTCREW_FOLDER/heights", "echo a") == Verdict::wrong_answer);
  CHECK(check("compare = \"lines\"\n", "printf 'a\\nb\\n'", "printf 'b\\na\\n'") != Verdict::wrong_answer);
  place.script("same.sh", "test $(wc -c < \"$1\") = $(wc -c < \"$2\")");
  CHECK(check("command = [\"./same.sh\"]\n", "echo a", "echo b") != Verdict::wrong_answer);
  CHECK(check("command = [\"./same.sh\"]\n", "echo a", "echo bb") == Verdict::wrong_answer);
  place.script("broken.sh", "echo cannot compare >&2; exit 7");
  const Found broken = verdict_of(place, "echo a", "[answer]\ncommand = [\"./broken.sh\"]\n", "echo a");
  CHECK(test::contains(broken.record.cells.front().faults.front().text, "exit code 7"));
  CHECK(check("from = \"none\"\n", "echo a", "echo b") != Verdict::wrong_answer);
}

TEST_CASE("resources are those of the whole tree, also of what left it; phases, counters and its own time") {
  const Station place;
  place.script("burn.sh", "awk 'BEGIN { for (i = 0; i < 2000000; ++i) s += sin(i) }'");
  const Found found = verdict_of(place, R"(
(setsid ./burn.sh; touch $ANTCREW_FOLDER/done) &
while ! test -e $ANTCREW_FOLDER/done; do sleep 0.01; done
echo '{"phase": "merge", "s": 0.25, "worker": 1}' >> $ANTCREW_PHASES
echo '{"counter": "nodes", "add": 3}' >> $ANTCREW_PHASES
echo 5
echo took 12.5 ms >&2)",
                                 "reported = { pattern = 'took ([0-9.]+)', unit = \"ms\" }\n", "./burn.sh; echo 5", 3);
  const Cell& its = cell(found.record, "it", 2);
  const Cell& baseline = found.record.cells.front();
  REQUIRE(its.trials.size() == 3);
  REQUIRE(!baseline.trials.empty());
  const double base_cpu_s = baseline.trials.front().cpu_s().value();
  for (const Trial& trial : its.trials) {
    CHECK(trial.cpu_s().value() > 0.5 * base_cpu_s);
    CHECK_FALSE(trial.others_cpu_s);
    CHECK(trial.phases.at("merge").worker_s == 0.25);
    CHECK(trial.phases.at("merge").by_worker_s.at("1") == 0.25);
    CHECK(trial.counters.at("nodes") == 3);
    CHECK(trial.reported_s.value() == doctest::Approx(0.0125));
  }
  const Record again = record_from_json(to_json(found.record), "again");
  CHECK(again.cells.back() == found.record.cells.back());
}

TEST_CASE("words as values of a dimension, no sizes, an input to read") {
  const Station place;
  test::write_file(place.folder / "plain.txt", "5\n");
  test::write_file(place.folder / "fast.txt", "7\n");
  const Record record = place.run(R"toml(
dimensions = { method = ["plain", "fast"] }
input = "@(method).txt"
[baseline]
command = ["cat"]
[[variant]]
name = "it"
command = ["head", "-n", "@(workers)"]
)toml",
                                  quick(2, {1}));
  REQUIRE(record.points.size() == 2);
  CHECK(record.points[0].size == 0);
  CHECK(record.points[0].word("method") == "plain");
  CHECK(record.points[1].dimensions.at("method") == PointValue("fast"));
  for (const Cell& one : record.cells) CHECK(one.trials.size() == 2);
  const Record again = record_from_json(to_json(record), "again");
  CHECK(again.points == record.points);
}

TEST_CASE("a run that is stopped is gone on with; a variant that was mended is tried again by itself") {
  const Station place;
  place.script("it.sh", "echo 5");
  test::write_file(place.folder / "planted.toml", "here");
  const std::string text =
      "[baseline]\nshell = \"sleep 0.01; echo 5\"\n[[variant]]\nname = \"it\"\ncommand = [\"./it.sh\"]\n";
  RunHooks hooks;
  int visits = 0;
  hooks.on_visit = [&](const Progress&) { ++visits; };
  hooks.stop = [&] { return visits > 4; };
  const Record stopped = place.run(text, quick(4), hooks);
  CHECK_FALSE(stopped.complete);
  const Record whole = place.run(text, quick(4), {}, &stopped);
  CHECK(whole.complete);
  CHECK(cell(whole, "it", 1).trials.size() == 4);
  place.script("it.sh", "echo 5 # faster");
  CHECK_THROWS_WITH_AS(place.run(text, quick(4), {}, &whole), doctest::Contains("hash"), Error);
  Plan again = quick(4);
  again.again = "it";
  const Record mended = place.run(text, again, {}, &whole);
  CHECK(std::count_if(mended.cells.begin(), mended.cells.end(), [](const Cell& one) {
          return one.variant == "it" && one.attempt == 2 && one.trials.size() == 4;
        }) == 1);
}

TEST_CASE("an answer that is kept between trials is found out with another size") {
  const Station place;
  Plan plan = quick(3, {2});
  plan.sizes = {};
  const Record record = place.run("sizes = [10, 20]\n" + shells("sleep 0.02; echo $ANTCREW_SIZE", R"(
if ! test -e kept; then sleep 0.02; echo $ANTCREW_SIZE > kept; fi
cat kept)"),
                                  plan);
  const Analysed study = analyse(record);
  for (const CellFigures& f : study.cells) {
    if (f.cell->variant != "it") continue;
    const bool larger = record.points[f.cell->point].size == 20;
    CHECK(f.verdict == (larger ? Verdict::remembered : Verdict::wrong_answer));
  }
}

TEST_CASE("a launcher in front: resources are absent, there is no ledger, and both are said") {
  const Station place;
  Plan plan = quick(6, {1, 2});
  plan.meter = Metering::all;
  const Record record = place.run(R"toml(
[baseline]
shell = "sleep 0.02; echo 5"
[[variant]]
name = "ranks"
launcher = ["env", "RANKS=@(workers)"]
command = ["sh", "-c", "sleep 0.02; echo 5"]
)toml",
                                  plan);
  const Cell& two = cell(record, "ranks", 2);
  CHECK(test::contains(two.no_resources, "env"));
  CHECK(two.empty_s.size() == 3);
  for (const Trial& trial : two.trials) {
    CHECK_FALSE(trial.cpu_s());
    CHECK_FALSE(trial.faults_minor);
    CHECK_FALSE(trial.peak_bytes);
  }
  REQUIRE(two.metered.size() == 1);
  CHECK(test::contains(two.metered.front().withheld, "other machines"));
  CHECK_FALSE(record.cells.front().empty_s.empty());
  const Analysed study = analyse(record);
  CHECK(figures(study, "ranks", 2).verdict >= Verdict::too_noisy);  // it is as fast as the baseline
  CHECK(figures(study, "ranks", 2).speedup);
}

TEST_CASE("samples: workers that take turns at one lock, and those that wait") {
  const Station place;
  if (!fs::exists("/usr/bin/flock")) return;
  Plan plan = quick(3, {3});
  plan.meter = Metering::all;
  // Three workers burn one after the other under a lock of files; each alone would do.
  const std::string burning = "awk 'BEGIN { for (i = 0; i < 1500000; ++i) s += sin(i) }'";
  const Record record = place.run(shells("for k in 1 2 3; do " + burning + "; done; echo 5", R"(
worker=0
while [ $worker -lt $ANTCREW_WORKERS ]; do
  flock $ANTCREW_FOLDER/lock )" + burning + R"( &
  worker=$((worker + 1))
done
wait
echo 5)"),
                                  plan);
  const Cell& three = cell(record, "it", 3);
  REQUIRE(three.metered.size() == 3);
  for (const auto& sums : three.metered) {
    CHECK(sums.withheld == "");
    REQUIRE(sums.looks);
    CHECK(sums.looks->moments > 20);
    CHECK(sums.parts_s.sum() == doctest::Approx(sums.lane_seconds()).epsilon(0.02));
    CHECK(sums.cpu_tree_s > 0);
  }
  const Analysed study = analyse(record);
  const auto findings = findings_of(study, figures(study, "it", 3));
  // On a machine whose processors are taken away they may not even keep one busy.
  const double busy = figures(study, "it", 3).busy_processors.value_or(0);
  const bool room = free_processors(record) > busy + 0.4;  // else others had the second processor
  if (record.machine.usable_processors() >= 2 && busy > 0.65 && busy < 1.1 && room) {
    const bool told =
        std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.id == "one-at-a-time"; });
    CHECK(told);
  }
}
