// Crews of processes in programs with handlers, pipes and deadlines of their own.
#include <doctest/doctest.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdint>
#include <string>
#include <vector>

#include "antcrew/crew/process_crew.hpp"
#include "antcrew/crew/standing_crew.hpp"
#include "process_facts.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;
using test::Deadline;

namespace {

// A program that takes notice of all its children as they end, as servers do.
class ReapingAll {
 public:
  ReapingAll() {
    struct sigaction action {};
    action.sa_handler = [](int) {
      const int kept = errno;
      while (::waitpid(-1, nullptr, WNOHANG) > 0) {
      }
      errno = kept;
    };
    action.sa_flags = SA_RESTART;
    ::sigaction(SIGCHLD, &action, &before_);
  }
  ~ReapingAll() { ::sigaction(SIGCHLD, &before_, nullptr); }
  ReapingAll(const ReapingAll&) = delete;
  ReapingAll& operator=(const ReapingAll&) = delete;

 private:
  struct sigaction before_ {};
};

}  // namespace

TEST_CASE("a program that takes notice of all its children itself gets its answers, and is told of a dead worker") {
  const Deadline deadline("reaping all");
  const ReapingAll handler;
  ProcessCrew forked(3);
  for (int round = 0; round < 100; ++round) {
    const auto squares = forked.collect(10, [](std::size_t i) { return i * i; });
    CHECK(squares[9] == 81);
  }
  CHECK_THROWS_AS(forked.collect(10,
                                 [](std::size_t i) {
                                   if (i == 4) ::raise(SIGKILL);
                                   return i;
                                 }),
                  ProcessDied);
  CHECK(forked.collect(3, [](std::size_t i) { return i; })[2] == 2);
  const std::vector<char> large(1 << 20, 'x');
  const auto copies = forked.collect(6, [&](std::size_t) { return large; });
  CHECK(copies[5].size() == large.size());

  StandingCrew standing(3);
  for (int round = 0; round < 20; ++round) {
    CHECK(standing.collect(10, [](std::size_t i) { return i + 1; })[9] == 10);
    CHECK_THROWS_AS(standing.collect(10,
                                     [](std::size_t i) {
                                       if (i == 4) ::raise(SIGKILL);
                                       return i;
                                     }),
                    ProcessDied);
    // Between two calls.
    const std::vector<pid_t> workers = children_of(::getpid());
    if (!workers.empty()) ::kill(workers.front(), SIGKILL);  // the call may have ended all of them
    std::this_thread::sleep_for(2ms);
    try {
      standing.collect(10, [](std::size_t i) { return i; });
    } catch (const ProcessDied& died) {
      CHECK(std::string(died.what()).find("ended, how is not known") != std::string::npos);
    }
    CHECK(standing.collect(10, [](std::size_t i) { return i; })[9] == 9);
  }
}

TEST_CASE("standing workers hold nothing open that closes where a program is begun: a pipe's reader sees its end") {
  int ends[2];
  REQUIRE(::pipe2(ends, O_CLOEXEC) == 0);
  int kept[2];
  REQUIRE(::pipe2(kept, 0) == 0);
  StandingCrew crew(2);
  CHECK(crew.collect(4, [](std::size_t i) { return i; })[3] == 3);
  ::close(ends[1]);
  pollfd end{ends[0], POLLIN, 0};
  REQUIRE(::poll(&end, 1, 3000) == 1);
  char byte = 0;
  CHECK(::read(ends[0], &byte, 1) == 0);
  ::close(ends[0]);
  // What is meant for children they have.
  const auto written = crew.collect(
      2, [](std::size_t, int to) { return ::write(to, "x", 1); }, kept[1]);
  CHECK(written[0] + written[1] == 2);
  CHECK(::read(kept[0], &byte, 1) == 1);
  for (const int number : kept) ::close(number);
  // A crew made later talks to its workers as the first one does, and arrays are known to all.
  CommonArray<int> common(1000);
  StandingCrew second(3);
  second.fill(common, [](std::size_t i) { return static_cast<int>(i); });
  CHECK(crew.collect(
            2, [](std::size_t i, const CommonArray<int>& all) { return all[i + 10]; }, common)[1] == 11);
}

TEST_CASE("a deadline is kept while long arguments go to a worker that is stopped") {
  const Deadline deadline("stopped worker", 30s);
  CrewOptions options;
  options.processes.deadline_s = 0.3;
  StandingCrew crew(2, options);
  CHECK(crew.collect(2, [](std::size_t i) { return i; })[1] == 1);
  const std::vector<pid_t> workers = children_of(::getpid());
  REQUIRE(workers.size() >= 2);
  ::kill(workers.back(), SIGSTOP);
  const std::vector<double> large(std::size_t{1} << 20, 1.5);
  try {
    crew.collect(
        2, [](std::size_t i, const std::vector<double>& all) { return all[i]; }, large);
    FAIL("a stopped worker did its part");
  } catch (const ProcessDied& died) {
    CHECK(died.reason() == ProcessDied::Reason::deadline);
  }
  CHECK(crew.collect(
            2, [](std::size_t i, const std::vector<double>& all) { return all[i]; }, large)[1] == 1.5);
}
