#include <antcrew/antcrew.hpp>
#include <numeric>

int main(int argc, char** argv) {
  using namespace antcrew;
  const auto make = [](std::size_t n) {
    std::vector<int> levels(n);
    std::iota(levels.begin(), levels.end(), 0);
    return levels;
  };
  Study sums("Sum of levels", make,
             [](const std::vector<int>& in) { return std::accumulate(in.begin(), in.end(), 0LL); });
  sums.sizes({1000});
  sums.variant<ThreadCrew>("folded", [](const auto& in, auto& crew) {
    const auto part = [&](Range r) { return std::accumulate(&in[0] + r.first, &in[0] + r.last, 0LL); };
    return crew.fold(in.size(), 0LL, part, std::plus<>());
  });
  return study_main(argc, argv, sums);
}
