// A study whose size is the length of a call in microseconds, to see what a study's own time goes into.
//
//   bench_lengths --sizes 11               # tiny calls
//   bench_lengths --sizes 5M --budget 40   # calls of five seconds
#include <cmath>

#include "antcrew/antcrew.hpp"

namespace {

// About a nanosecond a step, on any data.
double steps(std::size_t count, double from) {
  double x = from;
  for (std::size_t i = 0; i < count; ++i) x = x * 0.999999 + 1e-6;
  return x;
}

constexpr std::size_t steps_of_a_microsecond = 350;

double alone(const std::size_t& microseconds) {
  double sum = 0;
  for (int part = 0; part < 4; ++part) sum += steps(microseconds * steps_of_a_microsecond / 4, part);
  return sum;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study lengths(
      "Calls of a given length", [](std::size_t n) { return n; }, alone, within(1e-9));
  lengths.sizes({11});
  lengths.on_every_crew("in four parts", [](const std::size_t& microseconds, auto& crew) {
    return crew.fold(
        4, 0.0,
        [&](Range parts) {
          double sum = 0;
          for (const std::size_t part : parts)
            sum += steps(microseconds * steps_of_a_microsecond / 4, static_cast<double>(part));
          return sum;
        },
        std::plus<>());
  });
  return study_main(argc, argv, lengths);
}
