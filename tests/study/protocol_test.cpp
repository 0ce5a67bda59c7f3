// What the processes of a run say to each other, and what becomes of them when they do not understand it.
#include "antcrew/study/internal/protocol.hpp"

#include <doctest/doctest.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <limits>
#include <string>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/record/packed.hpp"
#include "antcrew/study/host.hpp"
#include "antcrew/study/server_process.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::BadMessage;
using internal::Channel;
using internal::ServerProcess;

namespace {

Visit full_visit() {
  Visit visit;
  visit.seen = test::cell_with("split", 2, {0.25, 1.0 / 3});
  visit.seen.faults = {{Fault::Kind::left_work, 1, "its work went on", {{"went_on_s", 0.1}}}};
  visit.seen.check = CheckFacts{7, true, "none"};
  visit.seen.trials.back().phases["merge"] = {};
  internal::LaneSums sums;
  sums.parts_s.seconds[1] = 1.0 / 3;
  sums.timeline = internal::Timeline{{"merge"}, {{1, {{0, 0.5, internal::TimelineKind::lock, 0, 3}}}}, 2, 1.0, 1e-6, 4};
  visit.seen.metered = {sums};
  visit.replace = true;
  visit.renewing_s = 0.1;
  visit.began_ns = -5;
  visit.dropped = Visit::Dropped::asleep;
  return visit;
}

std::string text_of(const internal::Fault& fault) {
  return fault.text;
}

std::string trouble_in(const std::string& message) {
  try {
    internal::input_request_from(message);
    return {};
  } catch (const BadMessage& error) {
    return error.what();
  }
}

// What a server of a test does with each message: gives it back, twice as long.
void answer_back(Channel run) {
  while (const auto message = run.receive()) run.send(*message + *message);
  ::_exit(7);
}

}  // namespace

TEST_CASE("what a visit saw comes through a message unchanged, to the last bit") {
  const Visit visit = full_visit();
  const Visit again = internal::visit_from(internal::to_message(internal::CellReply(visit)), 1);
  CHECK(again.seen == visit.seen);
  CHECK(again.seen.trials.back().wall_s == 1.0 / 3);
  CHECK(again.replace);
  CHECK_FALSE(again.over);
  CHECK(again.renewing_s == 0.1);
  CHECK(again.began_ns == -5);
  CHECK(again.dropped == Visit::Dropped::asleep);
}

TEST_CASE("numbers that are none come through, and texts that go to people are made printable") {
  Visit visit = full_visit();
  visit.seen.startup_s = {std::numeric_limits<double>::infinity()};
  visit.seen.printed = {"\xff\x1b[2J"};
  const Visit again = internal::visit_from(internal::to_message(internal::CellReply(visit)), 1);
  CHECK(std::isinf(again.seen.startup_s.at(0)));
  CHECK(again.seen.printed.at(0).find('\x1b') == std::string::npos);
  CHECK(again.seen.printed.at(0).find('\xff') == std::string::npos);
}

TEST_CASE("a message cut anywhere, or with any of its bytes changed, is refused by name and never believed") {
  const std::string whole = internal::to_message(internal::InputRequest(internal::EndCells{{11, 22}, true}));
  CHECK(trouble_in(whole).empty());
  for (std::size_t length = 0; length < whole.size(); ++length) {
    CAPTURE(length);
    const std::string trouble = trouble_in(whole.substr(0, length));
    CHECK_FALSE(trouble.empty());
    if (length >= whole.size() - 8) CHECK(test::contains(trouble, "'end cell processes' was cut short in its field '"));
  }
  for (std::size_t at = 0; at < whole.size(); ++at) {
    for (const char other : {'\0', '\xff', '\x40'}) {
      if (whole[at] == other) continue;
      std::string damaged = whole;
      damaged[at] = other;
      CAPTURE(at);
      CHECK_FALSE(trouble_in(damaged).empty());
    }
  }
  CHECK(test::contains(trouble_in(whole + "x"), "'end cell processes' is 1 bytes too long"));
}

TEST_CASE("a message of another kind is named") {
  const std::string order = internal::to_message(internal::CellRequest(VisitOrder{}));
  CHECK(trouble_in(order) == "an unknown message 'visit a cell'");
  const Visit visit = internal::visit_from(order, 3);
  REQUIRE(visit.seen.faults.size() == 1);
  CHECK(visit.over);
  CHECK(visit.seen.faults.front().kind == Fault::Kind::crashed);
  CHECK(visit.seen.faults.front().round == 3);
  CHECK(test::contains(text_of(visit.seen.faults.front()), "an unknown message 'visit a cell'"));
  const std::string refusal = internal::to_message(internal::CellReply(internal::NotUnderstood{"what was that"}));
  CHECK(test::contains(text_of(internal::visit_from(refusal, 1).seen.faults.front()), "what was that"));
}

TEST_CASE("a server answers, ends when its channel closes, and tells how it ended") {
  ServerProcess server("study", "a test", &answer_back);
  REQUIRE(server.running());
  CHECK(server.send("ab"));
  CHECK(server.hear({}).message == "abab");
  const int status = server.end(10);
  CHECK(WIFEXITED(status));
  CHECK(WEXITSTATUS(status) == 7);
  CHECK_FALSE(server.running());
  CHECK_FALSE(server.send("ab"));
}

TEST_CASE("a server that does not end is ended, and what it left open is not waited for") {
  ServerProcess server("study", "a test", [](Channel run) {
    if (::fork() == 0) {  // keeps the channel open
      ::sleep(20);
      ::_exit(0);
    }
    run.receive();
    ::_exit(3);
  });
  CHECK(server.send("end"));
  const ServerProcess::Heard heard = server.hear({});
  CHECK_FALSE(heard.message);
  CHECK_FALSE(heard.over);
  const int status = server.end(10);
  CHECK(WIFEXITED(status));
  ServerProcess stubborn("study", "a test", [](Channel) {
    while (true) ::sleep(1);
  });
  const int killed = stubborn.end(0.05);
  CHECK(WIFSIGNALED(killed));
  CHECK(WTERMSIG(killed) == SIGKILL);
}

TEST_CASE("who waits is asked whether to stop or to give up, and samples as often as it says") {
  ServerProcess server("study", "a test", &answer_back);
  int looks = 0;
  CHECK(server.hear({.over = [&] { return ++looks == 3; }}).over);
  CHECK(looks == 3);
  CHECK_THROWS_AS(server.hear({.stop = [] { return true; }}), Stopped);
  int samples = 0;
  looks = 0;
  CHECK(server
            .hear({.over = [&] { return ++looks == 2; },
                   .sample =
                       [&] {
                         ++samples;
                         return 0.001;
                       }})
            .over);
  CHECK(samples > looks);
  CHECK(server.send("x"));
  CHECK(server.hear({}).message == "xx");
  server.end(10);
}

TEST_CASE("a server that somebody stopped goes on, and that is told") {
  ServerProcess server("study", "a test", [](Channel run) {
    ::raise(SIGSTOP);
    answer_back(std::move(run));
  });
  CHECK(server.send("x"));
  const ServerProcess::Heard heard = server.hear({});
  CHECK(heard.message == "xx");
  CHECK((heard.was_stopped || heard.paused));
  server.end(10);
}

TEST_CASE("a server that announces more than a message can be is not believed") {
  ServerProcess server("study", "a test", [](Channel run) {
    const int descriptor = run.release();
    static_cast<void>(!::write(descriptor, "no message", 10));
    ::sleep(20);
  });
  const ServerProcess::Heard heard = server.hear({});
  CHECK_FALSE(heard.message);
  CHECK(test::contains(heard.trouble, "more than the"));
  server.end(0);
}
