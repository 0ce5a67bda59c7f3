// Visiting a cell: starting its crew, settling calls, the timed trial, and the comparison of its answer.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/log/journal.hpp"
#include "antcrew/log/lane_book.hpp"
#include "antcrew/log/lane_sums.hpp"
#include "antcrew/machine/hardware_counters.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew::study_layer {

struct CellSpec {
  static constexpr int the_baseline = -1;
  int variant = the_baseline;  // its number in the study's list
  int workers = 1;
  Pin pin = Pin::off;  // of the point

  bool baseline() const noexcept { return variant < 0; }
  const VariantOutline& of(const Outline& study) const { return study.variants()[static_cast<std::size_t>(variant)]; }
};

// How a cell is to be visited.
struct VisitOrder {
  int round = 1;
  std::int64_t since_ns = 0;    // when the last visit ended: what passed since then is made up for by timing
  bool keep = false;            // the cell process will be visited again
  bool memory = true;           // look at the memory of the processes below the cell process, which takes untimed calls
  bool check = false;           // instead of all that: try another input, and the own one again (CheckFacts)
  std::size_t other_size = 0;   // of that other input; 0 = there is none
  int metered = 0;              // instead of timing: so many calls with a log of what every worker does
  bool one_worker = false;      // then: call it with one worker, too, as no cell does
  bool may_be_without = false;  // likewise: once is enough to know that no crew is called
  bool looked_at = false;       // likewise: as many groups of calls, for somebody who looks at its threads from outside
};

// What one visit brought: a cell that holds just that (at most one trial), to be added to the record's.
struct Visit {
  Cell seen;
  bool over = false;     // the cell cannot or need not be tried again
  bool replace = false;  // this cell process must not be used again
  double renewing_s =
      0;  // of the visit's time: a new cell process, its crew and its first call; 0 = it was there already
  std::int64_t began_ns = 0;    // when timing began; 0 = not told
  double neighbours_cpu_s = 0;  // used meanwhile by processes of this study that were not on trial
  enum class Dropped { no, asleep, paused };
  Dropped dropped = Dropped::no;  // its trial is not among `seen`: the clock cannot be believed
};

// What visits are judged and laid out by: the baseline's reference call, and what this machine and group are like.
struct Reference {
  double wall_s = 0;
  double cpu_s = 0;
  double refill_s = 0;        // reading what the caches can hold of the input
  double quota_period_s = 0;  // of the control group; 0 = no quota
};

// What a cell process tells the outside while it works, in memory that both have mapped.
struct ProcessBoard {
  std::atomic<std::uint64_t> progress;     // goes up with every call that is begun or done
  std::atomic<int> stage;                  // a Stage
  std::atomic<int> signal;                 // of a crash, written by its handler; 0 = the handler did not run
  std::atomic<std::uintptr_t> address;     // that the crash was about
  std::atomic<int> terminated;             // std::terminate was called: `thrown` is written
  std::atomic<int> returned_children;      // that the body forked and that came back from it
  std::atomic<std::int64_t> metered_call;  // its number while one is open that is to be looked at; 0 = none
  std::atomic<std::int64_t> looks;         // at moments of metered calls so far, written by who looks
  char thrown[256];                        // type and text of what nobody caught; empty = nothing had been thrown
};
enum class Stage { starting, making_input, baseline, calling, comparing, idle };
const char* name_of(Stage stage) noexcept;
// board may be null.
void tell(ProcessBoard* board, Stage stage) noexcept;

// Runs `work` and turns what it throws into a fault: `threw` with the exception's type and text, or `out of memory`.
// `during` names the stage when it is not the variant's own call ("the input maker").
std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during = {});

// One cell in one process. Not thread-safe.
class Visitor {
 public:
  // board may be null.
  Visitor(const StudyBase& study, const CellSpec& spec, Anything input, Anything reference_answer,
          const Reference& reference, ProcessBoard* board);
  ~Visitor();
  Visitor(const Visitor&) = delete;
  Visitor& operator=(const Visitor&) = delete;

  Visit visit(const VisitOrder& order);

 private:
  struct Timing;

  void start(Visit& visit);
  void first_call(Visit& visit, Timing& timing);
  void timed_trial(Visit& visit, const VisitOrder& order);
  void batch(Visit& visit, Timing& timing);
  void compare(Visit& visit, Timing& timing);
  double compare_answers();
  void settle(Trial& trial);
  void fill_batches(Trial& trial);
  std::size_t calls_of_a_batch(double call_s) const;
  bool first_call_counts(double call_s) const noexcept;
  void look_at_memory(Visit& visit);
  void meter(Visit& visit, const VisitOrder& order);
  void meter_by_samples(Visit& visit, const VisitOrder& order);
  internal::LaneSums metered_call(std::int64_t number = 0);
  double plain_call();
  struct Beside;
  Beside try_beside(const std::vector<internal::LaneSums>& metered, bool one_worker);
  double call_with_one_worker();
  void count_memory(Beside& tried);
  void look_for_spins(const std::vector<internal::LaneSums>& metered, Beside& tried);
  void compare_places(const std::vector<internal::LaneSums>& metered, Beside& tried);
  void prices(const std::vector<internal::LaneSums>& metered, Beside& tried) const;
  bool in_processes() const;
  std::string place_of_callers(const std::vector<const void*>& callers);
  const internal::LaunchedCrew* launched_crew() const;  // null where it is not launched
  double call_s(std::size_t calls);
  double patience_s() const noexcept;

  const StudyBase& study_;
  CellSpec spec_;
  Anything input_;
  Anything reference_answer_;
  Reference reference_;
  ProcessBoard* board_;
  internal::Owned<Session> session_;
  internal::Journal* journal_ = nullptr;
  internal::LaneBook* lanes_ = nullptr;
  HardwareCounters counters_;
  double first_s_ = 0;  // of this cell process; 0 = not made yet
  double startup_s_ = 0;
  double along_of_a_call_s_ = 0;       // preparing it and destroying its answer
  std::uint64_t bytes_of_a_call_ = 0;  // that its answer, or its copy of the input, keeps
  bool leaves_work_ = false;
  bool looked_at_memory_ = false;
  int depth_ = internal::fork_depth();
  double thread_cost_s_ = 0;
  bool waits_for_locks_ = true;                // of the C library; looked at in metered calls
  std::map<const void*, std::string> places_;  // in the source, of who waited for a lock
  Difference difference_;
};

}  // namespace antcrew::study_layer
