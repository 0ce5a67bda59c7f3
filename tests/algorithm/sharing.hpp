// Crews to try an algorithm with, and how it shares out work that waits.
#pragma once

#include <doctest/doctest.h>

#include <algorithm>
#include <chrono>
#include <cstddef>
#include <functional>
#include <map>
#include <mutex>
#include <string>
#include <thread>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/machine/clock.hpp"

namespace test {

// A sanitizer makes many workers and items slow: few show as much to it.
#ifdef ANTCREW_SANITIZED
inline constexpr std::size_t sizes[] = {0, 1, 3, 64, 65, 2000};
inline constexpr int worker_counts[] = {1, 2, 7};
#else
inline constexpr std::size_t sizes[] = {0, 1, 2, 3, 31, 64, 65, 1000, 20'011};
inline constexpr int worker_counts[] = {1, 2, 3, 7, 64};
#endif

template <class Try>
void with_crews(Try with) {
  for (const int workers : worker_counts) {
    CAPTURE(workers);
    antcrew::ThreadCrew threads(workers);
    with(threads);
    antcrew::TaskCrew tasks(workers);
    with(tasks);
  }
}

// call(crew, visit): visit(item) waits. The same call with one worker takes at least three times as long as with four,
// of whom none visits more than 40 % of the items.
template <class Call>
void check_shared_out(const char* name, Call call) {
  CAPTURE(std::string(name));
  const auto tried = [&](int workers) {
    antcrew::ThreadCrew crew(workers);
    std::mutex lock;
    std::map<std::thread::id, int> visits;
    int all = 0;
    const auto visit = [&](std::size_t) {
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      const std::lock_guard<std::mutex> held(lock);
      ++visits[std::this_thread::get_id()];
      ++all;
    };
    const std::int64_t start = antcrew::now_ns();
    call(crew, visit);
    const double took_s = antcrew::seconds_since(start);
    int most = 0;
    for (const auto& [thread, count] : visits) most = std::max(most, count);
    return std::pair(took_s, all > 0 ? static_cast<double>(most) / all : 1.0);
  };
  // A disturbed machine may keep a worker away: the best of some.
  double ratio = 0;
  double largest_share = 1;
  for (int attempt = 0; attempt < 5 && !(ratio >= 3 && largest_share <= 0.4); ++attempt) {
    const auto [four_s, share] = tried(4);
    ratio = tried(1).first / four_s;
    largest_share = share;
  }
  CHECK(ratio >= 3);
  CHECK(largest_share <= 0.4);
}

}  // namespace test
