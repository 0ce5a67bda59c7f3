#include "antcrew/report/palette.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <string>

#include "support/command.hpp"

using namespace antcrew::report_layer;

namespace {

using Triple = std::array<double, 3>;

double linear(int byte) {
  const double c = byte / 255.0;
  return c <= 0.04045 ? c / 12.92 : std::pow((c + 0.055) / 1.055, 2.4);
}
Triple rgb_of(const char* hex) {
  const long value = std::strtol(hex + 1, nullptr, 16);
  return {linear(static_cast<int>(value >> 16 & 255)), linear(static_cast<int>(value >> 8 & 255)),
          linear(static_cast<int>(value & 255))};
}
double luminance(const char* hex) {
  const Triple c = rgb_of(hex);
  return 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2];
}
double contrast(const char* a, const char* b) {
  const double u = luminance(a), v = luminance(b);
  return (std::max(u, v) + 0.05) / (std::min(u, v) + 0.05);
}

using Matrix = std::array<Triple, 3>;
Triple times(const Matrix& m, const Triple& v) {
  Triple out{};
  for (std::size_t r = 0; r < 3; ++r) out[r] = std::clamp(m[r][0] * v[0] + m[r][1] * v[1] + m[r][2] * v[2], 0.0, 1.0);
  return out;
}
// What readers without one kind of cone see (Machado, Oliveira and Fernandes 2009, "A physiologically-based model for
// simulation of color vision deficiency").
constexpr Matrix everybody = {{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}};
constexpr Matrix protan = {
    {{0.152286, 1.052583, -0.204868}, {0.114503, 0.786281, 0.099216}, {-0.003882, -0.048116, 1.051998}}};
constexpr Matrix deutan = {
    {{0.367322, 0.860646, -0.227968}, {0.280085, 0.672501, 0.047413}, {-0.011820, 0.042940, 0.968881}}};
constexpr Matrix tritan = {
    {{1.255528, -0.076749, -0.178779}, {-0.078411, 0.930809, 0.147602}, {0.004733, 0.691367, 0.303900}}};

// CIE 1976 L*a*b*, white point D65.
Triple lab(const Triple& c) {
  const Triple white = {0.95047, 1, 1.08883};
  const Triple xyz = {0.4124564 * c[0] + 0.3575761 * c[1] + 0.1804375 * c[2],
                      0.2126729 * c[0] + 0.7151522 * c[1] + 0.0721750 * c[2],
                      0.0193339 * c[0] + 0.1191920 * c[1] + 0.9503041 * c[2]};
  Triple f{};
  for (std::size_t k = 0; k < 3; ++k) {
    const double t = xyz[k] / white[k];
    f[k] = t > 0.008856 ? std::cbrt(t) : 7.787 * t + 16 / 116.0;
  }
  return {116 * f[1] - 16, 500 * (f[0] - f[1]), 200 * (f[1] - f[2])};
}

double smallest_difference(bool dark, const Matrix& seen) {
  double least = 1e9;
  for (std::size_t i = 0; i < palette.size(); ++i) {
    for (std::size_t j = 0; j < i; ++j) {
      const Triple a = lab(times(seen, rgb_of(dark ? palette[i].dark : palette[i].light)));
      const Triple b = lab(times(seen, rgb_of(dark ? palette[j].dark : palette[j].light)));
      least = std::min(least, std::hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]));
    }
  }
  return least;
}

}  // namespace

TEST_CASE("any two series differ for readers with every kind of colour vision, on light and on dark") {
  for (const bool dark : {false, true}) {
    for (const auto& [name, seen] :
         {std::pair{"all cones", everybody}, {"protan", protan}, {"deutan", deutan}, {"tritan", tritan}}) {
      const double least = smallest_difference(dark, seen);
      MESSAGE((dark ? "dark, " : "light, "), name, ": smallest difference ", least);
      CHECK(least >= 20);  // 2.3 is just noticeable side by side
    }
  }
}

TEST_CASE("series stand out from the page, and text can be read on it") {
  for (const Colour& colour : palette) {
    CHECK(contrast(colour.light, page_colour.light) >= 3);
    CHECK(contrast(colour.dark, page_colour.dark) >= 3);
  }
  for (const Colour& text : {text_colour, quiet_colour}) {
    CHECK(contrast(text.light, page_colour.light) >= 4.5);
    CHECK(contrast(text.dark, page_colour.dark) >= 4.5);
  }
}

TEST_CASE("two series of one colour still differ in marker and dash") {
  for (int a = 0; a < 24; ++a) {
    for (int b = 0; b < a; ++b) {
      const SeriesLook u = look_of(a), v = look_of(b);
      CHECK((u.marker != v.marker || u.dash != v.dash));
    }
  }
}

TEST_CASE("the page's style has the same colours") {
  const std::string style = test::read_file(std::string(ANTCREW_SOURCE) + "/antcrew/report/page/page.css");
  for (const char* colour : {page_colour.light, page_colour.dark, text_colour.light, text_colour.dark,
                             quiet_colour.light, quiet_colour.dark, line_colour.light, line_colour.dark})
    CHECK(test::contains(style, colour));
}
