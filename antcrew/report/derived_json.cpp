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

Json cell_json(const CellFigures& f, const Point& point) {
  const bool figures = f.verdict == Verdict::holds || f.verdict == Verdict::too_noisy;
  const auto only = [&](const Json& value) { return figures ? value : Json(nullptr); };
  return {{"variant", f.cell->variant},
          {"crew", f.cell->crew},
          {"kind", name_of(f.cell->kind)},
          {"workers", f.cell->workers},
          {"size", point.size},
          {"dimensions", point.dimensions},
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
          {"busy_processors", number(f.busy_processors)}};
}

}  // namespace

std::string derived_json(const Analysed& study) {
  Json cells = Json::array();
  for (const CellFigures& f : study.cells) cells.push_back(cell_json(f, study.record->points[f.cell->point]));
  const Json json = {{"title", study.record->title},
                     {"headline", headline(study)},
                     {"warnings", study.warnings},
                     {"machine", Json::parse(to_json(study.record->machine))},
                     {"cells", std::move(cells)}};
  return json.dump(2) + "\n";
}

}  // namespace antcrew
