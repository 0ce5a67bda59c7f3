// Ways around the rules: each is found out, and tells itself.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/socket.h>
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

TEST_CASE("an answer kept in a static is given again to another input") {
  const auto body = [](const std::size_t& n, Workers) -> const Answer& {
    static const Answer answer = baseline(n);
    return answer;
  };
  const auto by_value = [body](const std::size_t& n, Workers workers) -> Answer { return body(n, workers); };
  check(plant(by_value), Verdict::remembered, "gave the answer to the input before");
}

TEST_CASE("an answer kept by its input is right for any, and costs nothing") {
  const auto body = [](const std::size_t& n, Workers) -> Answer {
    static std::map<std::size_t, Answer> answers;
    const auto known = answers.find(n);
    return known != answers.end() ? known->second : answers[n] = baseline(n);
  };
  check(plant(body), Verdict::remembered, "it keeps what it has computed");
}

TEST_CASE("what is kept on purpose is told, with the price of the first call") {
  Study study(
      "Planned", [](std::size_t n) { return n; }, baseline, within(1e-6));
  study.sizes({1500});
  study
      .variant<Workers>("with a plan",
                        [](const std::size_t& n, Workers) -> Answer {
                          static std::map<std::size_t, Answer> plans;
                          const auto known = plans.find(n);
                          return known != plans.end() ? known->second : plans[n] = baseline(n);
                        })
      .keeps("the plan");
  Plan plan = few_rounds();
  plan.rounds = 7;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  const CellFigures& f = figures(analysed, "with a plan");
  CHECK(f.verdict >= Verdict::too_few_rounds);
  CHECK(f.cell->keeps == "the plan");
  CHECK(f.first_speedup.value_or(0) < 3);  // the baseline's first call / its own
  CHECK(f.speedup->median > 20);
  CHECK(f.cell->check->other_size == 1500 - 1500 / 8);
}

TEST_CASE("right with its own input and wrong with one that does not divide by the workers") {
  const auto body = [](const std::size_t& n, Workers workers) -> Answer {
    const std::size_t each = n / static_cast<std::size_t>(workers);
    Answer sum{0};
    for (std::size_t w = 0; w < static_cast<std::size_t>(workers); ++w) sum[0] += compute(n, w * each, (w + 1) * each);
    return sum;
  };
  check(plant(body, 4, {}, 1000), Verdict::wrong_answer, "right with this input, wrong with one of size 875");
}

TEST_CASE("an input that was changed is noticed though every answer was right") {
  Study study(
      "Levels", [](std::size_t n) { return std::vector<double>(n, 1.5); },
      [](const std::vector<double>& in) { return std::accumulate(in.begin(), in.end(), 0.0); }, within(1e-9));
  study.sizes({1000});
  study.variant<Workers>("leaves a mark", [](const std::vector<double>& in, Workers) {
    const double sum = std::accumulate(in.begin(), in.end(), 0.0);
    if (in[0] == 1.5) const_cast<std::vector<double>&>(in)[0] = 1.25, const_cast<std::vector<double>&>(in)[1] = 1.75;
    return sum;
  });
  study.variant<Workers>("spoils it", [](const std::vector<double>& in, Workers) {
    static bool first = true;
    const double sum = first ? std::accumulate(in.begin(), in.end(), 0.0) : 1500.0;
    if (std::exchange(first, false)) const_cast<std::vector<double>&>(in)[0] = 7;
    return in.size() == 1000 ? sum : 1.5 * static_cast<double>(in.size());
  });
  const Record record = run(study, few_rounds());
  const Analysed analysed = analyse(record);
  CHECK(figures(analysed, "leaves a mark").verdict >=
        Verdict::too_few_rounds);  // nobody can tell, and nothing is wrong
  CHECK(figures(analysed, "spoils it").verdict == Verdict::changed_input);
  CHECK(test::contains(figures(analysed, "spoils it").evidence, "another answer to the same input"));
}

TEST_CASE("checks take a small share of the budget, and what they leave out is said") {
  Study study(
      "Waits", [](std::size_t n) { return n; },
      [](std::size_t n) {
        std::this_thread::sleep_for(20ms);
        return n;
      });
  study.sizes({64});
  for (const char* name : {"a", "b", "c", "d", "e", "f", "g", "h"}) {
    study.variant<Workers>(name, [](std::size_t n, Workers) {
      std::this_thread::sleep_for(20ms);
      return n;
    });
  }
  Plan plan = few_rounds();
  plan.rounds = 0;
  plan.budget_s = 5;  // 0.25 s for checks: three of eighty milliseconds
  const Record record = run(study, plan);
  int checked = 0;
  for (const Cell& cell : record.cells) checked += cell.check ? 1 : 0;
  const auto left = std::find_if(record.left_out.begin(), record.left_out.end(),
                                 [](const LeftOut& l) { return l.what == LeftOut::What::checks; });
  REQUIRE(left != record.left_out.end());
  CHECK(checked >= 1);
  CHECK(checked + left->count == 8);
  CHECK(left->needed_s > 5);
}

TEST_CASE("no child of the body comes back into the harness") {
  const auto body = [](const std::size_t& n, Workers) -> Answer {
    static int forked = 0;
    if (forked++ < 3 && ::fork() == 0) return {0};  // three at most, whatever happens
    while (::waitpid(-1, nullptr, 0) > 0) {
    }
    return baseline(n);
  };
  check(plant(body), Verdict::crashed, "came back from it");
  const auto throws = [](const std::size_t& n, Workers) -> Answer {
    static int forked = 0;
    if (forked++ < 3 && ::fork() == 0) throw std::runtime_error("in the child");
    while (::waitpid(-1, nullptr, 0) > 0) {
    }
    return baseline(n);
  };
  check(plant(throws), Verdict::crashed, "came back from it");
}

TEST_CASE("an exception that leaves a thread made by hand, with its type and text; and no exception at all") {
  const auto thrown = [](const std::size_t&, Workers) -> Answer {
    std::thread([] { throw std::out_of_range("no gauge 17"); }).join();
    return {};
  };
  check(plant(thrown), Verdict::threw, "a thread threw std::out_of_range: no gauge 17, which nobody caught");
  const auto forgotten = [](const std::size_t&, Workers) -> Answer {
    std::thread lost([] {});
    return {};
  };
  check(plant(forgotten), Verdict::threw, "neither joined nor detached");
}

TEST_CASE("a body that closes files which are not its own is told so") {
  const auto body = [](const std::size_t& n, Workers) -> Answer {
    for (int file = 3; file < 1024; ++file) ::close(file);
    std::this_thread::sleep_for(1s);
    return baseline(n);
  };
  check(plant(body), Verdict::crashed, "closed its connection to the run in a call");
}

TEST_CASE("what comes from a cell process in pieces is its own fault, and the study goes on") {
  const auto body = [](const std::size_t& n, Workers) -> Answer {
    for (int file = 3; file < 64; ++file) ::shutdown(file, SHUT_WR);  // its channel among them
    for (int file = 3; file < 64; ++file) static_cast<void>(::write(file, "no message", 10));
    return baseline(n);
  };
  CHECK(plant(body).verdict == Verdict::crashed);
  const auto talks = [](const std::size_t& n, Workers) -> Answer {
    const std::string said =
        std::string("\x20\0\0\0\0\0\0\0", 8) + std::string("0123456789abcdefgood day\0fellows", 32);
    for (int file = 3; file < 64; ++file) {
      int kind = 0;
      socklen_t size = sizeof kind;
      if (::getsockopt(file, SOL_SOCKET, SO_TYPE, &kind, &size) == 0)
        static_cast<void>(!::send(file, said.data(), said.size(), MSG_NOSIGNAL));
    }
    return baseline(n);
  };
  check(plant(talks), Verdict::crashed, "an unknown message 'good day'");
  const auto nothing = [](const std::size_t&, Workers) -> Answer {
    struct Mute : std::exception {
      const char* what() const noexcept override { return nullptr; }
    };
    throw Mute();
  };
  CHECK(plant(nothing).verdict == Verdict::threw);
}

TEST_CASE("texts that are no text are thrown, and the study goes on") {
  const auto body = [](const std::size_t&, Workers) -> Answer { throw std::runtime_error("\xff\xfe\x1b[2J"); };
  const Planted planted = plant(body);
  check(planted, Verdict::threw, "std::runtime_error");
  CHECK(planted.evidence.find('\x1b') == std::string::npos);
  CHECK(planted.evidence.find('\xff') == std::string::npos);
}

TEST_CASE("the process that holds the input is killed: a fault of its point, and the others go on") {
  const std::string marker = "/tmp/antcrew-truth-" + std::to_string(::getpid());
  const auto make = [](std::size_t n) { return n; };
  Study study("Killed", make, [](std::size_t n) { return n; });
  study.sizes({5, 9});
  study.variant<Workers>("kills it once", [marker](std::size_t n, Workers) {
    if (n == 9 && ::access(marker.c_str(), F_OK) != 0) {
      ::close(::open(marker.c_str(), O_CREAT | O_WRONLY, 0600));
      ::kill(::getppid(), SIGKILL);
      std::this_thread::sleep_for(30s);
    }
    return n;
  });
  const Record record = run(study, few_rounds());
  ::unlink(marker.c_str());
  CHECK(record.complete);
  const Analysed analysed = analyse(record);
  for (const CellFigures& f : analysed.cells) {
    const std::size_t size = record.points[f.cell->point].size;
    if (size == 5) CHECK(f.verdict >= Verdict::too_few_rounds);
    if (size == 9 && f.cell->kind == Cell::Kind::baseline) {
      CHECK(f.verdict == Verdict::crashed);
      CHECK(test::contains(f.evidence, "the process that holds the input is gone"));
    }
  }
}

TEST_CASE("a baseline that contradicts itself ranks nothing, and no variant is blamed") {
  Study study(
      "Moody", [](std::size_t n) { return n; },
      [](std::size_t n) {
        static std::size_t calls = 0;
        return n + calls++;
      });
  study.sizes({5});
  study.variant<Workers>("right", [](std::size_t n, Workers) { return n; });
  study.variant<Workers>("wrong", [](std::size_t n, Workers) { return n + 1; });
  const Record record = run(study, few_rounds());
  const Analysed analysed = analyse(record);
  CHECK(figures(analysed, "right").verdict == Verdict::not_measured);
  CHECK(figures(analysed, "wrong").verdict == Verdict::not_measured);
  CHECK(analysed.conclusion.answer == Conclusion::Kind::no_baseline);
  CHECK(test::contains(headline(analysed), "it gives different answers to the same input"));
}

TEST_CASE("a baseline that remembers is no baseline") {
  Study study(
      "Kept", [](std::size_t n) { return n; },
      [](const std::size_t& n) {
        static std::map<std::size_t, Answer> answers;
        const auto known = answers.find(n);
        return known != answers.end() ? known->second : answers[n] = baseline(n);
      },
      within(1e-6));
  study.sizes({4000});  // some 50 ms: one first call may have been kept waiting
  study.variant<Workers>("honest", [](const std::size_t& n, Workers) { return baseline(n); });
  const Record record = run(study, few_rounds());
  const Analysed analysed = analyse(record);
  CHECK(figures(analysed, "baseline").verdict == Verdict::remembered);
  CHECK(analysed.conclusion.answer == Conclusion::Kind::no_baseline);
}

TEST_CASE("an agreement that any answer passes is refused, with the right scale") {
  Study study(
      "Small", [](std::size_t n) { return n; }, [](std::size_t n) { return 1e-12 * static_cast<double>(n); },
      within(1e-9));
  study.sizes({5});
  study.variant<Workers>("zero", [](std::size_t, Workers) { return 0.0; });
  const Record record = run(study, few_rounds());
  const Analysed analysed = analyse(record);
  CHECK(record.cells[1].trials.empty());
  CHECK(test::contains(headline(analysed), "the largest is 5e-12"));
  CHECK(test::contains(headline(analysed), "compare with within(5e-21)"));
}

TEST_CASE("a difference as small as rounding comes with advice, a larger one does not") {
  const auto near = [](const std::size_t& n, Workers) -> Answer { return {baseline(n)[0] * (1 + 1e-5) + 4e-6}; };
  CHECK(test::contains(plant(near).evidence, "difference"));
  Study study(
      "Sums", [](std::size_t n) { return n; }, [](std::size_t n) { return 0.1 * static_cast<double>(n); }, exactly());
  study.sizes({5});
  study.variant<Workers>("rounded", [](std::size_t n, Workers) { return 0.1 * static_cast<double>(n) + 7.95e-9; });
  study.variant<Workers>("wrong", [](std::size_t n, Workers) { return 0.1 * static_cast<double>(n) + 7.95e-3; });
  const Record record = run(study, few_rounds());
  CHECK(test::contains(record.cells[1].faults.at(0).text, "let the study compare with within(1e-07)"));
  CHECK_FALSE(test::contains(record.cells[2].faults.at(0).text, "within("));
}
