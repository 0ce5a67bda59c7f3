// What it costs to hand out a piece: a million bodies of some 40 ns, taken one by one. Overhead / pieces is the figure.
#include <antcrew/antcrew.hpp>

namespace {

// Some 40 ns of arithmetic, each step waiting for the one before.
inline std::uint64_t body(std::uint64_t x) {
  for (int k = 0; k < 22; ++k) x = x * 0x9E37'79B9'7F4A'7C15u + 1;
  return x;
}

// Always 0, but only at run time: it makes a body wait for the one before, so that none is hidden behind another.
volatile std::uint64_t nothing = 0;

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  const auto make = [](std::size_t n) { return n; };
  const auto in_order = [](const std::size_t& n) {
    const std::uint64_t zero = nothing;
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < n; ++i) sum ^= body(i ^ (sum & zero));
    return sum;
  };
  Study study("A million pieces handed out one by one", make, in_order);
  study.sizes({1'000'000});
  study.workers({1, 2});
  study.variant<ThreadCrew>("chunks(1)", [](const std::size_t& n, auto& crew) {
    const std::uint64_t zero = nothing;
    Tally<std::uint64_t> sums;
    crew.ranges(n, Split::chunks(1), [&](Range range) {
      std::uint64_t& sum = sums.mine();
      sum ^= body(range.first ^ (sum & zero));
    });
    return sums.merged(std::uint64_t{0}, [](std::uint64_t a, std::uint64_t b) { return a ^ b; });
  });
  study.variant<TaskCrew>("Grain{1}", [](const std::size_t& n, auto& crew) {
    const std::uint64_t zero = nothing;
    Tally<std::uint64_t> sums;
    crew.ranges(n, Grain{1}, [&](Range range) {
      std::uint64_t& sum = sums.mine();
      sum ^= body(range.first ^ (sum & zero));
    });
    return sums.merged(std::uint64_t{0}, [](std::uint64_t a, std::uint64_t b) { return a ^ b; });
  });
  return study_main(argc, argv, study);
}
