// Sets and maps where the system refuses the barrier that lets a lone thread add without a lock.
#include <doctest/doctest.h>

#include <atomic>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/key_map.hpp"
#include "antcrew/share/key_set.hpp"
#include "support/sandbox.hpp"

using namespace antcrew;

namespace {

std::string fill_by_one_and_by_all() {
  KeySet<int> set;
  for (int k = 0; k < 5000; ++k) set.insert(k);
  ThreadCrew crew(4);
  crew.each(20'000, Split::chunks(10), [&](std::size_t i) { set.insert(static_cast<int>(i)); });
  KeyMap<std::string, int> map;
  map.update("ebb", [](int& n) { ++n; });
  crew.each(1000, [&](std::size_t i) { map.update(std::to_string(i % 10), [](int& n) { ++n; }); });
  return set.size() == 20'000 && map.find("3") == 100 ? "" : "keys are missing";
}

}  // namespace

TEST_CASE("a set works in a sandbox, and one that was begun before it") {
  CHECK(test::in_sandbox(test::what_may_be_refused(), fill_by_one_and_by_all) == 0);
  KeySet<int> before;
  before.insert(1);
  CHECK(test::in_sandbox(test::what_may_be_refused(), [&]() -> std::string {
          before.insert(2);
          std::thread([&] {
            for (int k = 0; k < 2000; ++k) before.insert(k);
          }).join();
          for (int k = 2000; k < 3000; ++k) before.insert(k);
          return before.size() == 3000 ? fill_by_one_and_by_all() : "keys are missing";
        }) == 0);
}
