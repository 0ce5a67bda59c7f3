#include "antcrew/study/channel.hpp"

#include <doctest/doctest.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <string>
#include <thread>

#include "antcrew/base/bad_message.hpp"

using namespace antcrew;
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

TEST_CASE("a message longer than one can be is refused at both ends") {
  int ends[2];
  REQUIRE(socketpair(AF_UNIX, SOCK_STREAM, 0, ends) == 0);
  Channel reader(ends[0]);
  REQUIRE(write(ends[1], "no message", 10) == 10);
  CHECK_THROWS_WITH_AS(reader.receive(), doctest::Contains("more than the"), internal::BadMessage);
  close(ends[1]);
}
