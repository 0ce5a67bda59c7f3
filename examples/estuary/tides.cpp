// Tide heights at many soundings of the Brackwater estuary: even, independent work.
//
// Each height is a sum of tidal constituents, cosines with an amplitude, a speed and a phase of their own that the
// sounding's place shifts. Nothing depends on anything else, so this is as good as parallel work gets.
#include <antcrew/antcrew.hpp>
#include <array>
#include <cmath>
#include <random>
#include <thread>
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

std::vector<Sounding> make_soundings(std::size_t n) {
  std::mt19937_64 random(20'260'413);
  std::uniform_real_distribution<double> km(0, 24);
  std::uniform_real_distribution<double> hour(0, 8766);
  std::vector<Sounding> soundings(n);
  for (Sounding& s : soundings) s = {km(random), km(random), hour(random)};
  return soundings;
}

double height(const Sounding& at) {
  constexpr double radians = 3.14159265358979323846 / 180;
  double sum = 0;
  for (const Constituent& c : constituents) {
    const double delay = 0.8 * at.east_km + 0.3 * at.north_km;  // degrees: the wave needs time to run up the estuary
    sum += c.amplitude_m * std::cos((c.degrees_per_hour * at.hour - c.phase_degrees - delay) * radians);
  }
  return sum;
}

// What an engineer has before thinking of threads. [one after the other]
std::vector<double> heights(const std::vector<Sounding>& soundings) {
  std::vector<double> result(soundings.size());
  for (std::size_t i = 0; i < soundings.size(); ++i) result[i] = height(soundings[i]);
  return result;
}

// [end of one after the other]

// Threads started for this one call and joined again, without a crew. [by hand]
std::vector<double> heights_by_hand(const std::vector<Sounding>& soundings, int workers) {
  std::vector<double> result(soundings.size());
  std::vector<std::jthread> threads;
  for (int w = 0; w < workers; ++w) {
    const auto mine =
        antcrew::even_part(soundings.size(), static_cast<std::size_t>(workers), static_cast<std::size_t>(w));
    threads.emplace_back([&, mine] {
      for (const std::size_t i : mine) result[i] = height(soundings[i]);
    });
  }
  threads.clear();  // joins
  return result;
}
// [end of by hand]

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  Study tides("Tide heights at every sounding", estuary::make_soundings, estuary::heights, within(1e-9));
  tides.sizes({1'000, 10'000, 100'000});

  // [evenly]
  const auto evenly = tides.variant<ThreadCrew>("split evenly", [](const auto& soundings, auto& crew) {
    return crew.collect(soundings.size(), [&](std::size_t i) { return estuary::height(soundings[i]); });
  });
  // [end of evenly] [chunks]
  const auto chunks = tides.variant<ThreadCrew>("in chunks of 256", [](const auto& soundings, auto& crew) {
    std::vector<double> result(soundings.size());
    crew.each(soundings.size(), Split::chunks(256), [&](std::size_t i) { result[i] = estuary::height(soundings[i]); });
    return result;
  });
  // [end of chunks]
  const auto by_hand = tides.variant<Workers>("threads by hand", [](const auto& soundings, Workers workers) {
    return estuary::heights_by_hand(soundings, workers);
  });
  // What a rewrite gains stands beside the lines that it takes.
  tides.baseline_source(__FILE__, "one after the other");
  evenly.source(__FILE__, "evenly");
  chunks.source(__FILE__, "chunks");
  by_hand.source(__FILE__, "by hand");
  tides.ladder({chunks, evenly});  // a vector made and zeroed by the caller first, then each worker fills its own part
  return study_main(argc, argv, tides);
}
