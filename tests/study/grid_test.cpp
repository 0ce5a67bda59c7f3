// More of the grid, going on with a record, and the other ways to run a study.
#include <doctest/doctest.h>
#include <sched.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <numeric>
#include <thread>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/report/table.hpp"
#include "antcrew/study/find_races.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace std::chrono_literals;

namespace {

Plan small(int rounds = 2) {
  Plan plan;
  plan.workers = {1, 2};
  plan.rounds = rounds;
  plan.crowd = false;
  plan.confirm = false;
  plan.seed = 3;
  return plan;
}

// Living children of a process, by what the kernel tells.
int children_of(int process) {
  const std::string list =
      test::read_file("/proc/" + std::to_string(process) + "/task/" + std::to_string(process) + "/children");
  return static_cast<int>(std::count(list.begin(), list.end(), ' '));
}

std::size_t same_size(std::size_t n) {
  return n;
}

// Waits n milliseconds in all.
std::size_t wait_for(std::size_t n) {
  std::this_thread::sleep_for(std::chrono::milliseconds(n));
  return n;
}

int processors_allowed() {
  cpu_set_t set;
  return sched_getaffinity(0, sizeof set, &set) == 0 ? CPU_COUNT(&set) : 0;
}

}  // namespace

TEST_CASE("further dimensions: every point, in the input and in the record") {
  Study tags(
      "Tags", [](const Point& at) { return at.size * 1000 + at["distinct"] * 10 + at["gap"]; },
      [](std::size_t in) { return in; });
  tags.sizes({1, 2});
  tags.dimension("distinct", {3, 4});
  tags.dimension("gap", {5});
  tags.variant<Workers>("same", [](std::size_t in, Workers) { return in; });
  const Record record = run(tags, small(1));
  REQUIRE(record.points.size() == 4);
  CHECK(record.points[0].dimensions == std::map<std::string, PointValue>{{"distinct", 3}, {"gap", 5}});
  CHECK(record.points[3].size == 2);
  CHECK(record.points[3]["distinct"] == 4);
  Plan other = small(1);
  other.dimensions["distinct"] = {7};
  CHECK(run(tags, other).points.size() == 2);
  other.dimensions["depth"] = {7};
  CHECK_THROWS_WITH_AS(run(tags, other), "study 'Tags': no dimension 'depth'; choose from distinct, gap", Error);
  CHECK_THROWS_AS(record.points[0]["depth"], Error);
}

TEST_CASE("a probe is priced, never compared and never ranked") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({12});
  const auto whole = waits.variant<Workers>("whole", [](std::size_t n, Workers) { return wait_for(n); });
  waits.probe<Workers>("no merge", whole, [](std::size_t n, Workers) { return wait_for(n / 3) + 1; });
  Plan plan = small(7);
  plan.workers = {1};
  const Record record = run(waits, plan);
  const Analysed study = analyse(record);
  const CellFigures& probe = study.cells[2];
  CHECK(probe.cell->kind == Cell::Kind::probe);
  CHECK(probe.verdict >= Verdict::too_few_rounds);
  CHECK_FALSE(probe.speedup.has_value());
  CHECK(probe.part_s->median == doctest::Approx(0.008).epsilon(0.2));
  REQUIRE(study.best[0].cell != nullptr);  // null on a machine so busy that nothing holds
  CHECK(study.best[0].cell->cell->variant == "whole");
  CHECK(test::contains(table_text(study, 0), "probe: part takes "));
}

TEST_CASE("a ladder compares each step with the one before") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({36});
  const auto first = waits.variant<Workers>("first try", [](std::size_t n, Workers) { return wait_for(n / 2), n; });
  const auto second = waits.variant<Workers>("second try", [](std::size_t n, Workers) { return wait_for(n / 6), n; });
  waits.ladder({first, second});
  Plan plan = small(6);
  plan.workers = {1};
  const Record record = run(waits, plan);
  const Analysed study = analyse(record);
  REQUIRE(study.ladders.size() == 1);
  REQUIRE(study.ladders[0].size() == 2);
  CHECK(study.ladders[0][0].cell->speedup->median == doctest::Approx(2).epsilon(0.1));
  CHECK(study.ladders[0][1].cell->speedup->median == doctest::Approx(6).epsilon(0.15));
  CHECK(study.ladders[0][1].over_previous->median == doctest::Approx(3).epsilon(0.15));
  CHECK(study.ladders[0][1].paired);
  CHECK(test::contains(table_text(study, 0), "Step by step"));
}

TEST_CASE("weak scaling: each worker count has a size of its own") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({5});
  waits.weak_scaling([](std::size_t n, int workers) { return n * static_cast<std::size_t>(workers); });
  waits.variant<ThreadCrew>("split", [](std::size_t n, auto& crew) {
    crew.each(n, Split::chunks(1), [](std::size_t) { std::this_thread::sleep_for(1ms); });
    return n;
  });
  Plan plan = small(6);
  plan.workers = {1, 4};
  const Record record = run(waits, plan);
  CHECK(record.plan.weak_scaling);
  REQUIRE(record.points.size() == 2);
  CHECK(record.points[1].size == 20);
  CHECK(record.points[1].base_size == 5);
  CHECK(record.points[1].grown_for == 4);
  REQUIRE(record.cells.size() == 4);
  CHECK(record.cells[3].workers == 4);
  CHECK(analyse(record).cells[3].speedup->median == doctest::Approx(4).epsilon(0.3));  // T_s(4·W) / T_4(4·W)
}

TEST_CASE("pinning is a dimension in which the baseline takes part") {
  Study where(
      "Where", same_size, [](std::size_t) { return processors_allowed(); }, [](int, int) { return true; });
  where.sizes({1});
  where.pinning({Pin::off, Pin::apart});
  where.variant<ThreadCrew>("allowed", [](std::size_t, auto&) { return processors_allowed(); });
  const Record record = run(where, small(1));
  REQUIRE(record.points.size() == 2);
  CHECK(record.points[1].pin == Pin::apart);
  CHECK(record.cells[1].asked_processors.empty());
  CHECK(record.cells[4].asked_processors.size() == 1);
  CHECK(record.cells[5].asked_processors == record.cells[5].granted_processors);
}

TEST_CASE("crowd control is measured along with the rounds, in a small share of their time, alone and together") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({3});
  waits.variant<Workers>("same", [](std::size_t n, Workers) { return wait_for(n); });
  Plan plan = small(150);
  plan.crowd = true;
  plan.workers = {1, 2};
  const Record record = run(waits, plan);
  const int processors = record.machine.usable_processors();
  if (processors < 2) return;
  REQUIRE(record.crowds.size() == 2);
  CHECK(record.crowds[0].copies == 1);
  CHECK(record.crowds[0].time_s.size() >= 2);
  CHECK(record.crowds[0].time_s.size() == record.crowds[1].time_s.size());
  REQUIRE(analyse(record).crowds.size() == 1);
  CHECK(analyse(record).crowds[0].slowdown.median == doctest::Approx(1).epsilon(0.2));  // waiting crowds nobody
}

TEST_CASE("every visit has a process of its own, and none of them is left when the next begins") {
  Study pids("Processes", same_size, [](std::size_t) { return 1; });
  pids.sizes({1});
  pids.variant<Workers>("a", [](std::size_t, Workers) { return children_of(getppid()); });
  Plan plan = small(7);
  plan.workers = {1};
  const Record record = run(pids, plan);
  for (const Cell& cell : record.cells) {
    CHECK(cell.trials.back().stand == 7);
    CHECK(cell.cold_s.size() == 7);
    CHECK(cell.startup_s.size() == 7);
    for (const Trial& trial : cell.trials) CHECK(trial.generation == trial.round);
  }
}

TEST_CASE("in-place work: a fresh copy for every call, the answer read from it") {
  struct Grid {
    std::vector<double> depth;
    int steps = 0;
  };
  const auto make = [](std::size_t n) { return Grid{std::vector<double>(n, 1.0), 0}; };
  const auto step = [](Grid& grid) {
    for (double& d : grid.depth) d *= 2;
    ++grid.steps;
  };
  InPlaceStudy silt("Silt", make, step, &Grid::depth, within(1e-12));
  silt.sizes({100});
  silt.variant<ThreadCrew>("split", [](Grid& grid, auto& crew) {
    crew.each(grid.depth.size(), [&](std::size_t i) { grid.depth[i] *= 2; });
  });
  silt.variant<Workers>("twice", [step](Grid& grid, Workers) { step(grid), step(grid); });
  const Record record = run(silt, small());
  const Analysed study = analyse(record);
  CHECK(study.cells[0].cell->trials[0].calls > 1);  // many calls in a trial, each on its own copy
  CHECK(study.cells[2].verdict >= Verdict::too_few_rounds);
  CHECK(study.cells[3].verdict == Verdict::wrong_answer);
  CHECK(test::contains(study.cells[3].evidence, "expected 2, got 4"));
}

TEST_CASE("phases and counters of a trial, from every worker and from a forked process") {
  Study waits("Waits", same_size, [](std::size_t n) {
    const Phase phase("wait");
    return wait_for(n);
  });
  waits.sizes({4});
  waits.variant<ThreadCrew>("split", [](std::size_t n, auto& crew) {
    crew.each(n, Split::chunks(1), [](std::size_t) {
      const Phase phase("wait");
      Work work("waits");
      work.add(1);
      std::this_thread::sleep_for(1ms);
    });
    const Phase merge("merge");
    if (const pid_t child = fork(); child == 0) {
      { const Phase far("elsewhere"); }
      _exit(0);
    } else {
      int status = 0;
      waitpid(child, &status, 0);
    }
    return n;
  });
  const Record record = run(waits, small());
  const Analysed study = analyse(record);
  CHECK(study.cells[0].phases.at("wait").worker_s == doctest::Approx(0.004).epsilon(0.3));
  const CellFigures& split = study.cells[2];
  CHECK(split.phases.at("wait").count == 4);
  CHECK(split.phases.at("wait").worker_s >= 0.004);
  CHECK(split.phases.at("merge").count == 1);
  CHECK(split.phases.at("elsewhere").count == 1);
  CHECK(split.counters.at("waits") == 4);
  { const Phase outside("nothing happens"); }
}

TEST_CASE("a run stopped half-way keeps every visit, and goes on where it was") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({2, 3});
  waits.variant<Workers>("same", [](std::size_t n, Workers) { return wait_for(n); });
  int visits = 0;
  RunHooks hooks;
  hooks.on_visit = [&](const Progress&) { ++visits; };
  hooks.stop = [&] { return visits > 13; };  // inside the fifth round of the largest size
  const Record begun = run(waits, small(6), hooks);
  CHECK_FALSE(begun.complete);
  const auto rounds_of = [](const Record& record, std::size_t cell) { return record.cells[cell].trials.size(); };
  // The stop is asked for in the fourteenth visit: one that takes long enough to be looked at is not kept.
  const std::size_t kept = rounds_of(begun, 3) + rounds_of(begun, 4) + rounds_of(begun, 5);
  CHECK((kept == 13 || kept == 14));
  const Record ended = run_on(waits, begun, small(6));
  CHECK(ended.complete);
  for (const std::size_t cell : {1u, 2u, 4u, 5u}) CHECK(rounds_of(ended, cell) == 6);
  for (int round = 1; round <= 6; ++round)
    CHECK(ended.cells[1].trials[static_cast<std::size_t>(round - 1)].round == round);
  CHECK(ended.cells[4].trials[0] == begun.cells[4].trials[0]);
  CHECK(ended.created == begun.created);
}

TEST_CASE("a study that changed is not gone on with, and what changed is named") {
  const auto study_of = [](const std::string& title, const std::string& variant, std::size_t size) {
    auto study = std::make_unique<Study<std::size_t (*)(std::size_t), std::size_t (*)(std::size_t), Exactly>>(
        title, same_size, same_size, exactly());
    study->sizes({size});
    study->variant<Workers>(variant, [](std::size_t n, Workers) { return n; });
    return study;
  };
  const Record begun = run(*study_of("Levels", "a", 5), small());
  const auto refusal = [&](const StudyBase& study, const Record& record, const Plan& plan = small(3)) -> std::string {
    try {
      run_on(study, record, plan);
    } catch (const Error& error) {
      CHECK(error.id() == "study.changed");
      return error.what();
    }
    return "gone on with";
  };
  CHECK(refusal(*study_of("Levels", "a", 5), begun) == "gone on with");
  CHECK(test::contains(refusal(*study_of("Depths", "a", 5), begun),
                       "title: the record has 'Levels', this study 'Depths'"));
  CHECK(test::contains(refusal(*study_of("Levels", "b", 5), begun), "variants: the record has"));
  CHECK(test::contains(refusal(*study_of("Levels", "a", 6), begun), "grid: the record has 'size 5'"));
  Plan more = small(3);
  more.workers = {1, 4};
  CHECK(test::contains(refusal(*study_of("Levels", "a", 5), begun, more), "worker counts: the record has '1,2'"));
  Record elsewhere = begun;
  elsewhere.machine.processor = "another";
  CHECK(test::contains(refusal(*study_of("Levels", "a", 5), elsewhere), "machine: the record has 'another'"));
  Record rebuilt = begun;
  rebuilt.build.program_hash = "0";
  CHECK(test::contains(refusal(*study_of("Levels", "a", 5), rebuilt), "it was built again"));
}

TEST_CASE("one variant edited and tried again: the old attempt is a remembered step") {
  const auto study_with = [](std::size_t divisor) {
    auto study = std::make_unique<Study<std::size_t (*)(std::size_t), std::size_t (*)(std::size_t), Exactly>>(
        "Waits", same_size, wait_for, exactly());
    study->sizes({36});
    study->variant<Workers>("edited", [divisor](std::size_t n, Workers) { return wait_for(n / divisor), n; });
    study->variant<Workers>("other", [](std::size_t n, Workers) { return wait_for(n); });
    return study;
  };
  Plan plan = small(6);
  plan.workers = {1};
  const Record first = run(*study_with(2), plan);
  plan.again = "edited";
  const Record second = run_on(*study_with(6), first, plan);
  REQUIRE(second.cells.size() == 5);
  const Cell& again = second.cells[4];
  CHECK(again.variant == "edited");
  CHECK(again.attempt == 2);
  CHECK(again.trials.at(0).round >= 7);
  CHECK(second.cells[3].kind == Cell::Kind::baseline);  // it has one of its own
  for (const Cell& one : second.cells) {                // the other variant was not tried again
    CAPTURE(one.variant);
    CHECK(one.trials.size() <= 6);
    CHECK(one.trials.size() + static_cast<std::size_t>(second.dropped_paused) >= 6);
  }
  const Analysed study = analyse(second);
  CHECK(study.cells[1].speedup->median == doctest::Approx(2).epsilon(0.1));
  CHECK(study.cells[4].speedup->median == doctest::Approx(6).epsilon(0.15));
  CHECK_FALSE(study.cells[1].newest);
  CHECK((study.best[0].cell == &study.cells[4] || study.cells[4].verdict == Verdict::too_noisy));
  REQUIRE(study.ladders.size() == 1);
  CHECK(study.ladders[0][1].over_previous->median == doctest::Approx(3).epsilon(0.15));
  CHECK_FALSE(study.ladders[0][1].paired);
  plan.again = "nobody";
  CHECK_THROWS_AS(run_on(*study_with(6), first, plan), Error);
}

TEST_CASE("without stands everything runs here, for debuggers") {
  int here = 0;
  Study counts("Counts", same_size, [&here](std::size_t n) { return ++here, n; });
  counts.sizes({1});
  counts.variant<Workers>("same", [](std::size_t n, Workers) { return n; });
  Plan plan = small(1);
  plan.stands = false;
  const Record record = run(counts, plan);
  CHECK(here > 0);
  CHECK_FALSE(record.plan.stands);
  CHECK(record.cells[1].trials.size() == 1);
}

TEST_CASE("staged runs stop early when all is narrow, and not before it is confirmed") {
  Study waits("Waits", same_size, [](std::size_t n) { return wait_for(n); });
  waits.sizes({40});
  waits.variant<Workers>("same", [](std::size_t n, Workers) { return wait_for(n); });
  Plan plan = small(0);
  plan.workers = {1};
  plan.width = 0.5;
  const Record record = run(waits, plan);
  CHECK(record.cells[1].trials.size() == 11);
  CHECK(record.plan.least_rounds == 11);
  CHECK(record.plan.most_rounds == 60);
}

TEST_CASE("random delays bring out a race that a lucky schedule hides, and leave right code alone") {
  const auto make = [](std::size_t n) { return std::vector<int>(n, 1); };
  const auto total = [](const std::vector<int>& in) { return std::accumulate(in.begin(), in.end(), 0L); };
  Study sums("Sums", make, total);
  sums.sizes({64});
  sums.variant<ThreadCrew>("unguarded", [](const auto& in, auto& crew) {
    long sum = 0;
    volatile long* shared = &sum;
    crew.ranges(in.size(), Split::chunks(1), [&](Range r) {
      const long seen = *shared;
      internal::at_border();  // as a piece's border would fall
      *shared = seen + in[r.first];
    });
    return sum;
  });
  sums.variant<ThreadCrew>("right", [](const auto& in, auto& crew) {
    return crew.fold(
        in.size(), 0L, [&](Range r) { return std::accumulate(&in[r.first], &in[r.first] + r.size(), 0L); },
        std::plus<>());
  });
  Plan plan;
  plan.rounds = 5;
  const RaceReport report = find_races(sums, plan);
  CHECK(report.trials == 2 * 3 * 5);
  REQUIRE_FALSE(report.faults.empty());
  for (const RaceFault& fault : report.faults) {
    CHECK(fault.variant == "unguarded (ThreadCrew)");
    CHECK(test::contains(fault.text, "wrong answer"));
  }
}
