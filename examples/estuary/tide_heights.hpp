// The work of the tides: the height of one sounding, a sum of tidal constituents.
#pragma once

#include <array>
#include <cmath>
#include <cstddef>
#include <random>
#include <vector>

namespace estuary {

struct Sounding {
  double east_km = 0;
  double north_km = 0;
  double hour = 0;
};

struct Constituent {
  double amplitude_m;
  double degrees_per_hour;
  double phase_degrees;
};

// Made-up amplitudes and phases; the speeds are astronomical.
constexpr std::array<Constituent, 8> constituents = {{{1.91, 28.984104, 112.0},
                                                      {0.63, 30.0, 151.5},
                                                      {0.38, 28.439730, 93.2},
                                                      {0.17, 30.082137, 149.0},
                                                      {0.09, 15.041069, 8.4},
                                                      {0.08, 13.943036, 341.7},
                                                      {0.05, 57.968208, 203.1},
                                                      {0.03, 86.952313, 77.9}}};

inline std::vector<Sounding> make_soundings(std::size_t n) {
  std::mt19937_64 random(20'260'413);
  std::uniform_real_distribution<double> km(0, 24);
  std::uniform_real_distribution<double> hour(0, 8766);
  std::vector<Sounding> soundings(n);
  for (Sounding& s : soundings) s = {km(random), km(random), hour(random)};
  return soundings;
}

inline double height(const Sounding& at) {
  constexpr double radians = 3.14159265358979323846 / 180;
  double sum = 0;
  for (const Constituent& c : constituents) {
    const double delay = 0.8 * at.east_km + 0.3 * at.north_km;  // degrees: the wave needs time to run up the estuary
    sum += c.amplitude_m * std::cos((c.degrees_per_hour * at.hour - c.phase_degrees - delay) * radians);
  }
  return sum;
}

// What an engineer has before thinking of threads. [one after the other]
inline std::vector<double> heights(const std::vector<Sounding>& soundings) {
  std::vector<double> result(soundings.size());
  for (std::size_t i = 0; i < soundings.size(); ++i) result[i] = height(soundings[i]);
  return result;
}
// [end of one after the other]
inline constexpr const char* heights_source = __FILE__;

}  // namespace estuary
