// How a study is to be run: the grid, and how much time it may take.
//
//   Record record = run(tides, Plan{.workers = {1, 2, 4}, .budget_s = 30});
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/study/study_base.hpp"

namespace antcrew {

struct Plan {
  std::vector<int> workers = {};           // empty = the study's own, or 1, 2, 4 … usable processors
  std::vector<std::size_t> sizes = {};     // empty = the study's own
  std::vector<std::string> variants = {};  // names, or name (crew); empty = all
  int rounds = 11;                         // trials of every cell
  double budget_s = 60;    // wall time of the whole study; the round under way is finished. 0 = no limit
  std::uint64_t seed = 0;  // of the order of cells; 0 = a fresh one, kept in the record
};

// A plan with everything decided. Throws Error (study.grid, study.variant, study.plan) for what cannot be run.
struct Grid {
  std::vector<Point> points;
  std::vector<int> workers;
  std::vector<const VariantDefinition*> variants;
};
Grid decide(const StudyBase& study, const Plan& plan, int usable_processors);

// 1, 2, 4 … up to the usable processors, and that number.
std::vector<int> default_workers(int usable_processors);

}  // namespace antcrew
