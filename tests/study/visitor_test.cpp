// One visit: settling, the first call, batches, and how long timing goes on. The work sleeps, so counts are certain.
#include "antcrew/study/visit.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <chrono>
#include <thread>

#include "antcrew/machine/clock.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/in_place_study.hpp"
#include "antcrew/study/study.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

std::size_t sleep_us(const std::size_t& microseconds) {
  std::this_thread::sleep_for(std::chrono::microseconds(microseconds));
  return microseconds;
}

// A visit to the baseline of a study whose call sleeps so long.
Trial visited(std::size_t microseconds, const Reference& reference, double since_s = 0, Visit* whole = nullptr) {
  const Study study(
      "Sleeps", [](std::size_t n) { return n; }, sleep_us);
  const Anything input = study.make_input(Point{microseconds});
  const Anything answer = anything(new std::size_t(microseconds));
  Visitor visitor(study, CellSpec{}, input, answer, reference, nullptr);
  VisitOrder order;
  order.since_ns = now_ns() - static_cast<std::int64_t>(since_s * 1e9);
  Visit visit = visitor.visit(order);
  REQUIRE(visit.seen.faults.empty());
  REQUIRE(visit.seen.trials.size() == 1);
  if (whole != nullptr) *whole = visit;
  return visit.seen.trials[0];
}

Reference reference(double wall_s, double refill_s, double quota_period_s = 0) {
  return {wall_s, 0, refill_s, quota_period_s};
}

double timed_s(const Trial& trial) {
  double sum = 0;
  for (const double time : trial.times_s) sum += time;
  return sum * static_cast<double>(trial.calls) / static_cast<double>(trial.times_s.size());
}

}  // namespace

TEST_CASE("settling: three calls under a millisecond, one below twenty refill times, none above") {
  // A first call may take longer by bad luck: then one of several does not.
  const auto settled = [](std::size_t microseconds, const Reference& by) {
    int calls = 0;
    for (int again = 0; again < 5; ++again) calls = std::max(calls, visited(microseconds, by).settling_calls);
    return calls;
  };
  CHECK(settled(100, reference(1e-4, 1e-5)) == 3);
  CHECK(settled(5'000, reference(5e-3, 1e-3)) == 1);
  CHECK(visited(5'000, reference(5e-3, 1e-4)).settling_calls == 0);
}

TEST_CASE("a first call is timed where refill and start-up are nothing beside it, and only there") {
  Visit long_one;
  const Trial counted = visited(40'000, reference(0.04, 1e-5), 0, &long_one);
  CHECK(counted.first);
  CHECK(counted.times_s.size() >= 3);
  CHECK(counted.times_s[0] == long_one.seen.cold_s[0]);
  CHECK(long_one.began_ns > 0);
  CHECK_FALSE(visited(40'000, reference(0.04, 1e-3)).first);
  CHECK_FALSE(visited(2'000, reference(2e-3, 1e-5)).first);
  CHECK_FALSE(visited(5, reference(5e-6, 0)).first);
}

TEST_CASE("three batches at least, two from 50 ms, one from half a second") {
  CHECK(visited(5'000, reference(5e-3, 1e-4)).times_s.size() >= 3);
  CHECK(visited(60'000, reference(0.06, 1e-5)).times_s.size() == 2);
  const Trial longest = visited(510'000, reference(0.51, 1e-5));
  CHECK(longest.times_s.size() == 1);
  CHECK(longest.first);
  CHECK(longest.calls == 1);
}

TEST_CASE("timing makes up for what passed since the last visit ended, within bounds") {
  const Trial trial = visited(5'000, reference(5e-3, 1e-4), 0.1);
  CHECK(timed_s(trial) >= 0.15);
  CHECK(timed_s(visited(5'000, reference(5e-3, 1e-4), 60)) < 3);
}

TEST_CASE("under a quota a batch lasts several of its periods") {
  const Trial trial = visited(2'000, reference(2e-3, 0, 0.02));
  CHECK(trial.wall_s * static_cast<double>(trial.calls) / static_cast<double>(trial.times_s.size()) >= 0.055);
  CHECK(trial.calls / trial.times_s.size() > 1);
  CHECK(visited(2'000, reference(2e-3, 0)).calls == visited(2'000, reference(2e-3, 0)).times_s.size());
}

TEST_CASE("answers that are slow to destroy do not make a visit endless") {
  struct Slow {
    bool last = true;
    Slow() = default;
    Slow(Slow&& other) noexcept { other.last = false; }
    ~Slow() {
      if (last) std::this_thread::sleep_for(std::chrono::milliseconds(3));
    }
  };
  const Study study(
      "Slow to die", [](std::size_t n) { return n; }, [](const std::size_t&) { return Slow(); },
      [](const Slow&, const Slow&) { return true; });
  const Anything input = study.make_input(Point{1});
  const auto session = study.open_baseline();
  session->prepare(input, 1);
  session->call_ns(input, 1);
  Visitor visitor(study, CellSpec{}, input, session->take_answer(), reference(1e-6, 1e-5), nullptr);
  const std::int64_t began = now_ns();
  const Visit visit = visitor.visit({});
  CHECK(static_cast<double>(now_ns() - began) * 1e-9 < 5);
  CHECK(visit.seen.trials.at(0).wall_s < 1e-3);
}

TEST_CASE("in-place work begins from the input at every call, also where a used copy is taken again") {
  struct Bed {
    std::vector<int> depth;
    int steps = 0;
  };
  InPlaceStudy silt(
      "Steps",
      [](std::size_t n) {
        return Bed{std::vector<int>(n, 1), 0};
      },
      [](Bed& bed) {
        for (int& d : bed.depth) d *= 3;
        bed.depth.resize(bed.depth.size() / 2);
        ++bed.steps;
      },
      [](const Bed& bed) { return std::pair(bed.depth, bed.steps); }, exactly());
  const Anything input = silt.make_input(Point{1000});
  const auto session = silt.open_baseline();
  session->prepare(input, 1);
  session->call_ns(input, 1);
  const Anything answer = session->take_answer();
  for (const std::size_t calls : {1u, 3u, 2u, 5u, 1u}) {
    session->prepare(input, calls);
    session->call_ns(input, calls);
    CHECK(session->kept() == calls);
    for (std::size_t k = 0; k < calls; ++k) CHECK(session->compare(answer, k).agree);
    session->drop_answers();
  }
}
