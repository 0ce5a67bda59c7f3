// A body of some 0.1 ms that fits in cache: its time alone in a loop, against its time as one of 40 cells of a study.
#include <fmt/format.h>
#include <sched.h>
#include <antcrew/antcrew.hpp>

#include <cstdlib>
#include <numeric>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/topology.hpp"

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

// The loop alone, in a process of its own time: after ten calls it is as warm as it gets.
double alone_s(const Depths& depths) {
  std::vector<double> times;
  volatile double kept = 0;
  for (int call = 0; call < 20; ++call) {
    const std::int64_t start = antcrew::now_ns();
    kept = body(depths);
    if (call >= 10) times.push_back(static_cast<double>(antcrew::now_ns() - start) * 1e-9);
  }
  static_cast<void>(kept);
  return antcrew::analysis_layer::median(std::move(times));
}

// On a random processor, as every visit to a cell is.
double alone_somewhere_s(const Depths& depths) {
  cpu_set_t all;
  sched_getaffinity(0, sizeof all, &all);
  const auto& order = antcrew::machine_layer::processor_order(antcrew::machine_layer::Nearness::near);
  cpu_set_t one;
  CPU_ZERO(&one);
  CPU_SET(order[static_cast<std::size_t>(std::rand()) % order.size()], &one);
  sched_setaffinity(0, sizeof one, &one);
  const double time_s = alone_s(depths);
  sched_setaffinity(0, sizeof all, &all);
  return time_s;
}

}  // namespace

int main() {
  using namespace antcrew;
  using namespace antcrew::layers;
  constexpr std::size_t n = 16'384;
  const Depths depths = make(n);
  Study study("In cache", make, body, within(1e-9));
  study.sizes({n});
  for (int v = 0; v < 39; ++v) {
    study.variant<Workers>("copy " + std::to_string(v + 1), [](const Depths& d, Workers) { return body(d); });
  }
  std::vector<double> ratios;
  for (int again = 0; again < 7; ++again) {
    std::vector<double> alone;
    RunHooks hooks;
    hooks.on_visit = [&](const Progress&) { alone.push_back(alone_somewhere_s(depths)); };  // in the same seconds
    Plan plan;
    plan.workers = {1};
    plan.rounds = 7;
    plan.budget_s = 0;
    plan.crowd = false;
    plan.confirm = false;
    const Record record = run(study, plan, hooks);
    std::vector<double> in_study;
    std::vector<double> visited;
    for (const Cell& cell : record.cells) {
      for (const Trial& trial : cell.trials) {
        in_study.push_back(trial.wall_s);
        visited.push_back(trial.visited_s);
      }
    }
    const double alone_median = median(alone);
    ratios.push_back(median(in_study) / alone_median);
    fmt::print(
        "alone {:.1f} µs, in a study of 40 cells {:.1f} µs (ratio {:.3f}); first call of a visit {:.1f} µs ({:.2f})\n",
        alone_median * 1e6, median(in_study) * 1e6, ratios.back(), median(visited) * 1e6,
        median(visited) / alone_median);
  }
  fmt::print("median ratio {:.3f}\n", median(ratios));
}
