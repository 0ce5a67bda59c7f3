// How many of 400 regions of two workers had both on one processor, while there are two. In each, both compute for
// 0.8 ms; between two, the caller sleeps for 1 ms; and likewise where the caller has just been moved to another
// processor. One figure a line: name, tab, number. A processor that others need is not ours to have: run it on a quiet
// machine, several times.
#include <sched.h>

#include <antcrew/antcrew.hpp>
#include <atomic>
#include <chrono>
#include <cstdio>
#include <thread>

#include "antcrew/machine/clock.hpp"

namespace {

using antcrew::now_ns;

void compute(std::int64_t ns) {
  const std::int64_t end = now_ns() + ns;
  while (now_ns() < end) {
  }
}

void move_to(int processor) {
  cpu_set_t all, one;
  sched_getaffinity(0, sizeof all, &all);
  CPU_ZERO(&one);
  CPU_SET(processor, &one);
  if (sched_setaffinity(0, sizeof one, &one) == 0) sched_setaffinity(0, sizeof all, &all);
}

// halves(body): body(0) and body(1) on the two workers.
template <class Halves>
int on_one_processor(bool moves, const Halves& halves) {
  int same = 0;
  for (int region = 0; region < 400; ++region) {
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    if (moves) move_to(region % 2);
    std::atomic<int> at[2] = {-1, -2};
    halves([&](std::size_t half) {
      compute(400'000);
      at[half] = sched_getcpu();
      compute(400'000);
    });
    if (at[0] == at[1]) ++same;
  }
  return same;
}

}  // namespace

int main() {
  using namespace antcrew;
  using namespace antcrew::layers;
  ThreadCrew threads(2);
  TaskCrew tasks(2);
  const auto on_threads = [&](const auto& body) { threads.each(2, body); };
  const auto on_tasks = [&](const auto& body) { tasks.each(2, Grain{1}, body); };
  std::printf("ThreadCrew, the caller sleeps\t%d\n", on_one_processor(false, on_threads));
  std::printf("ThreadCrew, the caller was moved\t%d\n", on_one_processor(true, on_threads));
  std::printf("TaskCrew, the caller sleeps\t%d\n", on_one_processor(false, on_tasks));
  std::printf("TaskCrew, the caller was moved\t%d\n", on_one_processor(true, on_tasks));
  return 0;
}
