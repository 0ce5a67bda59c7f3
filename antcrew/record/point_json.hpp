// A value of a dimension as JSON: a number or a text.
#pragma once

#include <string>

#include "antcrew/record/point.hpp"

namespace antcrew::record_layer {

template <class Json>
void to_json(Json& json, const PointValue& value) {
  if (value.is_word()) {
    json = value.word();
  } else {
    json = value.number();
  }
}

template <class Json>
void from_json(const Json& json, PointValue& value) {
  value =
      json.is_string() ? PointValue(json.template get<std::string>()) : PointValue(json.template get<std::size_t>());
}

}  // namespace antcrew::record_layer
