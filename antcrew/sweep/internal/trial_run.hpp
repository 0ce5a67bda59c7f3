// One trial of a command from its fresh folder to its answer, and what went wrong with it.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <regex>
#include <string>
#include <vector>

#include "antcrew/study/host.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/internal/phase_lines.hpp"
#include "antcrew/sweep/internal/runner.hpp"
#include "antcrew/sweep/internal/trial_folder.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

struct TrialRun {
  TrialFolder place;
  std::vector<std::string> words;
  Ended ended;
  std::optional<Fault> fault;  // of how it ended; answers are compared elsewhere
  bool could_run = true;       // false: what is to be run before or after it failed, or it could not be begun
  std::string answer;          // where its answer is: a file
};

// What stays the same over the trials of a block.
struct TrialSetting {
  const CommandStudy& study;
  Point at;
  double limit_s = 0;                 // 0 = none known yet
  std::string limit_is = "as asked";  // where it comes from, in words
  double patience_s = 0.2;
  std::uint64_t memory_bytes = 0;
  std::function<bool()> stop;
};

class Trials {
 public:
  Trials(TrialFolders& folders, Runner& runner) : folders_(folders), runner_(runner) {}

  // of: the baseline's or a variant's. looking: as Runner::wait_looking().
  struct Looking {
    std::function<void(pid_t)> began;
    std::function<double()> look;
  };
  TrialRun run(const TrialSetting& setting, const Runnable& of, int workers, int round,
               const Looking* looking = nullptr);
  // Several at once, each in a runner of its own; none when one of them failed. Their times.
  std::optional<std::vector<double>> run_at_once(const TrialSetting& setting, const Runnable& of,
                                                 std::vector<std::unique_ptr<Runner>>& runners);
  // A command beside the trials, such as one that is to run before all: a fault when it fails.
  std::optional<Fault> run_beside(const TrialSetting& setting, const Runnable& of, const Command& command, int workers,
                                  const TrialFolder& place, const char* what,
                                  const std::vector<std::string>& more_words = {}, int* exit_code = nullptr);
  // A command that reads a file of the trial and prints another one.
  struct Piped {
    std::string from;
    std::string to;
  };
  std::optional<Fault> run_through(const TrialSetting& setting, const Runnable& of, const Command& command, int workers,
                                   const TrialFolder& place, const char* what, const Piped& piped);
  // Where the answer is one file of several, or goes through a filter: makes it, and says in trial.answer where it is.
  // A fault when a file is missing or is not the trial's own, or the filter fails.
  std::optional<Fault> gather(const TrialSetting& setting, const Runnable& of, int workers, int round, TrialRun& trial);
  // What it takes to run nothing in the same way, behind the launcher where there is one; 0 = it failed.
  double empty_s(const TrialSetting& setting, const Runnable& of, int workers);
  // CPU time of all that was run so far.
  double cpu_s() const noexcept { return cpu_s_; }

 private:
  Start start_of(const TrialSetting& setting, const Runnable& of, const Command& command, int workers,
                 const TrialFolder& place, bool with_launcher) const;
  std::optional<Fault> beside(const TrialSetting& setting, const Runnable& of, const Command& command, int workers,
                              const TrialFolder& place, const char* what, const std::function<void(Start&)>& change,
                              int* exit_code);
  std::optional<Fault> all_beside(const TrialSetting& setting, const Runnable& of, const std::vector<Command>& commands,
                                  int workers, const TrialFolder& place, const char* what);

  Ended counted(Ended ended) {
    cpu_s_ += ended.user_s + ended.system_s;
    return ended;
  }

  TrialFolders& folders_;
  Runner& runner_;
  double cpu_s_ = 0;
};

// None when it ended by itself with 0.
std::optional<Fault> fault_of(const Ended& ended, const TrialSetting& setting, const TrialFolder& place, int round);
// None where nothing was left, or only for a moment, or a little once; before: it is kept there for the next time.
std::optional<Fault> left_behind(const Ended& ended, double reference_cpu_s, int round, bool& before);

// The pattern, read so that no line can keep the matcher busy for ever: without references back. Throws
// std::regex_error.
std::regex regex_of(const std::string& pattern);

// The first number that its pattern finds in what was printed, or in what went to standard error.
std::optional<double> reported_s(const Reported& reported, const TrialFolder& place);

}  // namespace antcrew::internal
