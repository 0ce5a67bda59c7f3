#include <doctest/doctest.h>

#include <stdexcept>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/study/internal/launcher.hpp"

using antcrew::internal::launcher_words;
using Words = std::vector<std::string>;

TEST_CASE("a launcher's words: blanks part them, quotes do not, values are put in") {
  antcrew::StudyPoint at;
  at.size = 1'000;
  at.dimensions["hosts"] = antcrew::record_layer::PointValue("a b:2");
  CHECK(launcher_words("mpirun -n @(workers)", 4, at) == Words{"mpirun", "-n", "4"});
  CHECK(launcher_words("  run \t 'one two' \"x 'y'\" a'b c'd '' ", 1, at) ==
        Words{"run", "one two", "x 'y'", "ab cd", ""});
  // What is put in is not parted.
  CHECK(launcher_words("run --host @(hosts) --size=@(size)@(workers)", 2, at) ==
        Words{"run", "--host", "a b:2", "--size=10002"});
  CHECK(launcher_words("run @(ranks)", 6, at) == Words{"run", "6"});
  at.dimensions["threads_per_rank"] = antcrew::record_layer::PointValue(3);
  CHECK(launcher_words("run @(ranks) @(workers)", 6, at) == Words{"run", "2", "6"});
  CHECK_THROWS_WITH_AS(launcher_words("run @(ranks)", 7, at), doctest::Contains("no whole number of ranks"),
                       antcrew::Error);
  CHECK_THROWS_WITH_AS(launcher_words("run @(size)", 1, {}), doctest::Contains("no value for @(size)"), antcrew::Error);
  CHECK_THROWS_WITH_AS(launcher_words("run @(size", 1, at), doctest::Contains("without its"), antcrew::Error);
  CHECK_THROWS_WITH_AS(launcher_words("run 'a", 1, at), doctest::Contains("not closed"), antcrew::Error);
  CHECK_THROWS_WITH_AS(launcher_words("  ", 1, at), doctest::Contains("no words"), antcrew::Error);
}
