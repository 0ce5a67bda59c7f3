#include "antcrew/study/channel.hpp"

#include <doctest/doctest.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <string>
#include <thread>

#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/messages.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::Channel;

TEST_CASE("messages of every length arrive whole and in order") {
  auto [near, far] = Channel::pair();
  const std::vector<std::string> messages = {"", "a", std::string("zero\0inside", 11), std::string(3'000'000, 'x'),
                                             "end"};
  std::thread sender([&, end = &near] {
    for (const std::string& message : messages) CHECK(end->send(message));
  });
  for (const std::string& message : messages) CHECK(far.receive() == message);
  sender.join();
}

TEST_CASE("the other end's end is seen, also inside a message, and writing to it is no signal") {
  auto [near, far] = Channel::pair();
  far.close();
  CHECK_FALSE(near.receive().has_value());
  CHECK_FALSE(near.send("into the void"));
  int ends[2];
  REQUIRE(socketpair(AF_UNIX, SOCK_STREAM, 0, ends) == 0);
  Channel reader(ends[0]);
  REQUIRE(write(ends[1], "\x10\0\0\0\0\0\0\0half", 12) == 12);
  close(ends[1]);
  CHECK_FALSE(reader.receive().has_value());
}

TEST_CASE("a descriptor travels beside a message, to another process too") {
  auto [near, far] = Channel::pair();
  const pid_t child = fork();
  if (child == 0) {
    near.close();
    auto [mine, theirs] = Channel::pair();
    far.send("here", theirs);
    theirs.close();
    mine.send("through the passed one");
    _exit(0);
  }
  far.close();
  CHECK(near.receive() == "here");
  Channel passed = near.take_passed();
  REQUIRE(passed.is_open());
  CHECK(passed.receive() == "through the passed one");
  CHECK_FALSE(near.take_passed().is_open());
  waitpid(child, nullptr, 0);
}

TEST_CASE("while nothing comes, the waiting one is asked, and may give up") {
  auto [near, far] = Channel::pair();
  int asked = 0;
  struct Enough {};
  CHECK_THROWS_AS(near.receive(0.005, [&] { ++asked == 3 ? throw Enough{} : void(); }), Enough);
  CHECK(asked == 3);
  far.send("late");
  CHECK(near.receive(0.005, [] { throw Enough{}; }) == "late");
}

TEST_CASE("what a visit saw comes through a message unchanged") {
  Visit visit;
  visit.seen = test::cell_with("split", 2, {0.25});
  visit.seen.faults = {{Fault::Kind::left_work, 1, "its work went on", {{"went_on_s", 0.1}}}};
  visit.replace = true;
  const Visit again = internal::visit_from_message(internal::to_message(visit));
  CHECK(again.seen == visit.seen);
  CHECK(again.replace);
  CHECK_FALSE(again.over);
}
