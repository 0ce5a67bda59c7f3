// The same code against itself, many times: how often is a difference claimed where there is none?
//
//   bench_same [COMPARISONS=200] [BUDGET_S=1]
#include <fmt/format.h>
#include <antcrew/antcrew.hpp>

#include <cmath>
#include <cstdlib>

#include "antcrew/analysis/analysed.hpp"

namespace {

[[gnu::noinline]] double tide(const std::size_t& n) {
  double sum = 0;
  for (std::size_t i = 0; i < n; ++i) sum += std::cos(static_cast<double>(i) * 0.37);
  return sum;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  using namespace antcrew::layers;
  const int comparisons = argc > 1 ? std::atoi(argv[1]) : 200;
  Plan plan;
  plan.workers = {1};
  plan.budget_s = argc > 2 ? std::atof(argv[2]) : 1;
  plan.crowd = false;
  int claims = 0;
  int noisy = 0;
  double rounds = 0;
  for (int k = 1; k <= comparisons; ++k) {
    Study study(
        "The same against itself", [](std::size_t n) { return n; }, tide, exactly());
    study.sizes({10'000});
    study.variant<Workers>("the same", [](const std::size_t& n, Workers) { return tide(n); });
    const Record record = run(study, plan);
    const Analysed analysed = analyse(record);
    const CellFigures& cell = analysed.cells.at(1);
    if (!cell.speedup || !cell.speedup->claimed) {
      fmt::print("{}: no interval\n", k);
      continue;
    }
    const bool claimed = cell.speedup->leaves_out(1);
    claims += claimed ? 1 : 0;
    noisy += cell.verdict == Verdict::too_noisy ? 1 : 0;
    rounds += cell.speedup->count;
    if (claimed)
      fmt::print("{}: {:.4f} ({:.4f} to {:.4f}), {} rounds{}\n", k, cell.speedup->median, cell.speedup->low,
                 cell.speedup->high, cell.speedup->count, claimed ? " CLAIMED" : "");
  }
  fmt::print(
      "{} comparisons of the same code: {} claims of a difference, {} too noisy to call, {:.1f} rounds on average\n",
      comparisons, claims, noisy, rounds / comparisons);
  return claims * 100 <= comparisons * 8 ? 0 : 1;
}
