// sort and stable_sort against the standard library's.
#include <algorithm>
#include <antcrew/antcrew.hpp>
#include <array>
#include <cstdint>
#include <random>
#include <string>
#include <vector>

namespace {

struct Reading {
  std::uint32_t station;
  std::uint32_t minute;
  std::array<double, 7> values;
  bool operator==(const Reading&) const = default;
};
static_assert(sizeof(Reading) == 64);

// Newest first, then by station.
bool newest_first(const Reading& a, const Reading& b) {
  return a.minute != b.minute ? a.minute > b.minute : a.station < b.station;
}

template <class T, class Fn>
std::vector<T> random_items(std::size_t n, Fn make) {
  std::mt19937_64 random(n);
  std::vector<T> all(n);
  for (T& item : all) item = make(random);
  return all;
}

const auto whole = [](const auto& all) -> const auto& {
  return all;
};

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const auto numbers = [](std::size_t n) {
    return random_items<std::uint32_t>(n, [](auto& random) { return static_cast<std::uint32_t>(random()); });
  };
  const auto texts = [](std::size_t n) {
    return random_items<std::string>(n, [](auto& random) { return "tag " + std::to_string(random() % 1'000'000'000); });
  };
  const auto structs = [](std::size_t n) {
    return random_items<Reading>(n, [](auto& random) {
      return Reading{static_cast<std::uint32_t>(random() % 500), static_cast<std::uint32_t>(random() % 500'000), {}};
    });
  };
  const auto plainly = [](auto& all) { std::sort(all.begin(), all.end()); };
  const auto by_time = [](auto& all) { std::stable_sort(all.begin(), all.end(), newest_first); };

  InPlaceStudy of_numbers("Ten million random 32-bit numbers sorted", numbers, plainly, whole, exactly());
  of_numbers.sizes({10'000'000});
  InPlaceStudy of_texts("A million strings sorted", texts, plainly, whole, exactly());
  of_texts.sizes({1'000'000});
  InPlaceStudy of_structs("A million structs of 64 bytes sorted stably", structs, by_time, whole, exactly());
  of_structs.sizes({1'000'000});
  for (auto* study : std::initializer_list<StudyBase*>{&of_numbers, &of_texts, &of_structs}) study->workers({1, 2});
  const auto ours = [](auto& all, auto& crew) { antcrew::sort(crew, all); };
  of_numbers.variant<ThreadCrew>("sort", ours);
  of_texts.variant<ThreadCrew>("sort", ours);
  of_structs.variant<ThreadCrew>("stable_sort",
                                 [](auto& all, auto& crew) { antcrew::stable_sort(crew, all, newest_first); });
  return study_main(argc, argv, of_numbers, of_texts, of_structs);
}
