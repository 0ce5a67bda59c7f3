// What several JSON documents hold, written in one way.
#pragma once

#include <optional>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/models.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// An interval has low and high; what was merely seen has other names, so that nobody takes it for one.
Json estimate_json(const std::optional<Estimate>& estimate);
// {"median", "low", "high"}
template <class Interval>
Json interval_json(const std::optional<Interval>& e) {
  return e ? Json{{"median", e->median}, {"low", e->low}, {"high", e->high}} : Json();
}
// What has no end is null.
Json bounds_json(const std::optional<Bounds>& bounds);
// Null where it is empty.
Json text_or_null(const std::string& text);

// {"variant", "crew", "workers", "size", "dimensions"}; nulls for no cell.
Json whose_json(const Analysed& study, const CellFigures* cell);

}  // namespace antcrew::internal
