// The catalogue of tagged animals in the Brackwater estuary: n readings of tags, k of them distinct.
//
// Two studies of the same readings: how often each tag was read, and the readings in order. With few distinct tags the
// workers meet at the same counters all the time; with many, they meet at the memory.
#include <algorithm>
#include <antcrew/share/key_map.hpp>
#include <antcrew/share/key_set.hpp>
#include <antcrew/share/locked.hpp>
#include <antcrew/studies.hpp>
#include <cstdint>
#include <map>
#include <random>
#include <thread>
#include <unordered_map>
#include <utility>
#include <vector>

namespace estuary {

using Readings = std::vector<std::uint64_t>;
using Counts = std::vector<std::pair<std::uint64_t, std::uint32_t>>;  // by tag
using Map = std::unordered_map<std::uint64_t, std::uint32_t>;

Readings make_readings(const antcrew::StudyPoint& at) {
  std::mt19937_64 random(20'240'229);
  std::vector<std::uint64_t> tags(at["distinct"]);
  for (std::uint64_t& tag : tags) tag = random();
  Readings readings(at.size);
  for (std::uint64_t& reading : readings) reading = tags[random() % tags.size()];
  return readings;
}

Counts in_order(const Map& map) {
  Counts counts(map.begin(), map.end());
  std::sort(counts.begin(), counts.end());
  return counts;
}

Counts count(const Readings& readings) {
  Map map;
  for (const std::uint64_t tag : readings) ++map[tag];
  return in_order(map);
}

// Half of it each, sorted by threads begun for it, and merged by one.
void sort_halves(Readings& readings, int workers) {
  if (workers == 1) return std::sort(readings.begin(), readings.end());
  const auto middle = readings.begin() + static_cast<std::ptrdiff_t>(readings.size() / 2);
  {
    const std::jthread lower([&] { std::sort(readings.begin(), middle); });
    std::sort(middle, readings.end());
  }
  std::inplace_merge(readings.begin(), middle, readings.end());
}

}  // namespace estuary

int main(int argc, char** argv) {
  using namespace antcrew;
  Study counting("How often each tag was read", estuary::make_readings, estuary::count);
  counting.sizes({1'000'000});
  counting.dimension("distinct", {1'000, 100'000});

  const auto locked = counting.variant<ThreadCrew>("one map, locked", [](const auto& readings, auto& crew) {
    Locked<estuary::Map> map;
    crew.each(readings, [&](std::uint64_t tag) { map.with([&](estuary::Map& m) { ++m[tag]; }); });
    return map.with([](estuary::Map& m) { return estuary::in_order(m); });
  });
  const auto own = counting.variant<ThreadCrew>("a map for each worker", [](const auto& readings, auto& crew) {
    Tally<estuary::Map> maps;
    crew.ranges(readings.size(), [&](Range range) {
      estuary::Map& mine = maps.mine();
      for (const std::size_t i : range) ++mine[readings[i]];
    });
    const Phase merge("merge");
    const auto merged = [](estuary::Map all, const estuary::Map& part) {
      for (const auto& [tag, times] : part) all[tag] += times;
      return all;
    };
    return estuary::in_order(maps.merged(estuary::Map(), merged));
  });
  counting.on_every_crew("KeyMap", [](const estuary::Readings& readings, auto& crew) {
    KeyMap<std::uint64_t, std::uint32_t> map;
    crew.each(readings, [&](std::uint64_t tag) { map.add(tag, 1); });
    const Phase sorting("sort");
    return map.take_sorted(crew);
  });

  InPlaceStudy sorting(
      "The readings in order", estuary::make_readings, [](estuary::Readings& r) { std::sort(r.begin(), r.end()); },
      [](const estuary::Readings& r) -> const estuary::Readings& { return r; }, exactly());
  sorting.sizes({1'000'000});
  sorting.dimension("distinct", {1'000, 100'000});
  sorting.variant<Workers>("two halves by hand", [](auto& r, Workers workers) { estuary::sort_halves(r, workers); });
  sorting.on_every_crew("sort", [](estuary::Readings& r, auto& crew) { antcrew::sort(crew, r); });
  counting.ladder({locked, own});
  return study_main(argc, argv, counting, sorting);
}
