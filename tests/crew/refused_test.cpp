// What the system may refuse: crews do it another way, and say what was refused.
#include <doctest/doctest.h>

#include <atomic>
#include <filesystem>
#include <functional>
#include <numeric>
#include <string>
#include <thread>

#include "antcrew/base/error.hpp"
#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/task_group.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/limits.hpp"
#include "support/command.hpp"
#include "support/sandbox.hpp"

using namespace antcrew;

namespace {

int in_sandbox(const std::function<std::string()>& fn) {
  return test::in_sandbox(test::what_may_be_refused(), fn);
}

}  // namespace

TEST_CASE("crews of threads in a sandbox: regions, sleeping workers, pins that are refused") {
  CHECK(in_sandbox([]() -> std::string {
          if (usable_processors_now() < 1) return "no processors";
          ThreadCrew pinned(3, {.pin = Pin::apart});
          if (pinned.facts().refused.empty()) return "nothing was said of the pins";
          for (const int granted : pinned.facts().granted_processors) {
            if (granted != -1) return "a pin was granted";
          }
          TaskCrew tasks(3);
          ThreadCrew many(20);
          std::atomic<int> done{0};
          for (int again = 0; again < 5; ++again) {
            std::this_thread::sleep_for(std::chrono::milliseconds(2));
            pinned.each(30, Split::chunks(1), [&](std::size_t) { ++done; });
            tasks.each(30, Grain{1}, [&](std::size_t) { ++done; });
            many.each(30, [&](std::size_t) { ++done; });
            done += tasks.begin([] { return 1; }).get();
          }
          return done == 5 * 91 ? "" : "work is missing";
        }) == 0);
}

// What is read once for the process was not read before, as in a program that begins in the sandbox.
TEST_CASE("the same in a process of its own") {
  const std::string self = std::filesystem::read_symlink("/proc/self/exe");
  const test::Outcome outcome =
      test::run_command({"timeout", "-k", "5", "60", self, "-tc=crews of threads in a sandbox*"});
  CAPTURE(outcome.out);
  CAPTURE(outcome.err);
  CHECK(outcome.exit == 0);
}

TEST_CASE("crews of processes in a sandbox: results copied and zero-copy, common arrays, folders, dead workers") {
  CHECK(in_sandbox([]() -> std::string {
          ProcessCrew forked(2, {.processes = {.way = Way::zero_copy}});
          if (forked.facts().refused.empty()) return "nothing was said of what was refused";
          const auto numbers = forked.collect(200'000, [](std::size_t i) { return i; });
          if (std::accumulate(numbers.begin(), numbers.end(), std::size_t{0}) != 200'000ull * 199'999 / 2) {
            return "numbers are wrong";
          }
          const auto texts = forked.collect(1000, [](std::size_t i) { return std::to_string(i); });
          if (texts[999] != "999") return "texts are wrong";
          StandingCrew standing(2);
          CommonArray<double> common(50'000);
          standing.fill(common, [](std::size_t i) { return static_cast<double>(i); });
          if (common[49'999] != 49'999) return "the common array is wrong";
          const auto sums = standing.collect(
              10, [](std::size_t i, const CommonArray<double>& all) { return all[i] + 1; }, common);
          if (sums[9] != 10) return "the standing crew is wrong";
          const auto folders = forked.collect(2, [](std::size_t) { return scratch_folder(); });
          for (const std::string& folder : folders) {
            if (std::filesystem::exists(folder)) return "a folder was left behind";
          }
          try {
            forked.collect(4, [](std::size_t i) {
              if (i == 3) ::_exit(3);
              return i;
            });
            return "a dead worker was not noticed";
          } catch (const ProcessDied&) {
          }
          return forked.collect(3, [](std::size_t i) { return i; })[2] == 2 ? "" : "the crew does not work on";
        }) == 0);
}

TEST_CASE("one call refused at a time is told apart from the others") {
  CHECK(test::in_sandbox({SYS_sched_setaffinity}, [] {
          ThreadCrew crew(2, {.pin = Pin::near});
          std::atomic<int> done{0};
          crew.each(2, [&](std::size_t) { ++done; });
          const auto& refused = crew.facts().refused;
          return done == 2 && refused == std::vector<std::string>{"keeping workers on processors"}
                     ? std::string()
                     : std::string("not as expected");
        }) == 0);
  CHECK(test::in_sandbox({SYS_memfd_create}, [] {
          const ProcessCrew crew(2);
          return crew.facts().refused == std::vector<std::string>{"files in memory: results are copied"}
                     ? std::string()
                     : std::string("not as expected");
        }) == 0);
}
