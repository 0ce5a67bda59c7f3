// What the lists of fields are given: writers and readers of JSON objects, of any type that has the usual calls.
#pragma once

#include <cstdio>
#include <cstdlib>
#include <optional>
#include <type_traits>

namespace antcrew::internal {

template <class Json>
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

template <class Json>
struct FieldReader {
  const Json& json;
  template <class T>
  void operator()(const char* name, T& value) const {
    json.at(name).get_to(value);
  }
  // Absent and null both mean "unknown", or "none".
  template <class T>
  void later(const char* name, T& value) const {
    if (const auto found = json.find(name); found != json.end() && !found->is_null()) found->get_to(value);
  }
  template <class T>
  void later(const char* name, std::optional<T>& value) const {
    if (const auto found = json.find(name); found != json.end() && !found->is_null()) value = found->template get<T>();
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
template <class Json>
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
