// Visiting a cell: starting its crew, settling calls, the timed trial, and the comparison of its answer.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "antcrew/log/journal.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/study_base.hpp"

namespace antcrew {

struct CellSpec {
  const VariantDefinition* variant = nullptr;  // none = the baseline
  int workers = 1;
  Pin pin = Pin::off;  // of the point
};

// What one visit brought: a cell that holds just that (at most one trial), to be added to the record's.
struct Visit {
  Cell seen;
  bool over = false;     // the cell cannot or need not be tried again
  bool replace = false;  // this stand must not be used again
};

// The baseline's reference call, which everything else is judged against.
struct Reference {
  double wall_s = 0;
  double cpu_s = 0;
};

// What a stand tells the outside while it works, in memory that both have mapped.
struct StandBoard {
  std::atomic<std::uint64_t> progress;  // goes up with every call that is begun or done
  std::atomic<int> stage;               // a Stage
  std::atomic<int> signal;              // of a crash, written by its handler; 0 = the handler did not run
  std::atomic<std::uintptr_t> address;  // that the crash was about
};
enum class Stage { starting, making_input, baseline, calling, comparing, idle };
const char* name_of(Stage stage) noexcept;

// Runs `work` and turns what it throws into a fault: `threw` with the exception's type and text, or `out of memory`.
// `during` names the stage when it is not the variant's own call ("the input maker").
std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during = {});

// One cell in one process. Not thread-safe.
class Visitor {
 public:
  // board may be null.
  Visitor(const StudyBase& study, const CellSpec& spec, Anything input, Anything reference_answer,
          const Reference& reference, StandBoard* board);
  ~Visitor();
  Visitor(const Visitor&) = delete;
  Visitor& operator=(const Visitor&) = delete;

  Visit visit(int round);

 private:
  void start(Visit& visit);
  void timed_trial(Visit& visit, int round);
  Difference compare_answers(double& compare_s);
  void look_at_memory(Visit& visit);
  void note_agreement(Visit& visit, Trial& trial);
  double call_s(std::size_t calls);
  void tell(Stage stage) noexcept;
  double patience_s() const noexcept;

  struct Settled {
    double first_s = 0;
    double total_s = 0;
    int calls = 0;
    std::size_t calls_each = 1;
  };
  Settled settle();

  const StudyBase& study_;
  CellSpec spec_;
  Anything input_;
  Anything reference_answer_;
  Reference reference_;
  StandBoard* board_;
  std::unique_ptr<Session> session_;
  internal::Journal* journal_ = nullptr;
  bool leaves_work_ = false;
  bool looked_at_memory_ = false;
  bool pinned_ = false;
};

}  // namespace antcrew
