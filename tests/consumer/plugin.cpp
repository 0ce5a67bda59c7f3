// Crews in an initialiser: the loader holds its lock meanwhile, and threads that would take it wait for ever.
#include <atomic>
#include <cstddef>

#include "antcrew/crew/task_crew.hpp"
#include "antcrew/crew/thread_crew.hpp"
#include "antcrew/share/tally.hpp"

namespace {

long sum_of(std::size_t n) {
  antcrew::ThreadCrew threads(3);
  antcrew::TaskCrew tasks(3);
  antcrew::Tally<long> tally;
  std::atomic<long> sum{0};
  threads.each(n, antcrew::Split::chunks(1), [&](std::size_t i) { tally.mine() += static_cast<long>(i); });
  tasks.each(n, antcrew::Grain{1}, [&](std::size_t i) { sum += static_cast<long>(i); });
  try {
    threads.each(3, [](std::size_t) { throw 5; });
  } catch (int thrown) {
    sum += thrown;
  }
  return sum + tally.merged(0L, [](long a, long b) { return a + b; });
}

const long while_loaded = sum_of(100);

}  // namespace

extern "C" long plugin_sum(std::size_t n) {
  static antcrew::TaskCrew kept(2);  // ends when the library goes, or the program
  std::atomic<long> sum{0};
  kept.each(n, [&](std::size_t) { ++sum; });
  return while_loaded + sum_of(n) + sum;
}
