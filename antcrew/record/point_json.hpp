// A value of a dimension as JSON: a number or a text.
#pragma once

#include <string>

#include "antcrew/record/json.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/point.hpp"

namespace antcrew::record_layer {

inline void to_json(Json& json, const PointValue& value) {
  if (value.is_word()) {
    json = value.word();
  } else {
    json = value.number();
  }
}

inline void from_json(const Json& json, PointValue& value) {
  value = json.is_string() ? PointValue(json.get<std::string>()) : PointValue(json.get<std::size_t>());
}

}  // namespace antcrew::record_layer
