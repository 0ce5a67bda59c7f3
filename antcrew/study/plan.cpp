#include "antcrew/study/plan.hpp"

#include <algorithm>
#include <cmath>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::study_layer {
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
  if (plan.rounds < 0 || plan.rounds > 100'000) {
    bad_input("study.plan", "plan", std::to_string(plan.rounds) + " rounds",
              "give 1 to 100000, or 0 for as many as are needed");
  }
  if (!(plan.width > 0 && plan.width < 1)) {
    bad_input("study.plan", "plan", "an interval half-width of " + std::to_string(plan.width),
              "give a share such as 0.05");
  }
  if (!(plan.call_limit_s >= 0) || !std::isfinite(plan.call_limit_s)) {
    bad_input("study.plan", "plan", "a limit of " + std::to_string(plan.call_limit_s) + " s a call",
              "give seconds, or 0");
  }
  if (!(plan.budget_s >= 0) || !std::isfinite(plan.budget_s)) {
    bad_input("study.plan", "plan", "a budget of " + std::to_string(plan.budget_s) + " s",
              "give seconds, or 0 for no limit");
  }
}

std::map<std::string, std::vector<std::size_t>> chosen_dimensions(const StudyBase& study, const Plan& plan) {
  auto dimensions = study.dimensions();
  for (const auto& [name, values] : plan.dimensions) {
    if (dimensions.count(name) == 0) {
      std::vector<std::string> known;
      for (const auto& [own, unused] : dimensions) known.push_back(own);
      bad_input("study.grid", "study '" + study.title() + "'", "no dimension '" + name + "'",
                known.empty() ? "it has sizes only" : "choose from " + joined(known));
    }
    if (values.empty())
      bad_input("study.grid", "dimension '" + name + "'", "an empty list of values", "give at least one");
    dimensions[name] = values;
  }
  return dimensions;
}

// Every point so far, with each value of one more dimension.
std::vector<Point> crossed(const std::vector<Point>& points, const std::string& name,
                           const std::vector<std::size_t>& values) {
  std::vector<Point> all;
  for (const Point& point : points) {
    for (const std::size_t value : values) {
      all.push_back(point);
      all.back().dimensions[name] = value;
    }
  }
  return all;
}

std::vector<Point> crossed(const std::vector<Point>& points, const std::vector<Pin>& pins) {
  std::vector<Point> all;
  for (const Point& point : points) {
    for (const Pin pin : pins) {
      all.push_back(point);
      all.back().pin = pin;
    }
  }
  return all;
}

std::vector<Point> grown(const std::vector<Point>& points, const std::vector<int>& workers, const StudyBase& study) {
  std::vector<Point> all;
  for (const Point& point : points) {
    for (const int count : workers) {
      Point larger = point;
      larger.base_size = point.size;
      larger.grown_for = count;
      larger.size = study.growth()(point.size, count);
      if (larger.size == 0) {
        bad_input("study.grid", "study '" + study.title() + "'",
                  "the work function gives size 0 for " + std::to_string(count) + " workers",
                  "return the size that holds workers × the work");
      }
      all.push_back(larger);
    }
  }
  return all;
}

}  // namespace

std::vector<int> default_workers(int usable_processors) {
  std::vector<int> counts;
  for (int count = 1; count < usable_processors; count *= 2) counts.push_back(count);
  counts.push_back(usable_processors);
  return counts;
}

std::vector<int> Grid::workers_at(const Point& point) const {
  return point.grown_for > 0 ? std::vector<int>{point.grown_for} : workers;
}

Grid decide(const StudyBase& study, const Plan& plan, int usable_processors) {
  study.check_description();
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
  for (const auto& [name, values] : chosen_dimensions(study, plan)) grid.points = crossed(grid.points, name, values);
  const std::vector<Pin>& pins = !plan.pins.empty() ? plan.pins : study.pins();
  if (!pins.empty()) grid.points = crossed(grid.points, pins);
  if (study.growth()) grid.points = grown(grid.points, grid.workers, study);
  grid.variants = chosen_variants(study, plan);
  return grid;
}

}  // namespace antcrew::study_layer
