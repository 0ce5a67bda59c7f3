// What one study leaves behind: facts only. Whatever can be computed from them is computed again on reading.
//
// Plain data; any thread may read one that nobody writes. Times are seconds, memory is bytes.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/log/lane_sums.hpp"
#include "antcrew/machine/machine.hpp"
#include "antcrew/record/cell_kind.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/point.hpp"

namespace antcrew::record_layer {

// How the study program and the library were compiled.
struct BuildFacts {
  std::string compiler;    // with its version
  std::string flags;       // "unknown" when the build system did not say
  std::string build_type;  // the same
  bool optimised = false;  // the compiler was told to optimise the study program
  bool library_optimised = false;
  std::string program_hash;  // of the program file; empty = unknown
  std::string sanitizers;    // that the study program was built with; empty = none, or unknown

  friend bool operator==(const BuildFacts&, const BuildFacts&) = default;
};

// A fact seen in a trial that speaks against the cell. What it means is for the analysis to say.
struct Fault {
  enum class Kind {
    crashed,
    out_of_memory,
    timed_out,
    threw,
    wrong_answer,
    left_work,
    threads_left,
    remembered,       // another input got the answer of the one before
    changed_input,    // afterwards the baseline had another answer to this input
    changed_program,  // a file of the command is not what it was when the study began
    cannot_disagree,  // of a baseline: the agreement would take any answer for right
  };

  Kind kind = Kind::wrong_answer;
  int round = 0;     // 0 = before the first round
  std::string text;  // what was seen, in words
  std::map<std::string, double> evidence = {};

  friend bool operator==(const Fault&, const Fault&) = default;
};

const char* name_of(Fault::Kind kind) noexcept;

// Time that workers spent in a named phase, all together, and how often it was opened. Its wall time is that of the
// union of all its stretches; `at_once` workers were in it at the same time, at most.
struct PhaseFacts {
  double worker_s = 0;
  std::int64_t count = 0;
  std::optional<double> wall_s = {};
  std::optional<int> at_once = {};
  std::map<std::string, double> by_worker_s = {};  // where a program tells its workers apart: rank, thread, process

  friend bool operator==(const PhaseFacts&, const PhaseFacts&) = default;
};

// What one visit timed, in one or more batches of calls. Answers were compared with the baseline's; a trial whose
// answer differed is kept here too. Times marked "a call" are means over all calls, but for wall_s. What is unknown is
// absent.
struct Trial {
  int round = 0;               // of its point, from 1 on
  int generation = 0;          // whose cell processes were all begun anew; as the round where the record does not tell
  int confirming = 0;          // the confirmation it belongs to, from 1 on; 0 = exploring
  std::optional<int> block{};  // of that confirmation, from 1 on; none while exploring, and in older records
  int stand = 1;               // which process of this cell made it, from 1
  std::optional<double> start_s;  // since the record was created
  std::optional<int> order;       // its place among all trials of the record, from 1 on
  double wall_s = 0;              // a call: the median of times_s
  std::size_t calls = 1;          // all that were timed, times_s.size() × those of a batch
  std::vector<double> times_s{};  // of each batch, divided by its calls; empty before version 2: one batch of wall_s
  bool first = false;             // the first of times_s was the first call of its cell process
  double visited_s = 0;           // the first untimed call of this visit
  int settling_calls = 0;         // untimed calls before the trial
  double settling_s = 0;          // their time, all together
  std::optional<double> user_s;   // CPU time of the process and all below it, a call
  std::optional<double> system_s;
  std::optional<double> others_cpu_s;  // of that, by others than the calling thread
  std::optional<double> run_delay_s;   // its threads were runnable but not running, a call; absent also where threads
                                       // that ended took their figures along
  std::optional<std::int64_t> switches_voluntary;  // over all calls, as the following counts
  std::optional<std::int64_t> switches_forced;
  std::optional<std::int64_t> faults_minor;
  std::optional<std::int64_t> faults_major;
  std::optional<std::uint64_t> peak_bytes;  // resident memory of the cell process's own process
  double compare_s = 0;                     // comparing the answers of a batch, off the clock
  double tail_s = 0;                        // others were at work this long after the last call of a batch returned
  double tail_cpu_s = 0;
  bool agreed = true;                          // with the baseline's answer
  std::optional<int> processor;                // that the calling thread was on when timing began
  std::vector<int> processors{};               // of all threads and processes that were there when a batch ended
  std::optional<double> throttled_s;           // by the control group's quota, during the visit
  std::optional<double> instructions;          // of the process and all that it began, a call: where the kernel counts
  std::optional<double> cycles;                // the same
  std::optional<double> printed_bytes;         // to standard output and error, a call: mean of the visit
  std::map<std::string, PhaseFacts> phases{};  // over all calls
  std::map<std::string, double> counters{};    // of the work, over all calls
  std::map<std::string, double> quantities{};  // of anything else, likewise
  std::optional<double> reported_s;            // the time that the program itself reported
  std::optional<int> most_threads;             // of all its processes, at the moments at which it was looked at
  std::optional<int> most_processes;           // the same

  std::optional<double> cpu_s() const noexcept {
    return user_s ? std::optional<double>(*user_s + system_s.value_or(0)) : std::nullopt;
  }
  // Two of its workers ended a batch on one processor, and its threads had to wait for one.
  bool shared_a_processor() const noexcept;
  friend bool operator==(const Trial&, const Trial&) = default;
};

// What was tried off the clock once a cell was timed, in a cell process of its own.
struct CheckFacts {
  std::size_t other_size = 0;  // the variant was called with another input, of this size; 0 = it was not
  bool own_input = false;      // the baseline was called on the input that the variant had been given
  std::string trouble;         // why one of them could not be done, in words

  friend bool operator==(const CheckFacts&, const CheckFacts&) = default;
};

struct Cell {
  using Kind = CellKind;

  std::string variant;
  std::string crew;  // "ThreadCrew", …; "Workers" = a bare count; "none" for the baseline
  Kind kind = Kind::variant;
  int workers = 1;
  std::size_t point = 0;                // index into Record::points
  int attempt = 1;                      // a variant that was edited and tried again has the next one
  std::string baseline_for = {};        // of a baseline: the variant (crew) with whose later attempt it was tried
  std::string keeps = {};               // what it keeps between calls on purpose, in the study's words
  bool chooses_workers = false;         // it may leave workers idle on purpose, such as by a rule
  std::string probe_of = {};            // for probes: the variant (crew) whose part it leaves out
  std::vector<double> startup_s = {};   // starting the crew, each time it was started
  std::vector<double> cold_s = {};      // the first call after each start
  std::vector<double> cold_cpu_s = {};  // CPU time of those calls; empty where the record does not tell
  // Memory of the cell process and of all processes below it together, in an untimed call; a lower bound. Each time
  // that it was looked at: once for each cell process that had processes below it.
  std::vector<std::uint64_t> tree_bytes = {};
  std::vector<int> asked_processors = {};    // pinning, worker by worker; empty = not asked for
  std::vector<int> granted_processors = {};  // -1 = refused
  std::vector<std::string> printed = {};     // the first lines that it printed
  std::string answer = {};                   // its first timed answer, in short
  std::vector<std::string> command = {};     // of a study of commands: the words of the first trial
  std::string folder = {};                   // of its last trial, where it was kept
  std::vector<double> empty_s = {};          // a command that does nothing, begun in the same way
  std::string no_resources = {};             // why CPU time and memory are unknown, in words
  std::optional<CheckFacts> check = {};
  std::vector<internal::LaneSums> metered = {};  // calls of their own, with a log of what each worker did
  std::vector<Trial> trials = {};
  std::vector<Fault> faults = {};
  std::optional<bool> came_through = {};  // tried once more after a crash, an exception or a lack of memory: it did

  std::string key() const { return variant + " (" + crew + ")"; }
  friend bool operator==(const Cell&, const Cell&) = default;
};

// How the baseline slows down when `copies` processes run it at the same time: c(p) = time_s / time_s of one copy.
struct CrowdFacts {
  std::size_t point = 0;
  int copies = 1;
  std::vector<double> time_s = {};  // the median copy, each time it was tried

  friend bool operator==(const CrowdFacts&, const CrowdFacts&) = default;
};

// What a block of one point needed and met.
struct BlockFacts {
  std::size_t point = 0;
  double make_input_s = 0;
  double reference_s = 0;         // the baseline's first call, which gave the reference answer
  std::uint64_t input_bytes = 0;  // resident memory that input and reference answer took
  bool own_inputs = false;        // threads were left behind, so every cell process made its own input
  double wall_s = 0;              // the whole block
  double own_cpu_s = 0;           // of all its processes
  double other_cpu_s = 0;         // of everything else on this machine, meanwhile
  double steal_s = 0;             // taken by the hypervisor, from the whole machine
  double throttled_s = 0;         // by the control group's quota
  int confirming = 0;             // the confirmation that it was for; 0 = exploring
  double refill_s = 0;            // reading what the caches can hold of the input from memory; 0 = not measured
  double neighbours_cpu_s = 0;    // of own processes that were not on trial, while others were
  int block = 0;                  // its number in the confirmation, from 1 on; 0 = exploring
  std::uint64_t input_seed = 0;   // that the input maker was given
  bool afresh = false;            // the program was started anew for it, so that its memory layout was drawn again
  std::string not_afresh = {};    // why it was not, though that was asked for; in words

  friend bool operator==(const BlockFacts&, const BlockFacts&) = default;
};

struct PlanFacts {
  int least_rounds = 0;  // the same as most_rounds when their number was asked for
  int most_rounds = 0;
  double width = 0;           // asked half-width of the intervals, relative
  double budget_s = 0;        // for the whole study; 0 = none
  std::uint64_t seed = 0;     // of the order in which cells were visited
  bool stands = true;         // each cell in a process of its own
  bool weak_scaling = false;  // sizes grow with the workers
  bool confirm = false;       // the best was to be tried again in rounds of its own
  // A difference that matters, as a share: what is claimed is claimed beyond it. None in records of before it was
  // asked, whose claims rest on rounds and not on blocks.
  std::optional<double> matters = {};
  int launches = 0;  // fewest confirming blocks, each a program started anew; 0 = none is started anew
  int inputs = 1;    // different ones that the confirming blocks take in turn
  // Which parts of the grid the plan gave, not the study: "sizes", "workers", "dimensions", "pins", "variants".
  std::vector<std::string> asked = {};

  friend bool operator==(const PlanFacts&, const PlanFacts&) = default;
};

// Lines of source that a variant takes: what is neither empty nor only a comment.
struct SourceFacts {
  std::string of;            // key of the variant, "name (crew)"; "baseline" of the baseline
  std::string file = {};     // without its folders
  std::string part = {};     // the marked part of it; empty = all of it
  int lines = 0;             // 0 = they could not be counted
  std::string trouble = {};  // why

  friend bool operator==(const SourceFacts&, const SourceFacts&) = default;
};

// A file that a command needs: its program, its script, the description of the study.
struct FileFacts {
  std::string name;
  std::string hash = {};     // empty = it could not be read
  std::string changed = {};  // UTC, ISO 8601

  friend bool operator==(const FileFacts&, const FileFacts&) = default;
};

// The leader and its rivals were tried again in so many fresh rounds, fixed before the first of them.
struct ConfirmationFacts {
  std::size_t point = 0;
  std::size_t leader = 0;                // index into Record::cells
  std::vector<std::size_t> rivals = {};  // the same
  int rounds = 0;
  int blocks = 0;  // fewest that they were to lie in; 0 = one, in records of before blocks were counted

  friend bool operator==(const ConfirmationFacts&, const ConfirmationFacts&) = default;
};

// Fixed pieces of work of the library's own, timed along with the rounds: what the machine was like.
struct YardstickFacts {
  int edition = 0;                        // of the pieces; only equal ones are compared. 0 = none was timed
  std::vector<double> arithmetic_s = {};  // dependent multiplications on one processor
  std::vector<double> wake_s = {};        // waking a sleeping thread, and back
  std::vector<double> stream_s = {};      // reading memory that no cache holds

  friend bool operator==(const YardstickFacts&, const YardstickFacts&) = default;
};

// What the machine does when so many workers do the same at once, each on a processor of its own; measured once a run.
struct TogetherFacts {
  int workers = 1;
  double arithmetic_s = 0;  // a fixed piece of dependent multiplications, the middle worker's
  double bytes_per_s = 0;   // read from memory that no cache holds, by all of them
  double line_move_s = 0;   // a line of the cache that two of them write in turn, one move; 0 = one worker

  friend bool operator==(const TogetherFacts&, const TogetherFacts&) = default;
};

// What the budget had no time for.
struct LeftOut {
  enum class What { everything, cells, rounds, points, confirming, checks, metering };

  What what = What::rounds;
  std::size_t point = 0;  // the first concerned
  double needed_s = 0;    // the budget with which there would have been time, as far as can be told
  int count = 0;          // of cells concerned; 0 = not told

  friend bool operator==(const LeftOut&, const LeftOut&) = default;
};

const char* name_of(LeftOut::What what) noexcept;

struct Record {
  static constexpr int newest_version = 3;

  int version = newest_version;
  std::string library_version;
  std::string created;   // UTC, ISO 8601
  std::string run = {};  // tells this run from all others, 16 hexadecimal digits; it stays when a run is gone on with
  std::string title;
  std::string agreement;  // how answers were compared, in words
  Machine machine;
  BuildFacts build;
  PlanFacts plan;
  double measured_s = 0;       // wall time of the run
  bool complete = false;       // the run came to its planned end
  double load_before = 0;      // processors that other programs kept busy just before the run
  bool another_study = false;  // was measured on this machine at the same time
  int dropped_asleep = 0;      // trials during which the machine slept
  int dropped_paused = 0;      // trials during which this run, or the whole machine, was stopped
  std::vector<Point> points;
  std::vector<BlockFacts> blocks = {};  // in the order in which they were tried; a point may have several
  std::vector<CrowdFacts> crowds = {};
  YardstickFacts yardstick = {};
  std::vector<TogetherFacts> together = {};
  double waited_idle_s = 0;  // for other programs to leave the machine, all together
  std::vector<ConfirmationFacts> confirmations = {};
  std::vector<LeftOut> left_out = {};
  std::vector<SourceFacts> sources = {};                // of those that name theirs
  bool commands = false;                                // a study of commands: how they were built is not known
  std::vector<FileFacts> files = {};                    // of a study of commands
  std::map<std::string, std::string> environment = {};  // that the study itself sets
  std::vector<std::vector<std::string>> ladders = {};   // each the keys, "name (crew)", of variants in order
  std::vector<Cell> cells;                              // the baseline of each point among them
};

// The baseline's cell at a point. Every record that run() returns has one for each point.
const Cell* baseline_of(const Record& record, std::size_t point) noexcept;
// The one that was tried in the same rounds as this cell: an edited variant has a baseline of its own.
const Cell* baseline_of(const Record& record, const Cell& cell) noexcept;

// Record::run, or, of an older record, what is as good as that: made from what going on with it does not change.
std::string run_id(const Record& record);

// Throws Error (record.field) when a part of the record refers to what is not there; `where` names its source.
void check_references(const Record& record, const std::string& where);

// The version of this library.
std::string library_version();

}  // namespace antcrew::record_layer
