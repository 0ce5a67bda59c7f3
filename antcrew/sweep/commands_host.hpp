// Tries every cell of a study of commands: one process a trial, each in a fresh folder.
//
// A process needs no settling: a cell's first trial is cold and kept apart, each later one counts. Two runs of the
// baseline whose answers differ are found before anything else. The calling process must have one thread when this is
// made: it forks a small process that begins the commands.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/study/host.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/internal/program_files.hpp"
#include "antcrew/sweep/internal/trial_run.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

class CommandsHost : public Host {
 public:
  // kept_under: folder for trials that are kept.
  CommandsHost(const CommandStudy& study, HostLimits limits, std::string kept_under);
  ~CommandsHost() override;

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) override;
  Visit visit(std::size_t cell, const VisitOrder& order) override;
  Visit check(std::size_t cell, std::size_t other_size) override;
  Visit meter(std::size_t cell, int calls, bool one_worker) override;
  void renew() override {}
  std::optional<double> crowd(int copies) override;
  double own_cpu_s() const override { return trials_.cpu_s(); }
  void close() override;

 private:
  static constexpr std::uint64_t most_answer_bytes = 1ull << 30;
  struct Known {  // of a cell, over all blocks
    bool tried = false;
    bool left_little = false;  // once something was left running that may have been a helper
    int kept = 0;
  };
  const Runnable& runnable(const CellSpec& cell) const;
  Known& known(const CellSpec& cell);
  internal::TrialRun run(const CellSpec& cell, int round, const internal::Trials::Looking* looking = nullptr);
  std::optional<Fault> compared(const CellSpec& cell, internal::TrialRun& trial, int round, std::string* in_short,
                                double& took_s);
  std::string foreign(const std::string& answer, const internal::TrialFolder& place) const;
  std::optional<Fault> differs(const std::string& got_file, const std::string& expected_file,
                               const internal::TrialFolder& place, int round);
  void first_time(const CellSpec& cell, const VisitOrder& order, Visit& visit);
  void timed(const CellSpec& cell, const VisitOrder& order, Visit& visit);
  void keep_facts(const CellSpec& cell, const internal::TrialRun& trial, Trial& to) const;
  void keep_folder(const CellSpec& cell, internal::TrialRun& trial, int round, bool faulty, Visit& visit);
  std::string kept_in(const std::string& folder) const;
  std::optional<Fault> reference_again(std::string& trouble);
  std::vector<std::string> inputs_at(const Point& at) const;
  bool inputs_changed(int round, Visit& visit);
  bool with_launcher(const CellSpec& cell) const { return !runnable(cell).launcher.empty(); }

  const CommandStudy& study_;
  HostLimits limits_;
  internal::TrialFolders folders_;
  internal::Runner runner_;
  internal::Trials trials_;
  internal::ProgramFiles files_;
  internal::TrialSetting setting_;
  std::vector<CellSpec> cells_;
  std::map<std::string, Known> known_;  // by variant, workers and point
  std::optional<internal::TrialRun> reference_;
  double reference_s_ = 0;
  double reference_cpu_s_ = 0;
  std::vector<double> cold_reference_s_;  // kept for the baseline's first visit
  std::vector<double> cold_reference_cpu_s_;
  std::vector<double> empty_s_;
  bool begun_ = false;  // what is to run before all has run
  internal::SharedInputs inputs_;
  bool spoiled_ = false;  // an input was changed in this block: nothing in it means anything any more
};

}  // namespace antcrew::sweep_layer
