// Algorithms against the standard library's sequential ones, with 1 and 2 workers.
#include <algorithm>
#include <antcrew/antcrew.hpp>
#include <cstdint>
#include <functional>
#include <numeric>
#include <random>
#include <unordered_map>
#include <vector>

namespace {

using Numbers = std::vector<std::uint32_t>;
constexpr std::size_t many = 4'000'000;

Numbers numbers(std::size_t n) {
  std::mt19937 random(static_cast<unsigned>(n));
  Numbers all(n);
  for (std::uint32_t& x : all) x = static_cast<std::uint32_t>(random());
  return all;
}
Numbers few_different(std::size_t n) {
  Numbers all = numbers(n);
  for (std::uint32_t& x : all) x %= 3;
  return all;
}
struct Two {
  Numbers first;
  Numbers second;
};
Two sorted_twice(std::size_t n) {
  Two two{numbers(n), numbers(n + 1)};
  two.second.pop_back();
  std::sort(two.first.begin(), two.first.end());
  std::sort(two.second.begin(), two.second.end());
  return two;
}

// Objects, not functions: those are called by their address where the compiler does not see which one it is.
constexpr auto odd = [](std::uint32_t x) { return x % 2 == 1; };
constexpr auto root = [](std::uint32_t x) { return 1.0 / (1.0 + x); };
const auto whole = [](const auto& all) -> const auto& {
  return all;
};
// Enough of a long result to compare it by.
template <class Items>
Numbers sampled(const Items& items) {
  Numbers some{static_cast<std::uint32_t>(items.size())};
  for (std::size_t i = 0; i < items.size(); i += 997) some.push_back(items[i]);
  return some;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  std::vector<const StudyBase*> all;
  const auto finish = [&all](auto& study) {
    study.sizes({many});
    study.workers({1, 2});
    all.push_back(&study);
  };

  Study counting("count_if", numbers, [](const Numbers& in) { return std::count_if(in.begin(), in.end(), odd); });
  counting.variant<ThreadCrew>("count_if", [](const Numbers& in, auto& crew) {
    return static_cast<std::ptrdiff_t>(antcrew::count_if(crew, in, odd));
  });
  finish(counting);

  Study summing(
      "transform_reduce", numbers,
      [](const Numbers& in) { return std::transform_reduce(in.begin(), in.end(), 0.0, std::plus<>(), root); },
      within(1e-9));
  summing.variant<ThreadCrew>("transform_reduce", [](const Numbers& in, auto& crew) {
    return antcrew::transform_reduce(crew, in, 0.0, std::plus<>(), root);
  });
  finish(summing);

  Study extremes("minmax_element", numbers, [](const Numbers& in) {
    const auto [a, b] = std::minmax_element(in.begin(), in.end());
    return std::uint64_t{*a} << 32 | *b;
  });
  extremes.variant<ThreadCrew>("minmax_element", [](const Numbers& in, auto& crew) {
    const auto both = antcrew::minmax_element(crew, in);
    return std::uint64_t{in[both->smallest]} << 32 | in[both->largest];
  });
  finish(extremes);

  InPlaceStudy parting(
      "stable_partition", numbers, [](Numbers& in) { std::stable_partition(in.begin(), in.end(), odd); }, whole,
      exactly());
  parting.variant<ThreadCrew>("stable_partition",
                              [](Numbers& in, auto& crew) { antcrew::stable_partition(crew, in, odd); });
  finish(parting);

  InPlaceStudy selecting(
      "nth_element", numbers, [](Numbers& in) { std::nth_element(in.begin(), in.begin() + many / 2, in.end()); },
      [](const Numbers& in) { return in[many / 2]; }, exactly());
  selecting.variant<ThreadCrew>("nth_element",
                                [](Numbers& in, auto& crew) { antcrew::nth_element(crew, in, many / 2); });
  finish(selecting);

  InPlaceStudy thinning(
      "unique", few_different, [](Numbers& in) { in.erase(std::unique(in.begin(), in.end()), in.end()); }, whole,
      exactly());
  thinning.variant<ThreadCrew>("unique", [](Numbers& in, auto& crew) { in.resize(antcrew::unique(crew, in)); });
  finish(thinning);

  Study merging("merge", sorted_twice, [](const Two& in) {
    Numbers out(in.first.size() + in.second.size());
    std::merge(in.first.begin(), in.first.end(), in.second.begin(), in.second.end(), out.begin());
    return sampled(out);
  });
  merging.variant<ThreadCrew>(
      "merge", [](const Two& in, auto& crew) { return sampled(antcrew::merge(crew, in.first, in.second)); });
  finish(merging);

  Study joining("set_union", sorted_twice, [](const Two& in) {
    Numbers out;
    std::set_union(in.first.begin(), in.first.end(), in.second.begin(), in.second.end(), std::back_inserter(out));
    return sampled(out);
  });
  joining.variant<ThreadCrew>(
      "set_union", [](const Two& in, auto& crew) { return sampled(antcrew::set_union(crew, in.first, in.second)); });
  finish(joining);

  const auto key = [](std::uint32_t x) { return x % 1000; };
  Study grouping("group_by", numbers, [key](const Numbers& in) {
    std::unordered_map<std::uint32_t, std::vector<std::size_t>> groups;
    for (std::size_t i = 0; i < in.size(); ++i) groups[key(in[i])].push_back(i);
    return groups[7].size();
  });
  grouping.variant<ThreadCrew>(
      "group_by", [key](const Numbers& in, auto& crew) { return antcrew::group_by(crew, in, key)[7].indices.size(); });
  finish(grouping);

  InPlaceStudy turning(
      "reverse", numbers, [](Numbers& in) { std::reverse(in.begin(), in.end()); }, whole, exactly());
  turning.variant<ThreadCrew>("reverse", [](Numbers& in, auto& crew) { antcrew::reverse(crew, in); });
  finish(turning);

  return study_main(argc, argv, all);
}
