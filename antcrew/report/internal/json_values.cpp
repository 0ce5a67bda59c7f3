#include "antcrew/report/internal/json_values.hpp"

#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/record/point_json.hpp"

namespace antcrew::internal {
namespace {

Json finite(double value) {
  return std::isfinite(value) ? Json(value) : Json(nullptr);
}

}  // namespace

Json estimate_json(const std::optional<Estimate>& e) {
  if (!e) return nullptr;
  if (e->claimed)
    return {{"median", e->median}, {"low", e->low}, {"high", e->high}, {"level", 0.95}, {"rounds", e->count}};
  return {{"median", e->median}, {"least_seen", e->low}, {"most_seen", e->high}, {"rounds", e->count}};
}

Json bounds_json(const std::optional<Bounds>& b) {
  return b ? Json{{"value", finite(b->value)}, {"low", finite(b->low)}, {"high", finite(b->high)}} : Json();
}

Json text_or_null(const std::string& text) {
  return text.empty() ? Json(nullptr) : Json(text);
}

Json whose_json(const Analysed& study, const CellFigures* cell) {
  if (cell == nullptr)
    return {{"variant", nullptr}, {"crew", nullptr}, {"workers", nullptr}, {"size", nullptr}, {"dimensions", nullptr}};
  const Point& point = study.record->points[cell->cell->point];
  return {{"variant", cell->cell->variant},
          {"crew", cell->cell->crew},
          {"workers", cell->cell->workers},
          {"size", point.size},
          {"dimensions", point.dimensions}};
}

}  // namespace antcrew::internal
