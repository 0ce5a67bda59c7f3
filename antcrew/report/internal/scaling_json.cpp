#include "antcrew/report/internal/scaling_json.hpp"

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/models.hpp"
#include "antcrew/analysis/sizes.hpp"
#include "antcrew/report/internal/json_values.hpp"

namespace antcrew::internal {
namespace {

const char* kind_name(Crossover::Kind kind) {
  constexpr const char* names[] = {"everywhere", "nowhere", "between", "open"};
  return names[static_cast<std::size_t>(kind)];
}

Json fit_json(const ScalingFit& fit) {
  Json json = {{"model", name_of(fit.model)}};
  Json parameters = Json::object();
  for (const auto& [name, value] : fit.parameters) parameters[name] = bounds_json(value);
  json["parameters"] = std::move(parameters);
  json["aicc"] = fit.aicc;
  json["misfit"] = fit.misfit;
  json["limit_speedup"] = bounds_json(fit.limit_speedup);
  json["peak_workers"] = bounds_json(fit.peak_workers);
  Json speedup = Json::array();
  for (const auto& [workers, value] : fit.speedup) {
    Json at = bounds_json(value);
    at["workers"] = workers;
    speedup.push_back(std::move(at));
  }
  json["speedup"] = std::move(speedup);
  return json;
}

Json models_json(const Analysed& study) {
  Json models = Json::array();
  for (const CurveModels& curve : models_of(study)) {
    Json json = whose_json(study, curve.of);
    json["measured_workers"] = curve.scaling.workers;
    json["refused"] = text_or_null(curve.scaling.refused);
    json["beyond"] = text_or_null(curve.scaling.beyond);
    Json fits = Json::array();
    for (const ScalingFit& fit : curve.scaling.fits) fits.push_back(fit_json(fit));
    json["fits"] = std::move(fits);
    models.push_back(std::move(json));
  }
  return models;
}

Json crossovers_json(const Analysed& study) {
  Json all = Json::array();
  for (const Crossover& c : crossovers_of(study)) {
    Json json = whose_json(study, c.of);
    json.erase("size");
    json["kind"] = kind_name(c.kind);
    json["size"] = bounds_json(c.size);
    json["sure_from"] = c.sure_from > 0 ? Json(c.sure_from) : Json(nullptr);
    json["size_to_add"] = c.size_to_add > 0 ? Json(c.size_to_add) : Json(nullptr);
    json["sizes"] = c.sizes;
    all.push_back(std::move(json));
  }
  return all;
}

Json lines_json(const Analysed& study) {
  Json all = Json::array();
  for (const SizeLine& line : size_lines_of(study)) {
    Json json = whose_json(study, line.of);
    json["fixed_s"] = bounds_json(line.fixed_s);
    json["per_item_s"] = bounds_json(line.per_item_s);
    json["break_even_size"] = bounds_json(line.break_even_size);
    json["break_even_calls"] = line.break_even_calls;
    all.push_back(std::move(json));
  }
  return all;
}

Json worth_json(const Analysed& study) {
  Json all = Json::array();
  for (std::size_t k = 0; k < study.curves.size(); ++k) {
    const CellFigures& last = study.cells[study.curves[k].back()];
    const auto enough = worth_it(study, k);
    if (!enough || last.cell->kind != Cell::Kind::variant || study.curves[k].size() < 2) continue;
    Json json = whose_json(study, enough->of);
    json["fastest_workers"] = enough->best->cell->workers;
    json["slower_at_most"] = enough->slower_at_most;
    all.push_back(std::move(json));
  }
  return all;
}

Json weak_json(const Analysed& study) {
  Json all = Json::array();
  for (const WeakScaling& w : weak_scaling_of(study)) {
    Json json = whose_json(study, w.of);
    json["efficiency"] = {{"value", w.efficiency.median}, {"low", w.efficiency.low}, {"high", w.efficiency.high}};
    json["claimed"] = w.efficiency.claimed;
    all.push_back(std::move(json));
  }
  return all;
}

Json ceilings_json(const Analysed& study) {
  Json all = Json::array();
  for (const CellFigures* cell : explained_cells(study)) {
    for (const PhaseCeiling& c : phase_ceilings_of(study, *cell)) {
      Json json = whose_json(study, cell);
      json["phase"] = c.phase;
      json["share"] = c.share;
      json["limit_speedup"] = c.limit_speedup;
      all.push_back(std::move(json));
    }
    if (const auto path = critical_path_of(*cell)) {
      Json json = whose_json(study, cell);
      json["critical_path_s"] = *path;
      const CellFigures* baseline =
          cell->baseline < 0 ? nullptr : &study.cells[static_cast<std::size_t>(cell->baseline)];
      json["limit_speedup"] = baseline != nullptr && baseline->time_s ? Json(baseline->time_s->median / *path) : Json();
      all.push_back(std::move(json));
    }
  }
  return all;
}

Json timeline_json(const Timeline& line) {
  Json lanes = Json::array();
  for (const TimelineLane& lane : line.lanes) {
    Json stretches = Json::array();
    for (const TimelineStretch& s : lane.stretches) {
      const auto name = static_cast<std::size_t>(s.name);
      stretches.push_back({{"from_s", s.from_s},
                           {"to_s", s.to_s},
                           {"what", name_of(s.what)},
                           {"name", s.name >= 0 && name < line.names.size() ? Json(line.names[name]) : Json(nullptr)},
                           {"pieces", s.pieces}});
    }
    lanes.push_back({{"worker", lane.worker}, {"stretches", std::move(stretches)}});
  }
  return {{"wall_s", line.wall_s},
          {"workers", line.all_lanes},
          {"resolution_s", line.resolution_s},
          {"merged", line.merged},
          {"lanes", std::move(lanes)}};
}

}  // namespace

void add_scaling(const Analysed& study, Json& json) {
  json["models"] = models_json(study);
  json["crossovers"] = crossovers_json(study);
  json["lines"] = lines_json(study);
  json["worth_it"] = worth_json(study);
  json["weak_scaling"] = weak_json(study);
  json["ceilings"] = ceilings_json(study);
}

void add_timelines(const Analysed& study, Json& json) {
  Json all = Json::array();
  for (const CellFigures& cell : study.cells) {
    for (const LaneSums& sums : cell.cell->metered) {
      if (!sums.timeline) continue;
      Json its = whose_json(study, &cell);
      its.update(timeline_json(*sums.timeline));
      all.push_back(std::move(its));
    }
  }
  json["timelines"] = std::move(all);
}

}  // namespace antcrew::internal
