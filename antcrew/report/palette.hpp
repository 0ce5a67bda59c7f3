// The looks of everything drawn: colours, markers, dashes. docs/palette.md says why.
//
//   const SeriesLook look = look_of(series.colour);
//
// Colour never carries meaning alone: each series has a marker and a dash of its own, and its name stands beside it.
#pragma once

#include <array>
#include <string>

#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// "#rrggbb", for a light and for a dark page. Any two differ for readers with any kind of colour vision: a test
// computes by how much.
struct Colour {
  const char* light;
  const char* dark;
};

inline constexpr std::array<Colour, 11> palette = {{{"#0553b1", "#639fff"},
                                                    {"#e45a86", "#e55760"},
                                                    {"#6e9d50", "#9dd9bb"},
                                                    {"#979000", "#969a07"},
                                                    {"#570070", "#885aa4"},
                                                    {"#0a90f7", "#14e0fa"},
                                                    {"#9d1b48", "#a9496b"},
                                                    {"#ac62a6", "#c882b1"},
                                                    {"#4f6300", "#546e00"},
                                                    {"#003b00", "#eac972"},
                                                    {"#6e0250", "#2c62cf"}}};
// What is not a series of its own: the baseline, what is not accounted for.
inline constexpr Colour grey = {"#6a737d", "#98a2ad"};
inline constexpr Colour page_colour = {"#ffffff", "#12171c"};
inline constexpr Colour text_colour = {"#1c232b", "#e4e9ee"};
inline constexpr Colour quiet_colour = {"#59636e", "#a3adb8"};  // of marks and ticks
inline constexpr Colour line_colour = {"#d8dde3", "#303841"};   // of the grid

enum class Marker { circle, square, triangle, diamond, down_triangle, pentagon };
enum class Dash { solid, dashed, dotted, long_dashed };

struct SeriesLook {
  Colour colour = grey;
  Marker marker = Marker::circle;
  Dash dash = Dash::solid;
};

// number: of the series, from 0 on; below 0: grey.
constexpr SeriesLook look_of(int number) {
  if (number < 0) return {grey, Marker::square, Dash::dashed};
  const auto n = static_cast<std::size_t>(number);
  return {palette[n % palette.size()], static_cast<Marker>(n % 6), static_cast<Dash>(n / 6 % 4)};
}

}  // namespace antcrew::report_layer
