// A study whose ranks wait in ways that are known beforehand. Bodies sleep, so that its figures do not depend on how
// many processors there are.
#include <antcrew/antcrew.hpp>
#include <antcrew/ranks/rank_crew.hpp>

#include <chrono>
#include <cstddef>
#include <functional>
#include <thread>
#include <vector>

using namespace antcrew;

namespace {

constexpr std::size_t items = 64;
constexpr std::size_t halo = 8;
constexpr int steps = 6;

void work_ms(int ms) {
  std::this_thread::sleep_for(std::chrono::milliseconds(ms));
}

// In each step whoever(step) works for 5 ms, and then all exchange edges.
template <class Whoever>
double stepped(const std::vector<double>& bed, RankCrew& crew, Whoever whoever) {
  RankArray<double> depth = crew.spread(bed, {.halo = halo});
  crew.on_each(
      [](RankPart<double>& mine, const Whoever& who) {
        for (int step = 0; step < steps; ++step) {
          if (who(step)) work_ms(5);
          mine.exchange();
        }
      },
      depth, whoever);
  double sum = 0;
  for (const double one : crew.gather(depth)) sum += one;
  return sum;
}

}  // namespace

int main(int argc, char** argv) {
  Study study(
      "Waiting ranks", [](std::size_t n) { return std::vector<double>(n, 2.0); },
      [](const std::vector<double>& bed) {
        work_ms(5 * steps);
        double sum = 0;
        for (const double one : bed) sum += one;
        return sum;
      },
      within(1e-9));
  study.sizes({items});
  struct Last {
    bool operator()(int) const { return current_rank().rank + 1 == current_rank().ranks; }
  };
  study.variant<RankCrew>("the last one works",
                          [](const auto& bed, RankCrew& crew) { return stepped(bed, crew, Last()); });
  struct InTurn {
    bool operator()(int step) const { return step % current_rank().ranks == current_rank().rank; }
  };
  study.variant<RankCrew>("in turn", [](const auto& bed, RankCrew& crew) { return stepped(bed, crew, InTurn()); });
  study.variant<RankCrew>("in chunks", [](const auto& bed, RankCrew& crew) {
    const auto half_sums = crew.collect(
        steps, Split::chunks(1),
        [](std::size_t i, const std::vector<double>& all) {
          work_ms(5);
          double sum = 0;
          for (std::size_t k = i; k < all.size(); k += steps) sum += all[k];
          return sum;
        },
        bed);
    double sum = 0;
    for (const double one : half_sums) sum += one;
    return sum;
  });
  study.variant<RankCrew>("three pieces", [](const auto& bed, RankCrew& crew) {
    const auto sums = crew.collect(
        3,
        [](std::size_t i, const std::vector<double>& all) {
          work_ms(10);
          double sum = 0;
          for (std::size_t k = i; k < all.size(); k += 3) sum += all[k];
          return sum;
        },
        bed);
    return sums[0] + sums[1] + sums[2];
  });
  study.variant<RankCrew>("large results", [](const auto& bed, RankCrew& crew) {
    const auto all = crew.collect(
        2,
        [](std::size_t i, const std::vector<double>& in) {
          return std::vector<double>(1'000'000, i == 0 ? in[0] : 0.0);
        },
        bed);
    return all[0][999'999] * static_cast<double>(bed.size()) + all[1][999'999];
  });

  Study growing(
      "Growing waits", [](std::size_t n) { return n; },
      [](const std::size_t& n) {
        work_ms(static_cast<int>(5 * n));
        return n;
      });
  growing.sizes({4});
  growing.workers({1, 3});
  growing.weak_scaling([](std::size_t n, int workers) { return n * static_cast<std::size_t>(workers); });
  growing.variant<RankCrew>("shared out", [](const std::size_t& n, RankCrew& crew) {
    return crew.fold(
        n, std::size_t{0},
        [](Range range) {
          work_ms(static_cast<int>(5 * range.size()));
          return range.size();
        },
        std::plus<>());
  });
  return study_main(argc, argv, study, growing);
}
