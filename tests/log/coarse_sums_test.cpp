#include "antcrew/log/coarse_sums.hpp"

#include <doctest/doctest.h>

using namespace antcrew::internal;
using doctest::Approx;
using In = SeenThread::In;

namespace {

constexpr pid_t caller = 100;

SeenThread seen(pid_t thread, In in, std::uint64_t address = 0, pid_t process = caller) {
  SeenThread one;
  one.process = process;
  one.thread = thread;
  one.in = in;
  one.address = address;
  return one;
}

// Ready at two looks, between which it ran and waited so long.
SeenThread ready(pid_t thread, std::int64_t ran_ns, std::int64_t waited_ns) {
  SeenThread one = seen(thread, In::ready);
  one.ran_ns = ran_ns;
  one.waited_ns = waited_ns;
  return one;
}

LaneSums sums(const std::vector<Look>& looks, int lanes = 4) {
  return coarse_sums(looks, {lanes, caller, 1.0});
}

double share(const LaneSums& sums, LaneState state) {
  return sums.parts_s[state] / sums.lane_seconds();
}

}  // namespace

TEST_CASE("parts add up to lanes times wall, and a caller that waits for its threads is in no lane") {
  const Look all{
      1,
      {seen(caller, In::join), seen(101, In::ready), seen(102, In::ready), seen(103, In::sleep), seen(104, In::input)}};
  const LaneSums s = sums({all, all});
  CHECK(s.parts_s.sum() == Approx(4));
  CHECK(share(s, LaneState::running) == Approx(0.5));
  CHECK(share(s, LaneState::blocked) == Approx(0.5));
  CHECK(s.looks->blocked_s.at("sleep") == Approx(1));
  CHECK(s.looks->blocked_s.at("input") == Approx(1));
  CHECK(s.looks->moments == 2);
  CHECK(s.looks->lanes == 8);
}

TEST_CASE("those who wait for one lock are told from those who wait for another, and how many at once") {
  const Look three{1,
                   {seen(caller, In::join), seen(101, In::sleep), seen(102, In::lock, 0xA), seen(103, In::lock, 0xA),
                    seen(104, In::lock, 0xA)}};
  const Look one{1,
                 {seen(caller, In::join), seen(101, In::sleep), seen(102, In::sleep), seen(103, In::lock, 0xB),
                  seen(104, In::lock, 0xA)}};
  const LaneSums s = sums({three, one});
  CHECK(share(s, LaneState::lock) == Approx(5.0 / 8));
  REQUIRE(s.locks.size() == 2);
  CHECK(s.locks[0].wait_s == Approx(4.0 / 2));
  CHECK(s.looks->lock_waiters == Approx(2));
  CHECK(s.looks->lock_kinds == 2);
}

TEST_CASE("lanes that are missing: not there yet, done already, or idle while the caller works alone") {
  const Look spawning{1, {seen(caller, In::ready), seen(101, In::ready)}};
  const Look full{1, {seen(caller, In::join), seen(101, In::ready), seen(102, In::ready), seen(103, In::ready)}};
  const Look ending{1, {seen(caller, In::join), seen(103, In::ready)}};
  const Look alone{1, {seen(caller, In::sleep)}};
  const LaneSums s = sums({spawning, full, ending, alone}, 3);
  CHECK(s.parts_s.sum() == Approx(3));
  CHECK(share(s, LaneState::start_up) == Approx(1.0 / 12));
  CHECK(share(s, LaneState::imbalance) == Approx(2.0 / 12));
  CHECK(share(s, LaneState::serial) == Approx(1.0 / 12));
  CHECK(share(s, LaneState::serial_wait) == Approx(2.0 / 12));
  CHECK(share(s, LaneState::running) == Approx(6.0 / 12));
}

TEST_CASE("standing threads that wait while the caller works alone are idle beside a serial stretch") {
  const Look look{1, {seen(caller, In::ready), seen(101, In::signal), seen(102, In::word), seen(103, In::word)}};
  const LaneSums s = sums({look});
  CHECK(share(s, LaneState::serial) == Approx(0.25));
  CHECK(share(s, LaneState::serial_wait) == Approx(0.75));
}

TEST_CASE("who waits for others: at a barrier it is unevenness, at a condition there is nothing ready") {
  const Look look{
      1,
      {seen(caller, In::join), seen(101, In::sleep), seen(102, In::word), seen(103, In::signal), seen(104, In::join)}};
  const LaneSums s = sums({look});
  CHECK(share(s, LaneState::imbalance) == Approx(0.5));
  CHECK(share(s, LaneState::no_work) == Approx(0.25));
}

TEST_CASE("more threads than workers: those that are busy take the lanes, the rest is outside") {
  const Look look{1,
                  {seen(caller, In::join), seen(101, In::word), seen(102, In::word), seen(103, In::ready),
                   seen(104, In::ready), seen(105, In::ready)}};
  const LaneSums s = sums({look}, 2);
  CHECK(share(s, LaneState::running) == Approx(1));
  CHECK(s.looks->outside == Approx(1));
  CHECK(s.looks->threads == Approx(6));
}

TEST_CASE("a ready thread ran as much of its time as its own account says") {
  const Look first{1, {seen(caller, In::join), ready(101, 0, 0), ready(102, 0, 0)}};
  const Look second{1, {seen(caller, In::join), ready(101, 900, 100), ready(102, 250, 750)}};
  const LaneSums s = sums({first, second}, 2);
  CHECK(share(s, LaneState::running) == Approx(0.575));
  CHECK(share(s, LaneState::waiting_to_run) == Approx(0.425));
}

TEST_CASE("threads of worker processes are lanes; a parent that reads from them is none") {
  const Look look{1, {seen(caller, In::input), seen(201, In::ready, 0, 201), seen(202, In::ready, 0, 202)}};
  const LaneSums s = sums({look}, 2);
  CHECK(share(s, LaneState::running) == Approx(1));
}

TEST_CASE("calls are taken one by one: who is still to be born in the next does not count") {
  const Look ending{1, {seen(caller, In::ready), seen(101, In::ready)}};
  const Look other{2, {seen(caller, In::join), seen(201, In::ready), seen(202, In::ready)}};
  const LaneSums s = sums({ending, other}, 3);
  CHECK(share(s, LaneState::start_up) == 0);
  CHECK(share(s, LaneState::imbalance) == Approx(2.0 / 6));
}

TEST_CASE("without a look there are no parts, and no share can be told") {
  const LaneSums s = sums({});
  CHECK(s.parts_s.sum() == 0);
  CHECK(share_error(*s.looks) == 1);
  SampleFacts many;
  many.moments = 400;
  CHECK(share_error(many) == Approx(0.049));
}
