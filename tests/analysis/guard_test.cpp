// Guards, tried with what must not pass.
#include <doctest/doctest.h>

#include <fstream>
#include <regex>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/finding_ids.hpp"
#include "antcrew/analysis/guard.hpp"
#include "antcrew/analysis/worth.hpp"
#include "antcrew/base/error.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

// A run of a baseline of 2 s and of variants, each with its time; every round a little off, every run its own.
struct Run {
  explicit Run(const std::map<std::string, double>& times, int number = 1) {
    std::vector<Cell> cells{cell("baseline", 2)};
    for (const auto& [name, time] : times) cells.push_back(cell(name, time));
    record = test::record_of(std::move(cells));
    record.run = "000000000000000" + std::to_string(number);
    record.created = "2026-03-0" + std::to_string(number) + "T03:04:05Z";
  }
  static Cell cell(const std::string& name, double time) {
    std::vector<double> trials;
    const bool baseline = name == "baseline";
    for (int round = 0; round < 11; ++round) trials.push_back(time * (1 + 0.004 * ((round * (baseline ? 3 : 7)) % 5)));
    return test::cell_with(name, baseline ? 1 : 2, trials);
  }
  Run& fault(const std::string& name, Fault::Kind kind) {
    for (Cell& cell : record.cells) {
      if (cell.variant != name) continue;
      cell.faults.push_back({kind, 1, "seen", {}});
      if (kind == Fault::Kind::wrong_answer) {
        for (Trial& trial : cell.trials) trial.agreed = false;
      } else {
        cell.trials.clear();  // as after a crash in the first round
      }
    }
    return *this;
  }
  const Analysed* study() {
    analysed = analyse(record);
    return &analysed;
  }
  Record record;
  Analysed analysed;
};

// From a to b, each oldest first.
struct Pair {
  std::vector<Run> before, after;
  Comparison compared() {
    old.clear();
    now.clear();
    for (Run& run : before) old.push_back(run.study());
    for (Run& run : after) now.push_back(run.study());
    return compare(old, now);
  }
  std::vector<Check> checks(Requirements required = {}) {
    const Comparison found = compared();
    required.not_worse = true;
    return guard(now, required, &found);
  }
  std::vector<const Analysed*> old, now;
};

Outcome worst(const std::vector<Check>& checks) {
  return any(checks, Outcome::failed)        ? Outcome::failed
         : any(checks, Outcome::cannot_tell) ? Outcome::cannot_tell
                                             : Outcome::passed;
}

Outcome outcome(Run& run, const Requirements& required) {
  const auto checks = guard({run.study()}, required, nullptr);
  REQUIRE(checks.size() == 1);
  return checks.front().outcome;
}

std::string refusal(const std::function<void()>& call) {
  try {
    call();
  } catch (const Error& error) {
    return error.what();
  }
  return "not refused";
}

}  // namespace

TEST_CASE("requirements: met, not met, and what cannot be told with what would settle it") {
  Run run({{"v0", 1}, {"v1", 1.1}});
  Requirements required;
  required.speedup = 1.9;
  CHECK(outcome(run, required) == Outcome::passed);
  required.speedup = 2.5;
  CHECK(outcome(run, required) == Outcome::failed);
  required.speedup = run.study()->cells[1].speedup->median * 1.002;
  required.variant = "v0";
  CHECK(outcome(run, required) == Outcome::cannot_tell);
  Requirements hold;
  hold.all_hold = true;
  CHECK(outcome(run, hold) == Outcome::passed);
  Requirements memory;
  memory.memory_bytes = 1;
  CHECK(outcome(run, memory) == Outcome::cannot_tell);
  Requirements finding;
  finding.no_finding = {"lock-wait"};
  CHECK(outcome(run, finding) == Outcome::cannot_tell);  // nothing was called with a log
}

TEST_CASE("nothing in scope is no pass") {
  Run run({{"split evenly", 1}, {"by tasks", 1.1}});
  Requirements required;
  required.all_hold = true;
  required.variant = "nosuch";
  CHECK(refusal([&] { guard({run.study()}, required, nullptr); }).find("no variant 'nosuch' was tried in this run") !=
        std::string::npos);
  required.variant = "split evnely";
  CHECK(refusal([&] { guard({run.study()}, required, nullptr); }).find("did you mean 'split evenly'?") !=
        std::string::npos);
  required.variant = "";
  Run baseline_alone({});
  CHECK(refusal([&] { guard({baseline_alone.study()}, required, nullptr); }).find("no variant was tried in this run") !=
        std::string::npos);
  Run empty({});
  empty.record.cells.clear();
  empty.record.points.clear();
  CHECK(refusal([&] { guard({empty.study()}, required, nullptr); }).find("no variant was tried") != std::string::npos);
  CHECK(refusal([&] { guard({run.study()}, {}, nullptr); }).find("nothing is required") != std::string::npos);
  Requirements finding;
  finding.no_finding = {"lock-wiat"};
  CHECK(refusal([&] { guard({run.study()}, finding, nullptr); }).find("did you mean 'lock-wait'?") !=
        std::string::npos);
}

TEST_CASE("a fault of the newest run decides before any figure; guards do not read figures that are not there") {
  Pair pair;
  for (int k = 1; k <= 4; ++k) pair.before.emplace_back(std::map<std::string, double>{{"v", 1}}, k);
  for (int k = 5; k <= 9; ++k) pair.after.emplace_back(std::map<std::string, double>{{"v", 1}}, k);
  CHECK(worst(pair.checks()) == Outcome::passed);
  for (const Fault::Kind kind : {Fault::Kind::wrong_answer, Fault::Kind::crashed, Fault::Kind::out_of_memory}) {
    Pair faulty = pair;
    faulty.after.back().fault("v", kind);
    const Comparison found = faulty.compared();
    REQUIRE(found.cells.size() == 1);
    CHECK(found.cells.front().change == Change::worse);
    CHECK_FALSE(found.cells.front().ratio);
    CHECK(worst(faulty.checks()) == Outcome::failed);
    CHECK(faulty.compared().cells.front().why.find("it is \"") != std::string::npos);
    // Of an older one of the runs it counts, too.
    Pair once = pair;
    once.after[2].fault("v", kind);
    CHECK(once.compared().cells.front().change == Change::worse);
    CHECK(once.compared().cells.front().why.find("one of its runs is") != std::string::npos);
    CHECK(worst(once.checks()) == Outcome::failed);
    // As it was before: no change.
    Pair ever = faulty;
    ever.before.back().fault("v", kind);
    CHECK(ever.compared().cells.front().change == Change::same);
    // Long ago on both sides: the newest figures are compared, and a loss among them is seen.
    Pair long_ago = once;
    long_ago.before[1].fault("v", kind);
    CHECK(long_ago.compared().cells.front().ratio);
    CHECK(worst(long_ago.checks()) == Outcome::passed);
    long_ago.after.back() = Run({{"v", 1.9}}, 9);
    long_ago.after[3] = Run({{"v", 1.9}}, 8);
    long_ago.after[1] = Run({{"v", 1.9}}, 6);
    long_ago.after[0] = Run({{"v", 1.9}}, 5);
    CHECK(worst(long_ago.checks()) == Outcome::failed);
    // Mended.
    Pair mended = pair;
    mended.before.back().fault("v", kind);
    CHECK(mended.compared().cells.front().change == Change::better);
  }
}

TEST_CASE("requirements hold for every run that is named") {
  std::vector<Run> runs;
  for (int k = 1; k <= 3; ++k) runs.emplace_back(std::map<std::string, double>{{"v", k == 2 ? 1.9 : 1}}, k);
  std::vector<const Analysed*> all;
  for (Run& run : runs) all.push_back(run.study());
  Requirements required;
  required.speedup = 1.8;
  const auto checks = guard(all, required, nullptr);
  REQUIRE(checks.size() == 3);
  CHECK(checks[0].outcome == Outcome::passed);
  CHECK(checks[1].outcome == Outcome::failed);
  CHECK(checks[1].in == all[1]);
  CHECK(checks[2].outcome == Outcome::passed);
  runs[0].fault("v", Fault::Kind::wrong_answer);
  all[0] = runs[0].study();
  Requirements hold;
  hold.all_hold = true;
  CHECK(worst(guard(all, hold, nullptr)) == Outcome::failed);
}

TEST_CASE("a cell that only the old side has fails, unless it is allowed by name") {
  const std::map<std::string, double> eight{{"a", 1}, {"b", 1}, {"c", 1}, {"d", 1},
                                            {"e", 1}, {"f", 1}, {"g", 1}, {"h", 1}};
  Pair pair;
  pair.before.emplace_back(eight, 1);
  pair.after.emplace_back(std::map<std::string, double>{{"a", 1}}, 2);
  const auto checks = pair.checks();
  CHECK(std::count_if(checks.begin(), checks.end(),
                      [](const Check& check) { return check.outcome == Outcome::failed; }) == 7);
  Requirements allowed;
  allowed.allow_missing = {"b", "c", "d", "e", "f", "g (ThreadCrew)"};
  const auto but_one = pair.checks(allowed);
  CHECK(std::count_if(but_one.begin(), but_one.end(),
                      [](const Check& check) { return check.outcome == Outcome::failed; }) == 1);
  allowed.allow_missing.push_back("h");
  CHECK(worst(pair.checks(allowed)) == Outcome::passed);
  // Fewer sizes; then none that both have.
  Pair sizes;
  sizes.before.emplace_back(std::map<std::string, double>{{"a", 1}}, 1);
  sizes.after.emplace_back(std::map<std::string, double>{{"a", 1}}, 2);
  sizes.after.back().record.points = {Point{2000}};
  CHECK(worst(sizes.checks()) == Outcome::failed);
  allowed.allow_missing = {"a"};
  CHECK(worst(sizes.checks(allowed)) != Outcome::failed);
  // Another variant's loss is not this one's.
  Requirements one;
  one.variant = "a";
  CHECK(worst(pair.checks(one)) == Outcome::passed);
}

TEST_CASE("out of memory is no pass of a limit on memory") {
  Run run({{"v", 1}, {"w", 1}});
  for (Cell& cell : run.record.cells) {
    for (Trial& trial : cell.trials) trial.peak_bytes = 1'000'000;
  }
  Requirements memory;
  memory.memory_bytes = 2e6;
  CHECK(outcome(run, memory) == Outcome::passed);
  run.fault("w", Fault::Kind::out_of_memory);
  CHECK(outcome(run, memory) == Outcome::failed);
}

TEST_CASE("the same run twice says nothing") {
  Run run({{"v", 1}});
  const Analysed* study = run.study();
  CHECK(refusal([&] { compare({study}, {study}); }).find("this run is named twice") != std::string::npos);
  Run read_again = run;
  CHECK(refusal([&] { compare({study}, {read_again.study()}); }).find("named twice") != std::string::npos);
  CHECK(refusal([&] { compare({}, {study}); }).find("one side has no run") != std::string::npos);
}

TEST_CASE("two studies are not compared; another machine, compiler or flags are told, and no guard goes by them") {
  Pair pair;
  pair.before.emplace_back(std::map<std::string, double>{{"v", 1}, {"w", 1}}, 1);
  pair.after.emplace_back(std::map<std::string, double>{{"v", 1.9}, {"w", 1}}, 2);
  CHECK(worst(pair.checks()) == Outcome::failed);
  for (int what = 0; what < 3; ++what) {
    Pair other = pair;
    Record& now = other.after.back().record;
    if (what == 0) now.title = "Another one";
    if (what == 1) now.agreement = "within 1 %";
    if (what == 2) now.plan.weak_scaling = true;
    for (const ComparedCell& cell : other.compared().cells) CHECK(cell.change == Change::cannot_tell);
    CHECK(worst(other.checks()) == Outcome::cannot_tell);
  }
  for (int what = 0; what < 5; ++what) {
    Pair other = pair;
    Record& now = other.after.back().record;
    if (what == 0) now.machine.processor = "another";
    if (what == 1) now.build.compiler = "clang";
    if (what == 2) now.build.flags = "-O1";
    if (what == 3) now.build.optimised = false;
    if (what == 4) now.machine.limits.affinity_processors = 2;
    const Comparison found = other.compared();
    REQUIRE(found.differs_by(Differing::Weight::elsewhere) != nullptr);
    CHECK(found.any(Change::worse));
    CHECK(worst(other.checks()) == Outcome::cannot_tell);
    now.cells[1].faults.push_back({Fault::Kind::wrong_answer, 1, "seen", {}});
    for (Trial& trial : now.cells[1].trials) trial.agreed = false;
    CHECK(worst(other.checks()) == Outcome::failed);  // whatever it was measured with
  }
}

TEST_CASE("a machine that was not idle voids no loss beyond what noise can make") {
  const auto with_loss = [](double time) {
    Pair pair;
    pair.before.emplace_back(std::map<std::string, double>{{"v", 1}}, 1);
    pair.after.emplace_back(std::map<std::string, double>{{"v", time}}, 2);
    BlockFacts busy;
    busy.wall_s = 10;
    busy.other_cpu_s = 5;
    pair.after.back().record.blocks.push_back(busy);
    return pair;
  };
  CHECK(worst(with_loss(1).checks()) == Outcome::passed);
  const auto small = with_loss(1.3).checks();
  CHECK(worst(small) == Outcome::cannot_tell);
  CHECK(small.front().settles.find("kept 0.5 processors busy") != std::string::npos);
  CHECK(worst(with_loss(2.4).checks()) == Outcome::failed);
  CHECK(worst(with_loss(4).checks()) == Outcome::failed);
  // Likewise of a speedup that is required.
  Pair pair = with_loss(1.3);
  Requirements required;
  required.speedup = 2;
  CHECK(outcome(pair.after.back(), required) == Outcome::cannot_tell);
  required.speedup = 8;
  CHECK(outcome(pair.after.back(), required) == Outcome::failed);
}

TEST_CASE("guard and comparison agree about the same two runs") {
  for (const double time : {0.5, 0.8, 0.93, 0.97, 1.0, 1.03, 1.06, 1.08, 1.12, 1.3, 2.0}) {
    Pair pair;
    pair.before.emplace_back(std::map<std::string, double>{{"v", 1}}, 1);
    pair.after.emplace_back(std::map<std::string, double>{{"v", time}}, 2);
    const Change change = pair.compared().cells.front().change;
    CAPTURE(time);
    CHECK(worst(pair.checks()) == (change == Change::worse ? Outcome::failed : Outcome::passed));
  }
}

TEST_CASE("guard and rule look at the headline's leader, not at times of other stages") {
  // While exploring, "few" was a little faster; its fresh rounds met a machine 1.2 times as slow.
  Run run({{"few", 0.9}, {"many", 1}});
  const auto few = static_cast<std::size_t>(
      std::find_if(run.record.cells.begin(), run.record.cells.end(), [](const Cell& c) { return c.variant == "few"; }) -
      run.record.cells.begin());
  for (Cell& cell : run.record.cells) {
    if (cell.variant == "many") continue;
    const std::vector<Trial> explored = cell.trials;
    for (Trial trial : explored) {
      trial.confirming = 1;
      trial.round += 100;
      trial.wall_s *= 1.2;
      trial.generation += 100;
      cell.trials.push_back(trial);
    }
  }
  ConfirmationFacts facts;
  facts.leader = few;
  facts.rounds = 9;
  run.record.confirmations.push_back(facts);
  const Analysed* study = run.study();
  REQUIRE(study->conclusion.leader != nullptr);
  REQUIRE(study->conclusion.leader->cell->variant == "few");
  Requirements required;
  required.speedup = 1.5;
  CHECK(guard({study}, required, nullptr).front().of->cell->variant == "few");
  REQUIRE(worth_of(*study));
  CHECK(worth_of(*study)->of->cell->variant == "few");
}

TEST_CASE("bounds are never rounded across 1") {
  CHECK(in_words(SpeedupInterval{0.9, 0.95, 0.9991}) == "0.95 (0.90 to 0.999)");
  CHECK(in_words(SpeedupInterval{1.0000001, 1.2, 1.5}) == "1.20 (1.0000001 to 1.50)");
  CHECK(in_words(SpeedupInterval{0.9, 1, 1.1}) == "1.00 (0.90 to 1.10)");
}

TEST_CASE("a thousand cells before and after are compared at once") {
  std::map<std::string, double> times;
  for (int k = 0; k < 1000; ++k) times["v" + std::to_string(k)] = 1;
  Pair pair;
  pair.before.emplace_back(times, 1);
  pair.after.emplace_back(times, 2);
  CHECK(pair.compared().cells.size() == 1000);
}

TEST_CASE("one list of ids: what the analysis makes, what documents say") {
  const std::string source = ANTCREW_SOURCE;
  const auto text_of = [](const std::string& path) {
    std::ifstream file(path);
    REQUIRE_MESSAGE(file, path);
    return std::string(std::istreambuf_iterator<char>(file), {});
  };
  std::set<std::string> made;
  const std::regex makes(R"re((?:add\((?:findings, |remarks, )?|\.id = |: |return |\? )"([a-z]+(?:-[a-z]+)*)")re");
  for (const char* name : {"findings.cpp", "study_remarks.cpp", "internal/remarks.cpp", "internal/losses.cpp"}) {
    const std::string text = text_of(source + "/antcrew/analysis/" + name);
    for (auto it = std::sregex_iterator(text.begin(), text.end(), makes); it != std::sregex_iterator(); ++it) {
      const std::string id = (*it)[1];
      if (id.find('-') != std::string::npos) made.insert(id);
    }
  }
  CHECK(made.size() > 30);
  for (const std::string& id : made) CHECK_MESSAGE(is_finding_id(id), id);
  const std::string document = text_of(source + "/docs/explain.md");
  for (const std::string& id : finding_ids()) CHECK_MESSAGE(document.find("`" + id + "`") != std::string::npos, id);
  CHECK_FALSE(is_finding_id("lock-wiat"));
}
