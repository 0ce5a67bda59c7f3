// Tide heights at many soundings of the Brackwater estuary: even, independent work.
//
// Each height is a sum of tidal constituents, cosines with an amplitude, a speed and a phase of their own that the
// sounding's place shifts. Nothing depends on anything else, so this is as good as parallel work gets.
#include <antcrew/studies.hpp>
#include <thread>
#include <vector>

#include "estuary/tide_heights.hpp"

namespace estuary {

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
    crew.each(soundings.size(), [&](std::size_t i) { result[i] = estuary::height(soundings[i]); },
              {.split = Split::chunks(256)});
    return result;
  });
  // [end of chunks]
  const auto by_hand = tides.variant<Workers>("threads by hand", [](const auto& soundings, Workers workers) {
    return estuary::heights_by_hand(soundings, workers);
  });
  // What a rewrite gains stands beside the lines that it takes.
  tides.baseline_source(estuary::heights_source, "one after the other");
  evenly.source(__FILE__, "evenly");
  chunks.source(__FILE__, "chunks");
  by_hand.source(__FILE__, "by hand");
  tides.ladder({chunks, evenly});  // a vector made and zeroed by the caller first, then each worker fills its own part
  return study_main(argc, argv, tides);
}
