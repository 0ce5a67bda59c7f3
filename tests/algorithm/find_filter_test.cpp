#include <doctest/doctest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <list>
#include <memory>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include "antcrew/algorithm/filter.hpp"
#include "antcrew/algorithm/find.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "support/at_once.hpp"

using namespace antcrew;
using namespace std::chrono_literals;

TEST_CASE_TEMPLATE("find gives the lowest index, however many pass", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 2, 7}) {
    Crew crew(workers);
    for (const std::size_t n : {0u, 1u, 5u, 1000u, 100'003u}) {
      CHECK_FALSE(find(crew, n, [](std::size_t) { return false; }).has_value());
      for (const std::size_t first : {std::size_t{0}, n / 3, n - 1}) {
        if (first >= n) continue;
        CHECK(find(crew, n, [&](std::size_t i) { return i >= first; }) == first);
        CHECK(find(crew, n, [&](std::size_t i) { return i == first || i == n - 1; }) == first);
      }
    }
    std::vector<std::string> words(5000, "ebb");
    words[1234] = words[4321] = "flood";
    CHECK(find(crew, words, [](const std::string& w) { return w == "flood"; }) == 1234);
    CHECK(any_of(crew, words, [](const std::string& w) { return w == "flood"; }));
    CHECK_FALSE(any_of(crew, 100, [](std::size_t i) { return i > 100; }));
  }
}

TEST_CASE_TEMPLATE("find ends early: what lies behind is not tested", Crew, ThreadCrew, TaskCrew) {
  Crew crew(4);
  std::atomic<int> tested{0};
  const auto at = find(crew, 100'000, [&](std::size_t i) {
    ++tested;
    std::this_thread::sleep_for(20us);
    return i == 3;
  });
  CHECK(at == 3);
  CHECK(tested < 20'000);
}

TEST_CASE_TEMPLATE("as many dear tests as workers run at once", Crew, ThreadCrew, TaskCrew) {
  Crew crew(6);
  std::atomic<int> here{0};
  CHECK(find(crew, 6, [&](std::size_t i) { return !test::meet(here, 6) || i == 5; }) == 5);
  here = 0;
  const auto met = filter(crew, 6, [&](std::size_t) { return test::meet(here, 6); });
  CHECK(met.size() == 6);
}

TEST_CASE_TEMPLATE("filter gives the loop's answer, each item tested once", Crew, ThreadCrew, TaskCrew) {
  for (const int workers : {1, 2, 7}) {
    Crew crew(workers);
    for (const std::size_t n : {0u, 1u, 63u, 64u, 65u, 1023u, 1024u, 1025u, 70'001u}) {
      CAPTURE(n);
      std::vector<std::string> words(n);
      for (std::size_t i = 0; i < n; ++i) words[i] = std::to_string(i * 7919 % 1000);
      std::vector<std::atomic<int>> tested(n);
      const auto passes = [](const std::string& w) { return w.size() == 2 || w == "7"; };
      const Column<std::string> found = filter(crew, words, [&](const std::string& w) {
        ++tested[static_cast<std::size_t>(&w - words.data())];
        return passes(w);
      });
      std::vector<std::string> expected;
      std::copy_if(words.begin(), words.end(), std::back_inserter(expected), passes);
      CHECK(std::equal(found.begin(), found.end(), expected.begin(), expected.end()));
      CHECK(std::all_of(tested.begin(), tested.end(), [](const auto& times) { return times == 1; }));
      const Column<std::size_t> where = filter(crew, n, [&](std::size_t i) { return passes(words[i]); });
      CHECK(where.size() == expected.size());
      CHECK(std::all_of(where.begin(), where.end(), [&](std::size_t i) { return passes(words[i]); }));
      CHECK(std::is_sorted(where.begin(), where.end()));
    }
  }
}

TEST_CASE_TEMPLATE("exceptions of tests and copies come out, and nothing is left behind", Crew, ThreadCrew, TaskCrew) {
  struct Counted {
    explicit Counted(std::atomic<int>& all) : alive(&all) { ++*alive; }
    Counted(const Counted& from) : alive(from.alive), fails(from.fails) {
      if (fails) throw std::runtime_error("cannot be copied");
      ++*alive;
    }
    ~Counted() { --*alive; }
    std::atomic<int>* alive;
    bool fails = false;
  };
  Crew crew(3);
  std::atomic<int> alive{0};
  {
    std::vector<Counted> all;
    all.reserve(3000);
    for (int k = 0; k < 3000; ++k) all.emplace_back(alive);
    CHECK_THROWS_AS(filter(crew, all, [](const Counted&) -> bool { throw 1; }), int);
    CHECK_THROWS_AS(find(crew, all, [](const Counted&) -> bool { throw 1; }), int);
    all[2000].fails = true;
    CHECK_THROWS_AS(filter(crew, all, [](const Counted&) { return true; }), std::runtime_error);
    CHECK(alive == 3000);
    all[2000].fails = false;
    CHECK(filter(crew, all, [](const Counted&) { return true; }).size() == 3000);
  }
  CHECK(alive == 0);
}

TEST_CASE("find and filter inside bodies, and refused while another thread has the crew") {
  ThreadCrew crew(2);
  std::atomic<int> right{0};
  crew.each(4, [&](std::size_t) {
    if (find(crew, 100, [](std::size_t i) { return i == 42; }) == 42) ++right;
    if (filter(crew, 100, [](std::size_t i) { return i % 2 == 0; }).size() == 50) ++right;
  });
  CHECK(right == 8);
  crew.ranges(1, [&](Range) {
    std::thread([&] { CHECK_THROWS_AS(find(crew, 10, [](std::size_t) { return true; }), Error); }).join();
  });
}
