#include "antcrew/study/plan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::study_layer {
namespace {

std::vector<std::size_t> chosen_variants(const Outline& study, const Plan& plan) {
  const std::vector<VariantOutline>& all = study.variants();
  std::vector<std::size_t> chosen;
  for (const std::string& wanted : plan.variants) {
    const std::size_t before = chosen.size();
    for (std::size_t i = 0; i < all.size(); ++i) {
      if (all[i].name == wanted || all[i].key() == wanted) chosen.push_back(i);
    }
    if (chosen.size() == before) {
      std::vector<std::string> known;
      for (const VariantOutline& variant : all) known.push_back("'" + variant.name + "'");
      bad_input("study.variant", "study '" + study.title() + "'", "no variant '" + wanted + "'",
                "choose from " + joined(known));
    }
  }
  if (plan.variants.empty()) {
    for (std::size_t i = 0; i < all.size(); ++i) chosen.push_back(i);
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
  if (!(plan.matters >= 0 && plan.matters < 1)) {
    bad_input("study.plan", "plan", "a difference that matters of " + std::to_string(plan.matters),
              "give a share from 0 to below 1, such as 0.01");
  }
  if (!(plan.wait_idle_s >= 0 && plan.wait_idle_s <= 1e6)) {
    bad_input("study.plan", "plan", "waiting " + std::to_string(plan.wait_idle_s) + " s for an idle machine",
              "give 0 to a million seconds");
  }
  if (plan.launches < 0 || plan.launches > 1000) {
    bad_input("study.plan", "plan", std::to_string(plan.launches) + " launches", "give 0 to 1,000");
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

std::map<std::string, std::vector<PointValue>> chosen_dimensions(const Outline& study, const Plan& plan) {
  auto dimensions = study.dimensions();
  for (const auto& [name, values] : plan.dimensions) {
    // One that the launcher alone has use for, such as hosts, need not be the study's.
    const bool launchers = plan.launcher.find("@(" + name + ")") != std::string::npos;
    if (dimensions.count(name) == 0 && launchers && !values.empty()) {
      dimensions[name] = values;
      continue;
    }
    if (dimensions.count(name) == 0) {
      std::vector<std::string> known;
      for (const auto& [own, unused] : dimensions) known.push_back(own);
      bad_input("study.grid", "study '" + study.title() + "'", "no dimension '" + name + "'",
                known.empty() ? "it has sizes only" : "choose from " + joined(known));
    }
    if (values.empty())
      bad_input("study.grid", "dimension '" + name + "'", "an empty list of values", "give at least one");
    const bool words = dimensions[name].front().is_word();
    for (const PointValue& value : values) {
      if (value.is_word() != words)
        bad_input("study.grid", "dimension '" + name + "'",
                  "the value '" + value.text() + "' where the study has " + (words ? "words" : "numbers"),
                  words ? "give one of its words" : "give counts such as 1k,1M");
    }
    dimensions[name] = values;
  }
  return dimensions;
}

// Every point so far, with each value of one more dimension.
std::vector<Point> crossed(const std::vector<Point>& points, const std::string& name,
                           const std::vector<PointValue>& values) {
  std::vector<Point> all;
  for (const Point& point : points) {
    for (const PointValue& value : values) {
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

// Before any of them is made: what a slip of a list's end asks for would fill the memory.
void refuse_too_many(const Grid& grid, const Outline& study,
                     const std::map<std::string, std::vector<PointValue>>& dimensions, std::size_t sizes,
                     std::size_t pins) {
  constexpr double most_cells = 100'000;
  double points =
      static_cast<double>(std::max<std::size_t>(1, sizes)) * static_cast<double>(std::max<std::size_t>(1, pins));
  for (const auto& [name, values] : dimensions) points *= static_cast<double>(values.size());
  if (study.growth()) points *= static_cast<double>(grid.workers.size());
  double cells_each = 1;  // the baseline's
  for (const std::size_t variant : grid.variants) {
    const std::size_t own = study.variants()[variant].workers.size();
    cells_each += study.growth() ? 1 : static_cast<double>(own > 0 ? own : grid.workers.size());
  }
  if (points * cells_each <= most_cells) return;
  bad_input("study.grid", "study '" + study.title() + "'",
            fmt::format("{:.0f} points with {:.0f} cells each: more than the {:.0f} cells a study may have", points,
                        cells_each, most_cells),
            "give fewer sizes, values or worker counts, or several studies");
}

std::vector<Point> grown(const std::vector<Point>& points, const std::vector<int>& workers, const Outline& study) {
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

std::vector<int> Grid::workers_of(const VariantOutline& variant, const Point& point) const {
  if (variant.workers.empty() || point.grown_for > 0) return workers_at(point);
  std::vector<int> own;
  for (const int count : variant.workers) {
    if (!workers_asked || std::find(workers.begin(), workers.end(), count) != workers.end()) own.push_back(count);
  }
  return own;
}

Grid decide(const Outline& study, const Plan& plan, int usable_processors) {
  study.check_description();
  check_limits(plan);
  const std::string where = "study '" + study.title() + "'";
  Grid grid;
  grid.workers = !plan.workers.empty() ? plan.workers : study.workers();
  if (grid.workers.empty()) grid.workers = default_workers(usable_processors);
  check_workers(grid.workers, where);
  const std::vector<std::size_t>& sizes = !plan.sizes.empty() ? plan.sizes : study.sizes();
  if (!study.has_sizes() && !plan.sizes.empty())
    bad_input("study.grid", where, "no sizes in this study, so none can be chosen", "leave --sizes out");
  if (study.has_sizes()) {
    if (sizes.empty()) bad_input("study.grid", where, "no sizes", "give some with study.sizes({…}) or --sizes");
    check_sizes(sizes, where);
  } else {
    grid.points.push_back(Point{});
  }
  grid.variants = chosen_variants(study, plan);
  const std::vector<Pin>& pins = !plan.pins.empty() ? plan.pins : study.pins();
  const auto dimensions = chosen_dimensions(study, plan);
  refuse_too_many(grid, study, dimensions, sizes.size(), pins.size());
  for (const std::size_t size : sizes) grid.points.push_back(Point{size});
  for (const auto& [name, values] : dimensions) grid.points = crossed(grid.points, name, values);
  if (!pins.empty()) grid.points = crossed(grid.points, pins);
  if (study.growth()) grid.points = grown(grid.points, grid.workers, study);
  grid.workers_asked = !plan.workers.empty();
  const bool any = std::any_of(grid.variants.begin(), grid.variants.end(), [&](std::size_t variant) {
    return !grid.workers_of(study.variants()[variant], grid.points.front()).empty();
  });
  if (!any) bad_input("study.grid", where, "no variant has one of these worker counts", "choose from their own counts");
  return grid;
}

}  // namespace antcrew::study_layer
