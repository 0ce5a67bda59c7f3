// What the lists of fields are given: writers and readers of JSON objects.
#pragma once

#include <cstdio>
#include <cstdlib>
#include <optional>
#include <type_traits>
#include <vector>

#include "antcrew/record/json.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::internal {

struct FieldWriter {
  Json& json;
  template <class T>
  void operator()(const char* name, const T& value) const {
    json[name] = value;
  }
  template <class T>
  void later(const char* name, const T& value) const {
    json[name] = value;
  }
  template <class T>
  void later(const char* name, const std::optional<T>& value) const {
    json[name] = value ? Json(*value) : Json(nullptr);
  }
  template <class T>
  void operator()(const char* name, const std::optional<T>& value) const {
    later(name, value);
  }
};

struct FieldReader {
  const Json& json;
  template <class T>
  void operator()(const char* name, T& value) const {
    json.at(name).get_to(value);
  }
  // Absent and null both mean "unknown", or "none".
  template <class T>
  void later(const char* name, T& value) const {
    if (const Json* found = json.find(name); found != nullptr && !found->is_null()) found->get_to(value);
  }
  template <class T>
  void later(const char* name, std::optional<T>& value) const {
    if (const Json* found = json.find(name); found != nullptr && !found->is_null()) value = found->get<T>();
  }
  template <class T>
  void operator()(const char* name, std::optional<T>& value) const {
    later(name, value);
  }
};

// The columns in the order of a trial's fields: looked for once, not once a trial. Null = the record has none.
struct ColumnFinder {
  const Json& columns;
  std::vector<const Json*>& found;
  template <class T>
  void operator()(const char* name, T&) const {
    found.push_back(columns.find(name));
  }
  template <class T>
  void later(const char* name, T& value) const {
    (*this)(name, value);
  }
};

// One trial, from place `row` of the columns that were found. What they do not tell stays as it is.
struct RowReader {
  const std::vector<const Json*>& columns;
  std::size_t row;
  std::size_t& field;
  template <class T>
  void operator()(const char*, T& value) const {
    if (const Json* column = columns[field++]) (*column)[row].get_to(value);
  }
  template <class T>
  void later(const char*, T& value) const {
    const Json* column = columns[field++];
    if (column != nullptr && !(*column)[row].is_null()) (*column)[row].get_to(value);
  }
  template <class T>
  void later(const char*, std::optional<T>& value) const {
    const Json* column = columns[field++];
    if (column != nullptr && !(*column)[row].is_null()) value = (*column)[row].get<T>();
  }
  template <class T>
  void operator()(const char* name, std::optional<T>& value) const {
    later(name, value);
  }
};

// Enough digits for parts that add up to a thousandth of a per cent.
inline double short_number(double value) {
  char text[32];
  std::snprintf(text, sizeof text, "%.6g", value);
  return std::strtod(text, nullptr);
}

// Leaves out what is as usual.
struct ShortFieldWriter {
  Json& json;
  template <class T>
  void operator()(const char* name, const T& value) const {
    if constexpr (std::is_same_v<T, double>) {
      json[name] = short_number(value);
    } else {
      json[name] = value;
    }
  }
  template <class T>
  void later(const char* name, const T& value) const {
    if (!(value == T{})) (*this)(name, value);
  }
  template <class T>
  void later(const char* name, const std::optional<T>& value) const {
    if (value) (*this)(name, *value);
  }
  void later(const char* name, const bool& value) const { json[name] = value; }
};

}  // namespace antcrew::internal
