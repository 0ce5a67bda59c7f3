// The coarse ledger against the exact one: the same work by a crew, which writes a log, and by threads made by hand,
// which are looked at from outside. Shares of workers × wall; what sampling took; by how much it slowed the call.
#include <fmt/format.h>

#include <algorithm>
#include <antcrew/antcrew.hpp>
#include <chrono>
#include <cmath>
#include <functional>
#include <thread>
#include <vector>

#include "antcrew/analysis/ledger.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/record.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

void nap(double ms) {
  std::this_thread::sleep_for(std::chrono::duration<double, std::milli>(ms));
}

void compute(std::uint64_t rounds) {
  std::uint64_t state = 1;
  for (std::uint64_t k = 0; k < rounds; ++k) state = state * 6364136223846793005u + 1442695040888963407u;
  volatile std::uint64_t sink = state;
  static_cast<void>(sink);
}

// What worker w of several does; then what the caller does alone.
struct Shape {
  const char* name;
  int workers;
  std::function<void(int)> part;
  std::function<void()> alone;
};

std::vector<Shape> works() {
  static const auto nothing = [] {};
  return {
      {"one does more", 4, [](int w) { nap(w == 0 ? 40 : 10); }, nothing},
      {"in turn afterwards", 4, [](int) { nap(20); }, [] { nap(40); }},
      {"computing, unevenly", 2, [](int w) { compute(w == 0 ? 30'000'000 : 10'000'000); }, nothing},
      {"computing, then alone", 2, [](int) { compute(10'000'000); }, [] { compute(20'000'000); }},
      {"computing and asleep", 2, [](int w) { w == 0 ? compute(20'000'000) : nap(15); }, nothing},
      {"more workers than processors", 6, [](int) { compute(8'000'000); }, nothing},
  };
}

const Cell* cell_of(const Record& record, const std::string& crew) {
  for (const Cell& cell : record.cells) {
    if (cell.kind == Cell::Kind::variant && cell.crew == crew && !cell.metered.empty()) return &cell;
  }
  return nullptr;
}

double share(const Cell& cell, LaneState state) {
  std::vector<double> shares;
  for (const LaneSums& sums : cell.metered) shares.push_back(sums.parts_s[state] / sums.lane_seconds());
  return median(shares);
}

void compare(const Shape& work) {
  Study study(
      work.name, [](std::size_t n) { return n; },
      [&work](const std::size_t&) {
        for (int w = 0; w < work.workers; ++w) work.part(w);
        work.alone();
        return 1;
      },
      exactly());
  study.sizes({1});
  study.variant<ThreadCrew>("a crew", [&work](const std::size_t&, ThreadCrew& crew) {
    crew.each(static_cast<std::size_t>(work.workers), [&](std::size_t w) { work.part(static_cast<int>(w)); });
    work.alone();
    return 1;
  });
  study.variant<Workers>("by hand", [&work](const std::size_t&, Workers workers) {
    std::vector<std::jthread> threads;
    for (int w = 0; w < workers; ++w) threads.emplace_back([&work, w] { work.part(w); });
    threads.clear();
    work.alone();
    return 1;
  });
  Plan plan;
  plan.workers = {work.workers};
  plan.rounds = 2;
  plan.confirm = plan.crowd = false;
  plan.budget_s = 0;
  const auto record = run(study, plan);
  const Cell* exact = cell_of(record, "ThreadCrew");
  const Cell* coarse = cell_of(record, "Workers");
  if (exact == nullptr || coarse == nullptr) return fmt::print("{}: not metered\n", work.name);
  double moments = 0;
  for (const LaneSums& sums : coarse->metered) moments += sums.looks->moments;
  fmt::print("{} ({} workers): {:.0f} moments, sampling took {:.2f} % of a processor, slowed it by {:.1f} %\n",
             work.name, work.workers, moments, 100 * coarse->metered.front().looks->own_share,
             100 * coarse->metered.front().slowdown.value_or(0));
  double worst = 0;
  for (std::size_t k = 0; k < internal::lane_states; ++k) {
    const auto state = static_cast<LaneState>(k);
    const double a = share(*exact, state);
    const double b = share(*coarse, state);
    worst = std::max(worst, std::fabs(a - b));
    if (a > 0.01 || b > 0.01)
      fmt::print("  {:<16} {:5.1f} % by log, {:5.1f} % by looks\n", name_of(state), 100 * a, 100 * b);
  }
  const LaneSums& one = coarse->metered.front();
  fmt::print("  off by {:.1f} points at most; CPU time by looks {:.1f} ms, by the kernel {:.1f} ms\n", 100 * worst,
             1e3 * one.cpu_frames_s, 1e3 * one.cpu_kernel_s);
}

}  // namespace

int main() {
  for (const Shape& work : works()) compare(work);
}
