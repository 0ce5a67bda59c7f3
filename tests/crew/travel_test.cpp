// What travels between processes: optionals, variants, maps and sets, inside each other.
#include <doctest/doctest.h>

#include <map>
#include <optional>
#include <set>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <variant>
#include <vector>

#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"

using namespace antcrew;

namespace {

using Catch = std::variant<std::monostate, int, std::string, std::vector<double>>;
using Catches = std::map<std::string, Catch>;

struct Log {
  std::vector<std::optional<std::string>> ports;
  Catches catches;
  std::multimap<int, std::string> tags;
  std::unordered_map<std::string, std::optional<int>> depths;
  std::set<std::vector<int>> seen;
  std::unordered_multiset<int> counts;
  friend bool operator==(const Log&, const Log&) = default;
};
void pack(Packer& to, const Log& log) {
  to.put(log.ports);
  to.put(log.catches);
  to.put(log.tags);
  to.put(log.depths);
  to.put(log.seen);
  to.put(log.counts);
}
void unpack(Unpacker& from, Log& log) {
  from.get(log.ports);
  from.get(log.catches);
  from.get(log.tags);
  from.get(log.depths);
  from.get(log.seen);
  from.get(log.counts);
}

Log log_of(std::size_t i) {
  Log log;
  log.ports.resize(i % 3);
  if (i % 3 == 2) log.ports[1] = "port " + std::to_string(i);
  for (std::size_t k = 0; k < i % 5; ++k) {
    Catch one;
    if (k == 1) one = static_cast<int>(i);
    if (k == 2) one = std::string(i * 100, 'x');
    if (k == 3) one = std::vector<double>(i * 1000, 0.5);  // large ones go as blocks of their own
    log.catches["net " + std::to_string(k)] = one;
    log.tags.emplace(static_cast<int>(k / 2), std::to_string(k));
    log.depths[std::to_string(k)] = k % 2 == 0 ? std::optional<int>() : std::optional(static_cast<int>(k));
    log.seen.insert(std::vector<int>(k, 7));
    log.counts.insert(static_cast<int>(k / 2));
  }
  return log;
}

}  // namespace

static_assert(Travels<Catches> && Travels<std::optional<Catches>> && Travels<std::unordered_multiset<std::string>>);
static_assert(!Travels<std::map<int, int*>> && !Travels<std::optional<int*>> && !Travels<std::variant<int, int*>>);

TEST_CASE_TEMPLATE("optionals, variants, maps and sets come back from worker processes as they were made", Crew,
                   ProcessCrew, StandingCrew) {
  for (const int workers : {1, 3}) {
    Crew crew(workers);
    const auto logs = crew.collect(40, [](std::size_t i) { return log_of(i); });
    REQUIRE(logs.size() == 40);
    for (std::size_t i = 0; i < 40; ++i) {
      CAPTURE(i);
      CHECK(logs[i] == log_of(i));
    }
    const auto plain =
        crew.collect(9, [](std::size_t i) { return i % 3 == 0 ? std::optional<int>() : std::optional(int(i)); });
    CHECK(!plain[3]);
    CHECK(plain[4] == 4);
  }
}
