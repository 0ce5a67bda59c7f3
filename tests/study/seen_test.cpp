// What a stand sees of a variant besides its time, and what is told of it.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <map>
#include <numeric>
#include <thread>

#include "planted.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using namespace planted;
using namespace std::chrono_literals;

namespace {

const Finding* prints_of(const Analysed& study, const std::string& variant) {
  for (const Finding& f : study.remarks) {
    if (f.id == "prints-in-the-clock" && f.of->cell->variant == variant) return &f;
  }
  return nullptr;
}

}  // namespace

TEST_CASE("standard input is empty") {
  const auto body = [](const std::size_t& n, Workers) -> Answer {
    char byte = 0;
    if (::isatty(STDIN_FILENO) != 0 || ::read(STDIN_FILENO, &byte, 1) != 0) throw std::runtime_error("there is input");
    return baseline(n);
  };
  CHECK(plant(body).verdict >= Verdict::too_few_rounds);
}

TEST_CASE("what is printed is kept aside, is bounded, and blocks nobody") {
  Study study(
      "Talkers", [](std::size_t n) { return n; }, [](std::size_t n) { return n; });
  study.sizes({3});
  study.variant<Workers>("loud", [](std::size_t n, Workers) {
    static const std::string line(9999, 'w');
    for (int k = 0; k < 200; ++k) std::fprintf(k % 2 == 0 ? stdout : stderr, "%s\n", line.c_str());
    return n;
  });
  study.variant<Workers>("once", [](std::size_t n, Workers) {
    static const int told = std::puts("level\x1b[31m 3\nsecond line");
    return n + static_cast<std::size_t>(told < 0 ? 1 : 0);
  });
  const Record record = run(study, few_rounds());
  const Cell& loud = record.cells[1];
  CHECK(loud.trials.at(0).printed_bytes.value_or(0) > 1.9e6);
  CHECK(loud.printed.size() == 1);
  CHECK(record.cells[2].printed == std::vector<std::string>{"level [31m 3", "second line"});
  const Analysed analysed = analyse(record);
  REQUIRE(prints_of(analysed, "loud") != nullptr);
  CHECK(prints_of(analysed, "loud")->figures.get("bytes") > 1.9e6);
  CHECK(prints_of(analysed, "loud")->name.rfind("wwww", 0) == 0);
}

TEST_CASE("a crash comes with the last line that was printed") {
  if (sanitized) return;
  const auto body = [](const std::size_t&, Workers) -> Answer {
    std::fputs("first\nlevel 3 is below the bed\n", stderr);
    std::abort();
  };
  check(plant(body), Verdict::crashed, "the last that it printed: \"level 3 is below the bed\"");
}

TEST_CASE("what reading an answer costs is told where it is a part of the call") {
  struct Lazy {
    double value;
    bool cheap;
    double read() const {
      if (!cheap) std::this_thread::sleep_for(8ms);
      return value;
    }
  };
  Study study(
      "Lazy", [](std::size_t n) { return n; },
      [](std::size_t n) {
        std::this_thread::sleep_for(40ms);
        return Lazy{static_cast<double>(n), true};
      },
      [](const Lazy& expected, const Lazy& got) { return expected.read() == got.read(); });
  study.sizes({5});
  study.variant<Workers>("read later", [](std::size_t n, Workers) {
    std::this_thread::sleep_for(40ms);
    return Lazy{static_cast<double>(n), false};
  });
  Plan plan = few_rounds();
  plan.rounds = 7;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  const CellFigures& f = figures(analysed, "read later");
  REQUIRE(f.read_speedup.has_value());
  CHECK(*f.read_speedup / f.speedup->median == doctest::Approx(40.0 / 48).epsilon(0.1));
  CHECK_FALSE(figures(analysed, "baseline").read_speedup.has_value());
}

TEST_CASE("a phase of one worker is compared as what it is") {
  Study study(
      "Merge", [](std::size_t n) { return n; },
      [](std::size_t n) {
        {
          const Phase work("work");
          std::this_thread::sleep_for(24ms);
        }
        const Phase merge("merge");
        std::this_thread::sleep_for(8ms);
        return n;
      });
  study.sizes({5});
  study.variant<ThreadCrew>("halves", [](std::size_t n, ThreadCrew& crew) {
    crew.each(4, [](std::size_t) {
      const Phase work("work");
      std::this_thread::sleep_for(6ms);
    });
    const Phase merge("merge");
    std::this_thread::sleep_for(8ms);
    return n;
  });
  Plan plan = few_rounds();
  plan.workers = {4};
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  const CellFigures& f = figures(analysed, "halves");
  CHECK(f.phases.at("merge").at_once == 1);
  CHECK(f.phases.at("work").at_once == 4);
  CHECK(*f.phases.at("merge").wall_s == doctest::Approx(8e-3).epsilon(0.3));
  CHECK(*f.phases.at("work").wall_s == doctest::Approx(6e-3).epsilon(0.5));
  CHECK(f.phases.at("work").worker_s == doctest::Approx(24e-3).epsilon(0.3));
}

TEST_CASE("titles and names from outside cannot reach the terminal as they are") {
  Study study(
      "Tide\x1b[2J heights\xff", [](std::size_t n) { return n; }, [](std::size_t n) { return n; });
  study.sizes({5});
  study.variant<Workers>("a\nb", [](std::size_t n, Workers) { return n; });
  CHECK(study.title() == "Tide [2J heights\xEF\xBF\xBD");
  const Record record = run(study, few_rounds());
  CHECK(record.cells[1].variant == "a b");
}

TEST_CASE("waiting time of threads that ended is unknown, not none") {
  const auto cell_of = [](auto body) {
    Study study(
        "Threads", [](std::size_t n) { return n; }, baseline, within(1e-6));
    study.sizes({1500});
    study.template variant<Workers>("one", body);
    return run(study, few_rounds()).cells[1];
  };
  const Cell by_hand = cell_of([](const std::size_t& n, Workers) {
    Answer answer;
    std::thread([&] { answer = baseline(n); }).join();
    return answer;
  });
  CHECK_FALSE(by_hand.trials.at(0).run_delay_s.has_value());
  const Cell alone = cell_of([](const std::size_t& n, Workers) { return baseline(n); });
  CHECK(alone.trials.at(0).run_delay_s.has_value());
}
