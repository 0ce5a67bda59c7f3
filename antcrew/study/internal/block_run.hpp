// The cells of one point, visited round after round. It knows how a round goes; why, and how many, is for others.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/stages.hpp"
#include "antcrew/study/internal/run_state.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// One cell of the block under way.
struct Running {
  std::size_t index = 0;  // into the record's cells
  bool is_baseline = false;
  CellSpec spec = {};
  StageWatch stages{0};
  bool over = false;
  int stand = 0;
  int leaks = 0;
  bool fresh = true;     // its next visit begins a new cell process
  bool visited = false;  // in the round under way
  double spent_s = 0;    // in the last generation
  int wrong = 0;         // visits with a wrong answer

  bool baseline() const noexcept { return is_baseline; }
};

// Thrown where the baseline fails in a program that was started anew: what it lacks there says nothing about it.
struct FailedAfresh {
  std::string trouble;
};

class BlockRun {
 public:
  using MayGo = std::function<bool(double seconds)>;

  // confirming: the number of the confirmation; 0 = exploring.
  BlockRun(RunState& run, std::size_t point, std::vector<Running> cells, int confirming);

  // Which block of the confirmation it is, from 1 on, with which input, and whether the program is started anew for it.
  void be_block(int number, std::uint64_t input_seed, bool afresh) noexcept;

  // Makes the input. False when nothing can be tried; what is wrong is in the record.
  bool open();
  void close();
  // What held the input is gone: a fault of this point.
  void lost(Fault fault);
  // Has cells()[cell] tried with another input, and the baseline on its own once more; 0 = there is no other.
  void check(std::size_t cell, std::size_t other_size);
  // One more visit, off the record but for whether it came through, to each cell that crashed, threw or ran out of
  // memory once: is it always so? The verdict stays.
  void try_again(const MayGo& may_go);
  // Has it called so many times with a log of what its workers do.
  void meter(std::size_t cell, int calls, bool one_worker);

  // One generation of cell processes, visited in so many rounds. `may_go` is asked before each visit with the seconds
  // that it will take, as far as can be told; when it says no, the round stays unfinished. False then, and when the
  // baseline is over.
  bool generation(int rounds, const MayGo& may_go);

  std::vector<Running>& cells() noexcept { return cells_; }
  bool baseline_over() const noexcept;
  bool variants_over() const noexcept;
  // Generations that are complete.
  int generations() const noexcept { return generations_; }
  double last_generation_s() const noexcept { return last_generation_s_; }
  // What the last one took, but for cells that will not be visited again.
  double next_generation_s() const noexcept;
  double opening_s() const noexcept { return opening_s_; }
  double reference_s() const noexcept { return facts_.reference_s; }
  const BlockFacts& facts() const noexcept { return facts_; }
  // Of the last generation: what renewing its cell processes took, and all else.
  double renewing_s() const noexcept { return renewing_s_; }
  double visiting_s() const noexcept { return visiting_s_; }

 private:
  void keep_beside(std::size_t cell, Visit visit);
  bool one_round(bool keep_processes, const MayGo& may_go);
  std::vector<std::size_t> order();
  std::vector<std::size_t> order_of_want() const;
  void visit(std::size_t cell, bool keep_process);
  void keep(Running& cell, Visit visit, double took_s);
  void end_if_it_hangs(Running& cell, double took_s);
  double foreseen_s(const Running& cell) const;
  void begin_where_it_ended();
  void state_memory() const;

  RunState& run_;
  std::size_t point_;
  std::vector<Running> cells_;
  int confirming_;
  BlockFacts facts_;
  MachineTimes before_ = {};
  double own_before_s_ = 0;
  double opened_at_s_ = 0;
  double opening_s_ = 0;
  int round_ = 0;            // under way, or the last one
  int generation_ = 0;       // the same
  bool unfinished_ = false;  // the round of an earlier run is gone on with
  bool any_round_ = false;   // of this run
  int generations_ = 0;
  double last_generation_s_ = 0;
  double renewing_s_ = 0;
  double visiting_s_ = 0;
};

// The cells to be tried at a point: the newest attempt of each variant of the grid, and their baselines first.
std::vector<Running> cells_at(const RunState& run, std::size_t point);
// Only those of these indices, and their baselines.
std::vector<Running> cells_among(const RunState& run, std::size_t point, const std::vector<std::size_t>& indices);

}  // namespace antcrew::internal
