// A body of some 0.1 ms that fits in cache: its time alone in a loop, against its time as one of 40 cells of a study.
#include <fmt/format.h>
#include <sched.h>
#include <antcrew/antcrew.hpp>

#include <algorithm>
#include <numeric>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/machine/clock.hpp"

namespace {

// 128 KiB, read 18 times.
using Depths = std::vector<double>;
Depths make(std::size_t n) {
  Depths d(n);
  std::iota(d.begin(), d.end(), 0.5);
  return d;
}
[[gnu::noinline]] double body(const Depths& d) {
  double sum = 0;
  for (int pass = 0; pass < 18; ++pass) {
    double part[4] = {};
    for (std::size_t i = 0; i + 4 <= d.size(); i += 4) {
      for (std::size_t k = 0; k < 4; ++k) part[k] += d[i + k] * d[i + k];
    }
    sum += part[0] + part[1] + part[2] + part[3];
  }
  return sum;
}

// On each processor in turn, since the cells of a study change places too.
double alone_s(const Depths& depths, int calls) {
  cpu_set_t all;
  sched_getaffinity(0, sizeof all, &all);
  std::vector<double> times;
  volatile double kept = 0;
  for (int cpu = 0; cpu < CPU_SETSIZE; ++cpu) {
    if (!CPU_ISSET(cpu, &all)) continue;
    cpu_set_t one;
    CPU_ZERO(&one);
    CPU_SET(cpu, &one);
    sched_setaffinity(0, sizeof one, &one);
    for (int call = 0; call < calls; ++call) {
      const std::int64_t start = antcrew::now_ns();
      kept = body(depths);
      times.push_back(static_cast<double>(antcrew::now_ns() - start) * 1e-9);
    }
  }
  sched_setaffinity(0, sizeof all, &all);
  static_cast<void>(kept);
  return antcrew::median(std::move(times));
}

}  // namespace

int main() {
  using namespace antcrew;
  constexpr std::size_t n = 16'384;
  const Depths depths = make(n);
  Study study("In cache", make, body, within(1e-9));
  study.sizes({n});
  for (int v = 0; v < 39; ++v) {
    study.variant<Workers>("copy " + std::to_string(v + 1), [](const Depths& d, Workers) { return body(d); });
  }
  std::vector<double> ratios;
  for (int again = 0; again < 5; ++again) {
    const double before = alone_s(depths, 3000);
    Plan plan;
    plan.workers = {1};
    plan.rounds = 7;
    plan.budget_s = 0;
    plan.crowd = false;
    const Record record = run(study, plan);
    const double after = alone_s(depths, 3000);
    std::vector<double> in_study;
    std::vector<double> visited;
    for (const Cell& cell : record.cells) {
      for (const Trial& trial : cell.trials) {
        in_study.push_back(trial.wall_s);
        visited.push_back(trial.visited_s);
      }
    }
    const double alone = (before + after) / 2;
    ratios.push_back(median(in_study) / alone);
    fmt::print(
        "alone {:.1f} and {:.1f} µs, in a study of 40 cells {:.1f} µs (ratio {:.3f}); first call of a visit {:.1f} µs "
        "({:.2f})\n",
        before * 1e6, after * 1e6, median(in_study) * 1e6, ratios.back(), median(visited) * 1e6,
        median(visited) / alone);
  }
  fmt::print("median ratio {:.3f}\n", median(ratios));
}
