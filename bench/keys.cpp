// KeySet against a sequential open-addressing set that is not presized, and KeyMap counting.
#include <antcrew/antcrew.hpp>
#include <cstdint>
#include <random>
#include <unordered_map>
#include <vector>

#include "plain_keys.hpp"

namespace {

using Tags = std::vector<std::uint64_t>;

Tags make_tags(const antcrew::StudyPoint& at) {
  std::mt19937_64 random(20'240'229);
  Tags distinct(at["distinct"]);
  for (std::uint64_t& tag : distinct) tag = random();
  Tags tags(at.size);
  for (std::uint64_t& tag : tags) tag = distinct[random() % distinct.size()];
  return tags;
}

std::size_t plain_set(const Tags& tags) {
  bench::PlainSet set;
  for (const std::uint64_t tag : tags) set.insert(tag);
  return set.size();
}

std::size_t plain_count(const Tags& tags) {
  std::unordered_map<std::uint64_t, std::uint32_t> map;
  for (const std::uint64_t tag : tags) ++map[tag];
  return map.size();
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  Study sets("Ten million inserts into a set", make_tags, plain_set);
  Study maps("Ten million readings counted", make_tags, plain_count);
  for (StudyBase* study : {static_cast<StudyBase*>(&sets), static_cast<StudyBase*>(&maps)}) {
    study->sizes({10'000'000});
    study->dimension("distinct", {1'000, 10'000, 100'000, 1'000'000});
    study->workers({1, 2});
  }
  sets.variant<ThreadCrew>("KeySet", [](const Tags& tags, auto& crew) {
    KeySet<std::uint64_t> set;
    crew.each(tags, [&](std::uint64_t tag) { set.insert(tag); });
    return set.size();
  });
  maps.variant<ThreadCrew>("KeyMap, counted", [](const Tags& tags, auto& crew) {
    KeyMap<std::uint64_t, std::uint32_t> map;
    crew.each(tags, [&](std::uint64_t tag) { map.add(tag, 1); });
    const Phase taking("taken out sorted");
    return map.take_sorted(crew).size();
  });
  return study_main(argc, argv, sets, maps);
}
