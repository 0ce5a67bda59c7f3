#include "antcrew/report/derived_json.hpp"

#include <nlohmann/json.hpp>

#include "antcrew/record/record_json.hpp"
#include "antcrew/report/headline.hpp"

namespace antcrew {
namespace {

using Json = nlohmann::ordered_json;

Json estimate(const std::optional<Estimate>& e) {
  if (!e) return nullptr;
  return {{"median", e->median},
          {"low", e->low},
          {"high", e->high},
          {"rounds", e->count},
          {"is_95_percent_interval", e->claimed}};
}

Json number(const std::optional<double>& value) {
  return value ? Json(*value) : Json(nullptr);
}

Json phases_json(const CellFigures& f) {
  Json phases = Json::object();
  for (const auto& [name, phase] : f.phases) phases[name] = {{"worker_s", phase.worker_s}, {"count", phase.count}};
  return phases;
}

Json ladders_json(const Analysed& study) {
  Json ladders = Json::array();
  for (const auto& steps : study.ladders) {
    Json ladder = Json::array();
    for (const LadderStep& step : steps) {
      ladder.push_back({{"variant", step.cell->cell->variant},
                        {"crew", step.cell->cell->crew},
                        {"attempt", step.cell->cell->attempt},
                        {"workers", step.cell->cell->workers},
                        {"over_previous", estimate(step.over_previous)},
                        {"speedup", estimate(step.cell->speedup)},
                        {"paired", step.paired}});
    }
    ladders.push_back(std::move(ladder));
  }
  return ladders;
}

Json crowds_json(const Analysed& study) {
  Json crowds = Json::array();
  for (const CrowdFigure& crowd : study.crowds) {
    crowds.push_back({{"size", study.record->points[crowd.point].size},
                      {"dimensions", study.record->points[crowd.point].dimensions},
                      {"copies", crowd.copies},
                      {"slowdown", crowd.slowdown}});
  }
  return crowds;
}

Json cell_json(const CellFigures& f, const Point& point) {
  const bool figures = f.verdict == Verdict::holds || f.verdict == Verdict::too_noisy;
  const auto only = [&](const Json& value) { return figures ? value : Json(nullptr); };
  return {{"variant", f.cell->variant},
          {"crew", f.cell->crew},
          {"kind", name_of(f.cell->kind)},
          {"workers", f.cell->workers},
          {"size", point.size},
          {"dimensions", point.dimensions},
          {"pin", name_of(point.pin)},
          {"base_size", point.base_size == 0 ? point.size : point.base_size},
          {"verdict", name_of(f.verdict)},
          {"evidence", f.evidence},
          {"time_s", estimate(f.time_s)},
          {"speedup", only(estimate(f.speedup))},
          {"self_speedup", only(estimate(f.self_speedup))},
          {"efficiency", only(number(f.efficiency))},
          {"processor_efficiency", only(number(f.processor_efficiency))},
          {"overhead_s", only(number(f.overhead_s))},
          {"relative_overhead", only(number(f.relative_overhead))},
          {"one_worker_penalty", only(number(f.one_worker_penalty))},
          {"serial_fraction", only(number(f.serial_fraction))},
          {"cpu_s", f.time_s ? Json(median_cpu_s(*f.cell)) : Json(nullptr)},
          {"busy_processors", number(f.busy_processors)},
          {"startup_s", number(f.startup_s)},
          {"cold_cost_s", number(f.cold_cost_s)},
          {"part_left_out_s", number(f.part_s)},
          {"peak_bytes", f.peak_bytes},
          {"peak_bytes_is_a_lower_bound", f.several_processes},
          {"attempt", f.cell->attempt},
          {"phases", phases_json(f)},
          {"counters", f.counters}};
}

}  // namespace

std::string derived_json(const Analysed& study) {
  Json cells = Json::array();
  for (const CellFigures& f : study.cells) cells.push_back(cell_json(f, study.record->points[f.cell->point]));
  const Json json = {{"title", study.record->title}, {"headline", headline(study)},
                     {"warnings", study.warnings},   {"machine", Json::parse(to_json(study.record->machine))},
                     {"crowds", crowds_json(study)}, {"ladders", ladders_json(study)},
                     {"cells", std::move(cells)}};
  return json.dump(2) + "\n";
}

}  // namespace antcrew
