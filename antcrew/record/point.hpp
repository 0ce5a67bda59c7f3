// One place of a study's grid that an input is made for: a size, and a value of each further dimension. Pinning is one
// such dimension, in which the baseline takes part.
//
//   Readings make(const StudyPoint& at) { return make_readings(at.size, at["distinct"]); }
#pragma once

#include <compare>
#include <concepts>
#include <cstddef>
#include <cstdint>
#include <map>
#include <string>
#include <utility>

#include "antcrew/crew/crew_options.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::record_layer {

// A value of a dimension: a number or a word. Numbers come before words.
class PointValue {
 public:
  template <std::integral T>
  PointValue(T number) : number_(static_cast<std::size_t>(number)) {}
  PointValue() = default;
  PointValue(std::string word) : is_word_(true), word_(std::move(word)) {}
  PointValue(const char* word) : PointValue(std::string(word)) {}

  bool is_word() const noexcept { return is_word_; }
  std::size_t number() const noexcept { return number_; }  // 0 of a word
  const std::string& word() const noexcept { return word_; }
  std::string text() const { return is_word_ ? word_ : std::to_string(number_); }

  friend auto operator<=>(const PointValue&, const PointValue&) = default;
  friend bool operator==(const PointValue&, const PointValue&) = default;

 private:
  bool is_word_ = false;
  std::size_t number_ = 0;
  std::string word_;
};

struct Point {
  std::size_t size = 0;  // 0 = the study has no sizes
  std::map<std::string, PointValue> dimensions = {};
  Pin pin = Pin::off;
  std::size_t base_size = 0;  // weak scaling: the size that was grown with the workers; 0 = not grown
  int grown_for = 0;          // for this worker count
  std::uint64_t seed = 0;     // of the input: another one for each that the study was told to have by inputs(k), from 0

  // The value of a further dimension. Throws Error (study.dimension) when the study has none of that name, or its
  // values are words; and the other way round.
  std::size_t operator[](const std::string& dimension) const;
  const std::string& word(const std::string& dimension) const;

  friend bool operator==(const Point&, const Point&) = default;
};

}  // namespace antcrew::record_layer

namespace antcrew {

// What an input maker with further dimensions takes.
using StudyPoint = record_layer::Point;

}  // namespace antcrew
