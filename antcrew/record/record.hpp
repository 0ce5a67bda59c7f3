// What one study leaves behind: facts only. Whatever can be computed from them is computed again on reading.
//
// Plain data; any thread may read one that nobody writes. Times are seconds, memory is bytes.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "antcrew/machine/machine.hpp"
#include "antcrew/record/point.hpp"

namespace antcrew {

// How the study program and the library were compiled.
struct BuildFacts {
  std::string compiler;    // with its version
  std::string flags;       // "unknown" when the build system did not say
  std::string build_type;  // the same
  bool optimised = false;  // the compiler was told to optimise the study program
  bool library_optimised = false;

  friend bool operator==(const BuildFacts&, const BuildFacts&) = default;
};

// A fact seen in a trial that speaks against the cell. What it means is for the analysis to say.
struct Fault {
  enum class Kind { wrong_answer, threw };

  Kind kind = Kind::wrong_answer;
  int round = 0;     // 0 = before the first round
  std::string text;  // what was seen, in words
  std::map<std::string, double> evidence = {};

  friend bool operator==(const Fault&, const Fault&) = default;
};

const char* name_of(Fault::Kind kind) noexcept;

// One timed trial. Its answer was compared with the baseline's; a trial whose answer differed is kept here too.
struct Trial {
  int round = 0;
  double wall_s = 0;       // one call; the mean over `calls` when a call is too short for the clock
  std::size_t calls = 1;   // made back to back inside this trial
  double visited_s = 0;    // the first call of this visit, before it had settled
  int settling_calls = 0;  // untimed calls before the trial
  double settling_s = 0;   // their time, all together
  double cpu_s = 0;        // user and system time of the process, one call
  bool agreed = true;      // with the baseline's answer

  friend bool operator==(const Trial&, const Trial&) = default;
};

struct Cell {
  enum class Kind { baseline, variant };

  std::string variant;
  std::string crew;  // "ThreadCrew", …; "Workers" = a bare count; "none" for the baseline
  Kind kind = Kind::variant;
  int workers = 1;
  std::size_t point = 0;                     // index into Record::points
  std::vector<double> startup_s = {};        // starting the crew, each time it was started
  std::vector<double> cold_s = {};           // the first call after each start
  std::vector<int> asked_processors = {};    // pinning, worker by worker; empty = not asked for
  std::vector<int> granted_processors = {};  // -1 = refused
  std::vector<Trial> trials = {};
  std::vector<Fault> faults = {};

  friend bool operator==(const Cell&, const Cell&) = default;
};

const char* name_of(Cell::Kind kind) noexcept;

struct PlanFacts {
  int rounds = 0;          // asked for at most
  double budget_s = 0;     // for the whole study; 0 = none
  std::uint64_t seed = 0;  // of the order in which cells were visited

  friend bool operator==(const PlanFacts&, const PlanFacts&) = default;
};

struct Record {
  static constexpr int newest_version = 1;

  int version = newest_version;
  std::string library_version;
  std::string created;  // UTC, ISO 8601
  std::string title;
  std::string agreement;  // how answers were compared, in words
  Machine machine;
  BuildFacts build;
  PlanFacts plan;
  double measured_s = 0;  // wall time of the run
  bool complete = false;  // all planned rounds were made, or the budget was used as planned
  std::vector<Point> points;
  std::vector<Cell> cells;  // the baseline of each point among them
};

// The baseline's cell at a point. Every record that run() returns has one for each point.
const Cell* baseline_of(const Record& record, std::size_t point) noexcept;

// The version of this library.
std::string library_version();

}  // namespace antcrew
