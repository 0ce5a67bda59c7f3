// How a study is to be run: the grid, and how much time it may take.
//
//   auto record = run(tides, Plan{.workers = {1, 2, 4}, .budget_s = 30});
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "antcrew/study/layer.hpp"
#include "antcrew/study/outline.hpp"

namespace antcrew {

// Which cells are called a few times more with a log of what every worker does, apart from the timed calls: the largest
// worker count of each variant and the leader at every point, all, or none.
enum class Metering { few, all, none };

struct Plan {
  std::vector<int> workers = {};        // empty = the study's own, or 1, 2, 4 … usable processors
  std::vector<std::size_t> sizes = {};  // empty = the study's own
  std::map<std::string, std::vector<record_layer::PointValue>> dimensions = {};  // those named replace the study's
  std::vector<Pin> pins = {};                                                    // empty = the study's own, or off
  std::vector<std::string> variants = {};                                        // names, or name (crew); empty = all
  int rounds = 0;         // of every cell, and as many to confirm; 0 = in stages, 11 to 60, until narrow enough
  double width = 0.05;    // that half-width of the intervals, relative to the median
  double budget_s = 60;   // wall time of the whole study, kept within 15 % or one visit of every cell. 0 = no limit
  bool confirm = true;    // try the best again, and what is not told apart from it, in fresh rounds
  double matters = 0.01;  // "faster" and "best" are claimed beyond this share; smaller differences do not matter
  // Confirming rounds lie in blocks, each with an input process of its own, for which the program is started anew, so
  // that its memory layout is drawn again: in so many at least, six otherwise. 0 = it is not started anew.
  int launches = 6;
  std::uint64_t seed = 0;   // of the order of cells; 0 = a fresh one, kept in the record
  bool stands = true;       // each cell in a process of its own; false is for debuggers
  double call_limit_s = 0;  // longest call; 0 = 30 times the baseline's, at most a 20th of the budget, but 3 s at least
  std::uint64_t memory_limit_bytes = 0;  // that a cell may take on top of its input; 0 = 90 % of what is free
  double wait_idle_s = 0;  // for other programs to leave the machine, before and between rounds; beyond the budget
  bool crowd = true;       // measure how copies of the baseline slow each other down
  Metering meter = Metering::few;
  // What begins the workers of a crew that needs one (RankCrew): words, with @(workers), @(ranks), @(size) and
  // dimensions put in; empty = mpirun -n @(ranks), where there is one. There are as many ranks as workers, or, with a
  // dimension threads_per_rank, so many times less.
  std::string launcher = {};
  bool let_print = false;  // what variants print goes to standard error, not aside
  std::string again = {};  // with a record to go on from: try this variant afresh, and the baseline, and nothing else
};

namespace study_layer {

// A plan with everything decided. Throws Error (study.grid, study.variant, study.plan) for what cannot be run.
struct Grid {
  std::vector<Point> points;
  std::vector<int> workers;
  std::vector<std::size_t> variants;  // their numbers in the study's list
  bool workers_asked = false;         // by the plan

  // The worker counts that are tried at a point: all, or under weak scaling the one its size was grown for.
  std::vector<int> workers_at(const Point& point) const;
  // Of them, those of a variant, which may have counts of its own. Those of the plan limit them.
  std::vector<int> workers_of(const VariantOutline& variant, const Point& point) const;
};
Grid decide(const Outline& study, const Plan& plan, int usable_processors);

// 1, 2, 4 … up to the usable processors, and that number.
std::vector<int> default_workers(int usable_processors);

}  // namespace study_layer

}  // namespace antcrew
