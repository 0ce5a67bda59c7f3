// What it costs to hand out a piece: a million bodies, taken one by one. With 22 steps in a body (some 40 ns)
// overhead / pieces is the figure; with 1 step (some 2 ns) there is next to nothing that the taking could hide
// behind, so that 2·T / pieces bounds it from above.
#include <antcrew/antcrew.hpp>

namespace {

struct Pieces {
  std::size_t count;
  std::size_t steps;
};

// Each step waits for the one before, some 1.8 ns.
inline std::uint64_t body(std::uint64_t x, std::size_t steps) {
  for (std::size_t k = 0; k < steps; ++k) x = (x ^ (x >> 29)) * 0x9E37'79B9'7F4A'7C15u;
  return x;
}

// Always 0, but only at run time: it makes a body wait for the one before, so that none is hidden behind another.
volatile std::uint64_t nothing = 0;

template <class Crew, class How>
std::uint64_t in_pieces(const Pieces& in, Crew& crew, How how) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const std::uint64_t zero = nothing;
  Tally<std::uint64_t> sums;
  crew.ranges(in.count, how, [&](Range range) {
    std::uint64_t& sum = sums.mine();
    sum ^= body(range.first ^ (sum & zero), in.steps);
  });
  return sums.merged(std::uint64_t{0}, [](std::uint64_t a, std::uint64_t b) { return a ^ b; });
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto make = [](const Point& at) { return Pieces{at.size, static_cast<std::size_t>(at["steps"])}; };
  const auto in_order = [](const Pieces& in) {
    const std::uint64_t zero = nothing;
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < in.count; ++i) sum ^= body(i ^ (sum & zero), in.steps);
    return sum;
  };
  Study study("A million pieces handed out one by one", make, in_order);
  study.sizes({1'000'000});
  study.dimension("steps", {1, 22});
  study.workers({1, 2});
  study.variant<ThreadCrew>("chunks(1)",
                            [](const Pieces& in, auto& crew) { return in_pieces(in, crew, Split::chunks(1)); });
  study.variant<TaskCrew>("Grain{1}", [](const Pieces& in, auto& crew) { return in_pieces(in, crew, Grain{1}); });
  return study_main(argc, argv, study);
}
