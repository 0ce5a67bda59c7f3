// Studies of crews of processes: their memory, what they moved, and how their workers' faults are told.
#include <doctest/doctest.h>
#include <signal.h>
#include <unistd.h>

#include <chrono>
#include <cstring>
#include <new>
#include <thread>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/crew/common_array.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/report/table.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
#include "planted.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace std::chrono_literals;

namespace {

std::size_t same(std::size_t n) {
  return n;
}
std::size_t identity(const std::size_t& n) {
  return n;
}

const CellFigures& cell_of(const Analysed& analysed, const std::string& variant, int workers) {
  for (const CellFigures& f : analysed.cells) {
    if (f.cell->variant == variant && f.cell->workers == workers) return f;
  }
  FAIL("no such cell");
  std::abort();
}

}  // namespace

TEST_CASE("memory grows with each process, and the table shows it") {
  Study study("Held memory", same, identity);
  study.sizes({100});
  study.workers({1, 3});
  study.variant<ProcessCrew>("each holds 40 MiB", [](const std::size_t& n, auto& crew) {
    const CommonCounter holding;
    crew.collect(static_cast<std::size_t>(crew.workers()), [&](std::size_t i) {
      const std::vector<char> held(40 << 20, 'x');
      holding.add(1);
      while (holding.get() < crew.workers()) std::this_thread::yield();
      std::this_thread::sleep_for(60ms);
      return held[i];
    });
    return n;
  });
  const Record record = run(study, Plan{.rounds = 1, .confirm = false, .crowd = false});
  const Analysed analysed = analyse(record);
  const CellFigures& one = cell_of(analysed, "each holds 40 MiB", 1);
  const CellFigures& three = cell_of(analysed, "each holds 40 MiB", 3);
  CHECK(one.several_processes);
  CHECK(one.peak_bytes >= 40.0 * (1 << 20));
  // A sanitizer keeps freed memory for a while, in each process as much as it likes.
  if (!planted::sanitized) CHECK(three.peak_bytes >= one.peak_bytes + 70.0 * (1 << 20));
  CHECK_FALSE(cell_of(analysed, "baseline", 1).several_processes);
  CHECK(test::contains(table_text(analysed, 200), planted::sanitized ? "≥ " : "≥ 1"));
}

TEST_CASE("what was moved is kept with each trial, for forked and for standing workers") {
  Study study("Moved", same, identity);
  study.sizes({500'000});
  study.workers({2});
  const auto half = [](std::size_t i) { return static_cast<double>(i) / 2; };
  study.variant<ProcessCrew>("forked",
                             [half](const std::size_t& n, auto& crew) { return crew.collect(n, half).size(); });
  study.variant<StandingCrew>("standing",
                              [half](const std::size_t& n, auto& crew) { return crew.collect(n, half).size(); });
  const Record record = run(study, Plan{.rounds = 1, .confirm = false, .crowd = false});
  const Analysed analysed = analyse(record);
  for (const char* variant : {"forked", "standing"}) {
    const CellFigures& cell = cell_of(analysed, variant, 2);
    CAPTURE(variant);
    CHECK(cell.verdict >= Verdict::too_few_rounds);
    CHECK(cell.counters.at("bytes moved") >= 4e6);
    CHECK(cell.phases.at("moving data").worker_s > 0);
    CHECK(cell.phases.at("taking in moved data").worker_s > 0);
  }
  CHECK(test::contains(table_text(analysed, 200), "Data moved between processes"));
}

TEST_CASE("a worker's fault becomes the cell's, with the worker and its range") {
  Study study("Failing workers", same, identity);
  study.sizes({10});
  study.workers({2});
  study.variant<ProcessCrew>("killed", [](const std::size_t& n, auto& crew) {
    return crew.collect(n, [](std::size_t i) { return i == 7 ? ::kill(::getpid(), SIGKILL) : 0; }).size();
  });
  study.variant<ProcessCrew>("no memory", [](const std::size_t& n, auto& crew) {
    return crew
        .collect(n,
                 [](std::size_t i) {
                   if (i == 7) throw std::bad_alloc();
                   return i;
                 })
        .size();
  });
  study.variant<ProcessCrew>("hangs", {.processes = {.deadline_s = 0.1}}, [](const std::size_t& n, auto& crew) {
    return crew
        .collect(n,
                 [](std::size_t i) {
                   while (i == 7) ::pause();
                   return i;
                 })
        .size();
  });
  const Record record = run(study, Plan{.rounds = 1, .confirm = false, .crowd = false});
  const Analysed analysed = analyse(record);
  CHECK(cell_of(analysed, "killed", 2).verdict == Verdict::crashed);
  CHECK(test::contains(cell_of(analysed, "killed", 2).evidence, "worker 1: its process died of signal 9"));
  CHECK(test::contains(cell_of(analysed, "killed", 2).evidence, "5 … 9"));
  CHECK(cell_of(analysed, "no memory", 2).verdict == Verdict::out_of_memory);
  CHECK(cell_of(analysed, "hangs", 2).verdict == Verdict::timed_out);
}
