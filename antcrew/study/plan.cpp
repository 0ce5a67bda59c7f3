#include "antcrew/study/plan.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew {
namespace {

std::vector<const VariantDefinition*> chosen_variants(const StudyBase& study, const Plan& plan) {
  std::vector<const VariantDefinition*> chosen;
  for (const std::string& wanted : plan.variants) {
    const std::size_t before = chosen.size();
    for (const VariantDefinition& variant : study.variants()) {
      if (variant.name == wanted || variant.key() == wanted) chosen.push_back(&variant);
    }
    if (chosen.size() == before) {
      std::vector<std::string> known;
      for (const VariantDefinition& variant : study.variants()) known.push_back("'" + variant.name + "'");
      bad_input("study.variant", "study '" + study.title() + "'", "no variant '" + wanted + "'",
                "choose from " + joined(known));
    }
  }
  if (plan.variants.empty()) {
    for (const VariantDefinition& variant : study.variants()) chosen.push_back(&variant);
  }
  if (chosen.empty()) {
    bad_input("study.variant", "study '" + study.title() + "'", "no variant to compare with the baseline",
              "add one with study.variant<ThreadCrew>(name, body)");
  }
  return chosen;
}

void check_limits(const Plan& plan) {
  if (plan.rounds < 1 || plan.rounds > 100'000) {
    bad_input("study.plan", "plan", std::to_string(plan.rounds) + " rounds", "give 1 to 100000");
  }
  if (!(plan.budget_s >= 0) || !std::isfinite(plan.budget_s)) {
    bad_input("study.plan", "plan", "a budget of " + std::to_string(plan.budget_s) + " s",
              "give seconds, or 0 for no limit");
  }
}

}  // namespace

std::vector<int> default_workers(int usable_processors) {
  std::vector<int> counts;
  for (int count = 1; count < usable_processors; count *= 2) counts.push_back(count);
  counts.push_back(usable_processors);
  return counts;
}

Grid decide(const StudyBase& study, const Plan& plan, int usable_processors) {
  check_limits(plan);
  const std::string where = "study '" + study.title() + "'";
  Grid grid;
  grid.workers = !plan.workers.empty() ? plan.workers : study.workers();
  if (grid.workers.empty()) grid.workers = default_workers(usable_processors);
  check_workers(grid.workers, where);
  const std::vector<std::size_t>& sizes = !plan.sizes.empty() ? plan.sizes : study.sizes();
  if (sizes.empty()) bad_input("study.grid", where, "no sizes", "give some with study.sizes({…}) or --sizes");
  check_sizes(sizes, where);
  for (const std::size_t size : sizes) grid.points.push_back(Point{size});
  grid.variants = chosen_variants(study, plan);
  return grid;
}

}  // namespace antcrew
