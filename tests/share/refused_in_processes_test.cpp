// An allocator, and a system, that refuse the k-th piece of memory, for every k, to crews of processes.
#include <doctest/doctest.h>

#include <algorithm>
#include <new>
#include <string>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "support/allocations.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;
using test::Refusing;

namespace {

// A worker process that is forked meanwhile is refused its k-th, too.
template <class Crew, class Call>
void refuse_in_processes(const char* what, const Call& call) {
  CAPTURE(what);
  const auto expected = [&] {
    Crew crew(2);
    return call(crew);
  }();
  std::size_t failed = 0;
  std::size_t k = 0;
  for (bool over = false; !over && k < 600; k = test::refused_after(k)) {
    CAPTURE(k);
    Crew crew(2);
    call(crew);  // workers that stay are forked by now: what is refused in one of them would be refused later, too
    bool named = true;  // without memory of its own: something may be refused here, too
    {
      const Refusing refusing(k);
      try {
        const auto got = call(crew);
        over = !refusing.refused();
        CHECK(std::equal(got.begin(), got.end(), expected.begin(), expected.end()));
      } catch (const std::bad_alloc&) {
        ++failed;
      } catch (const Error& error) {
        named = error.id().compare(0, 5, "crew.") == 0;
        ++failed;
      }
    }
    CHECK(named);
    const auto after = call(crew);
    CHECK(std::equal(after.begin(), after.end(), expected.begin(), expected.end()));
  }
  CHECK(failed > 0);
  CHECK(k < 600);
}

}  // namespace

TEST_CASE("refused memory: crews of processes say so, or have the right answer, and work on") {
  const Deadline deadline("processes", 150s);
  const auto numbers = [](auto& crew) { return crew.collect(3000, [](std::size_t i) { return 0.5 * double(i); }); };
  const auto texts = [](auto& crew) {
    return crew.collect(40, [](std::size_t i) { return "a station with a long name, number " + std::to_string(i); });
  };
  refuse_in_processes<ProcessCrew>("numbers", numbers);
  refuse_in_processes<ProcessCrew>("texts", texts);
  refuse_in_processes<StandingCrew>("standing, numbers", numbers);
  refuse_in_processes<StandingCrew>("standing, texts", texts);
}
