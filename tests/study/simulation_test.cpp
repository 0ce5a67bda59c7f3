// The whole procedure on simulated machines: what intervals cover, how often a gain is claimed that is none, how far
// the headline is off. At a tenth of the runs here; scripts/measure.sh makes all of them (ANTCREW_ALL_RUNS=1).
#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <random>

#include "study/fake_host.hpp"
#include "support/shared_out.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::FakeClock;
using test::FakeHost;
using test::FakeStudy;

namespace {

bool all_runs() {
  return std::getenv("ANTCREW_ALL_RUNS") != nullptr;
}
#if defined(ANTCREW_SANITIZED)
constexpr int part = 200;  // there it is looked at what is done, not at the shares
#else
constexpr int part = 10;
#endif
int runs_of(int all) {
  return all_runs() ? all : all / part;
}
// What a share may be off by in so few runs.
double allowed(double share) {
  return all_runs() ? 0 : (part > 10 ? 5 : 2.5) * std::sqrt(share * (1 - share) * part / 2000);
}

using Draw = double (*)(std::mt19937_64&);

double normal(std::mt19937_64& g) {
  return std::normal_distribution<>()(g);
}

struct Noise {
  const char* name;
  Draw draw;  // of the logarithm, in units of the spread
  double spread;
  double least;  // coverage that is asked for
};

const Noise noises[] = {
    {"normal", normal, 0.08, 0.94},
    {"skewed", [](std::mt19937_64& g) { return std::exp(0.8 * normal(g)); }, 0.06, 0.94},
    {"two humps",
     [](std::mt19937_64& g) { return (std::uniform_real_distribution<>()(g) < 0.6 ? 0.0 : 3.0) + 0.3 * normal(g); },
     0.08, 0.93},
    {"heavy tails", [](std::mt19937_64& g) { return std::student_t_distribution<>(2)(g); }, 0.04, 0.94},
    {"10 % stalls",
     [](std::mt19937_64& g) { return normal(g) + (std::uniform_real_distribution<>()(g) < 0.1 ? 8.0 : 0.0); }, 0.06,
     0.94},
};

// Times of cells: a part that a stand keeps for life, and a part of each visit.
class Luck {
 public:
  Luck(const Noise& noise, double correlation, std::uint64_t seed)
      : noise_(noise), kept_(std::sqrt(correlation)), own_(std::sqrt(1 - correlation)), random_(seed) {}

  double factor(std::size_t cell, bool fresh, double times = 1) {
    if (processes_.size() <= cell) processes_.resize(cell + 1);
    if (fresh) processes_[cell] = noise_.draw(random_);
    return std::exp(times * noise_.spread * (kept_ * processes_[cell] + own_ * noise_.draw(random_)));
  }
  std::mt19937_64& random() { return random_; }

 private:
  Noise noise_;
  double kept_;
  double own_;
  std::mt19937_64 random_;
  std::vector<double> processes_;
};

struct Coverage {
  int held = 0;
  int all = 0;
  long generations = 0;
  double share() const { return static_cast<double>(held) / all; }
  void add(const Estimate& e, double truth) {
    ++all;
    held += e.claimed && e.low <= truth && truth <= e.high ? 1 : 0;
    generations += e.count;
  }
};

// Baseline and one variant that is 1.3 times as fast, by the same kind of luck: the median of ratios is 1.3.
void cover(const Noise& noise, double correlation, int g, double width, double budget_s, int runs, Coverage& coverage) {
  const FakeStudy study(1, {2});
  struct Run {
    Estimate estimate;
    bool processes_stay = true;
  };
  const auto run_of = [&](std::size_t k) {
    FakeClock clock;
    FakeHost host(clock);
    host.keep_asked = false;
    Luck luck(noise, correlation,
              k * 7919 + static_cast<std::uint64_t>(correlation * 100) + static_cast<std::uint64_t>(width * 1000) * 31);
    host.call_s = [&](const CellSpec& spec, std::size_t cell, int, bool fresh) {
      return (spec.baseline() ? 0.0013 : 0.001) * luck.factor(cell, fresh);
    };
    host.renewing_s = g > 1 ? 0.02 : 0.0001;
    host.visit_s = [](double) { return 0.003; };
    Plan plan;
    plan.width = width;
    plan.budget_s = budget_s;
    plan.confirm = false;
    plan.seed = k + 1;
    const Record record = run_fake(host, clock, study, plan);
    const Cell& cell = record.cells[1];
    const bool three_each = cell.trials.size() > 1u + 2u * static_cast<std::size_t>(cell.trials.back().generation - 1);
    return Run{*ratio_of_times(record.cells[0], cell, level_of(record)), g == 1 || three_each};
  };
  for (const Run& run : test::shared_out(static_cast<std::size_t>(runs), run_of)) {
    REQUIRE(run.processes_stay);
    coverage.add(run.estimate, 1.3);
  }
}

}  // namespace

TEST_CASE("intervals cover what they say, whatever the noise, the luck of stands and the width asked for") {
  const int runs = runs_of(2000);
  for (const Noise& noise : noises) {
    for (const int g : {1, 3}) {
      Coverage of_noise;
      for (const double correlation : {0.0, 0.25, 0.5, 0.8}) {
        Coverage found;
        for (const double width : {0.001, 0.03, 0.05, 0.08, 0.12, 0.4})
          cover(noise, correlation, g, width, 0, runs, found);
        // Ended by the budget after a number of rounds that nobody chose.
        Coverage ended;
        cover(noise, correlation, g, 0.001, g == 1 ? 0.12 : 0.9, runs, ended);
        MESSAGE(std::string(noise.name), ", correlation ", correlation, ", g ", g, ": covered ", found.share(), " in ",
                static_cast<double>(found.generations) / found.all, " generations; ended by budget ", ended.share(),
                " in ", static_cast<double>(ended.generations) / ended.all);
        of_noise.held += found.held + ended.held;
        of_noise.all += found.all + ended.all;
        if (all_runs()) {
          CHECK(found.share() >= noise.least);
          CHECK(found.share() <= 0.98);
          CHECK(ended.share() >= noise.least);
          CHECK(ended.share() <= 0.985);
        }
      }
      CHECK(of_noise.share() >= noise.least - allowed(0.05) / 3);
      CHECK(of_noise.share() <= 0.98 + allowed(0.02) / 3);
    }
  }
}

namespace {

struct Claims {
  int runs = 0;
  int faster = 0;
  int best = 0;
  int not_confirmed = 0;
  int right = 0;    // the true best was named or listed
  double bias = 0;  // the mean of headline / truth − 1
  double share(int count) const { return static_cast<double>(count) / runs; }
};

// Cell 0 is the baseline. truth(cell) is its speedup, noisier(cell) how many times noisier it is than the others.
Claims claims(int variants, double spread, int runs, bool confirm, const std::function<double(std::size_t)>& truth,
              const std::function<double(std::size_t)>& noisier, std::size_t true_best = 0) {
  const FakeStudy study(variants, {1, 2, 4, 8});
  Claims found;
  found.runs = runs;
  const Noise noise{"normal", normal, spread, 0};
  struct Run {
    Conclusion::Kind answer = Conclusion::Kind::nothing_measured;
    bool right = false;
    double bias = 0;
  };
  const auto run_of = [&](std::size_t k) {
    FakeClock clock;
    FakeHost host(clock);
    host.keep_asked = false;
    Luck luck(noise, 0.25, k * 104729 + 17);
    // In a confirmation cells have other places: told apart by what they are.
    const auto place = [&](const CellSpec& spec) -> std::size_t {
      if (spec.baseline()) return 0;
      const auto v = static_cast<std::size_t>(
          std::atoi(study.base().variants()[static_cast<std::size_t>(spec.variant)].name.c_str() + 1));
      return 1 + v * 4 + (spec.workers == 1 ? 0u : spec.workers == 2 ? 1u : spec.workers == 4 ? 2u : 3u);
    };
    host.call_s = [&](const CellSpec& spec, std::size_t, int, bool) {
      const std::size_t cell = place(spec);
      return 0.001 / truth(cell) * luck.factor(cell, true, noisier(cell));
    };
    Plan plan;
    plan.budget_s = 0;
    plan.confirm = confirm;
    plan.seed = k + 1;
    const Record record = run_fake(host, clock, study, plan);
    const Analysed analysed = analyse(record);
    const Conclusion& answer = analysed.conclusion;
    if (answer.leader == nullptr || !answer.speedup) return Run{answer.answer};

    const auto is_true_best = [&](const CellFigures* f) { return f != nullptr && f == &analysed.cells[true_best]; };
    bool right = is_true_best(answer.leader) || is_true_best(answer.better);
    for (const CellFigures* f : answer.level) right = right || is_true_best(f);
    const auto leader = static_cast<std::size_t>(answer.leader - analysed.cells.data());
    return Run{answer.answer, right, answer.speedup->median / truth(leader) - 1};
  };
  for (const Run& run : test::shared_out(static_cast<std::size_t>(runs), run_of)) {
    using Kind = Conclusion::Kind;
    found.faster += run.answer == Kind::faster || run.answer == Kind::best ? 1 : 0;
    found.best += run.answer == Kind::best ? 1 : 0;
    found.not_confirmed += run.answer == Kind::not_confirmed ? 1 : 0;
    found.right += run.right ? 1 : 0;
    found.bias += run.bias / runs;
  }
  return found;
}

double equal(std::size_t) {
  return 1;
}

}  // namespace

TEST_CASE("where nothing is faster, a gain is claimed in at most one study of twenty") {
  const double most = 0.05 + allowed(0.025);
  for (const int cells : {4, 20, 80}) {
    for (const bool one_noisier : {false, true}) {
      for (const bool confirm : {true, false}) {
        if (cells == 80 && !confirm && !all_runs()) continue;
        const Claims found = claims(cells / 4, 0.05, runs_of(2000), confirm, equal,
                                    [&](std::size_t cell) { return one_noisier && cell == 3 ? 5.0 : 1.0; });
        MESSAGE(cells, " equal cells", std::string(one_noisier ? ", one five times noisier" : ""),
                std::string(confirm ? ", confirmed" : ", apparent"), ": faster in ", found.share(found.faster),
                ", best in ", found.share(found.best));
        CHECK(found.share(found.faster) <= most);
      }
    }
  }
}

TEST_CASE("of two that are equally good none is called the best, but in one study of twenty") {
  for (const int cells : {4, 20}) {
    const Claims found = claims(
        cells / 4, 0.05, runs_of(2000), true, [](std::size_t cell) { return cell == 2 || cell == 4 ? 1.5 : 1.0; },
        equal);
    MESSAGE(cells, " cells, two equal best: best in ", found.share(found.best), ", not confirmed in ",
            found.share(found.not_confirmed));
    CHECK(found.share(found.best) <= 0.05 + allowed(0.05));
    CHECK(found.share(found.faster) >= 0.9 - allowed(0.1));
  }
}

TEST_CASE("one that is 5 % better is named or listed, and the headline is not too good") {
  for (const int cells : {4, 20, 80}) {
    const Claims found = claims(
        cells / 4, 0.03, runs_of(2000), true, [](std::size_t cell) { return cell == 3 ? 1.05 : 1.0; }, equal, 3);
    MESSAGE(cells, " cells, one 5 % better: named or listed in ", found.share(found.right), ", bias of the headline ",
            found.bias * 100, " %");
    CHECK(found.share(found.right) >= 0.95 - allowed(0.05));
    CHECK(std::fabs(found.bias) <= (all_runs() ? 0.002 : 0.002 * std::sqrt(part)));
  }
}

namespace {

// A machine that drifts by 20 %, takes a step in the middle, and whose rounds resemble their neighbours.
Coverage drifting(int runs) {
  const FakeStudy study(1, {2});
  const auto run_of = [&](std::size_t k) {
    FakeClock clock;
    FakeHost host(clock);
    host.keep_asked = false;
    std::mt19937_64 random(k + 99);
    std::vector<double> weather;
    const auto of_round = [&](int round) {
      while (weather.size() <= static_cast<std::size_t>(round)) {
        const double before = weather.empty() ? 0 : weather.back();
        weather.push_back(0.3 * before + std::sqrt(1 - 0.09) * normal(random));
      }
      return weather[static_cast<std::size_t>(round)];
    };
    host.call_s = [&](const CellSpec& spec, std::size_t, int round, bool) {
      const double drift = 1 + 0.2 * round / 60.0 + (round > 20 ? 0.15 : 0);
      return (spec.baseline() ? 0.0013 : 0.001) * drift * std::exp(0.08 * of_round(round) + 0.05 * normal(random));
    };
    Plan plan;
    plan.budget_s = 0;
    plan.width = 0.03;
    plan.confirm = false;
    plan.seed = k + 1;
    const Record record = run_fake(host, clock, study, plan);
    return *ratio_of_times(record.cells[0], record.cells[1], level_of(record));
  };
  Coverage coverage;
  for (const Estimate& estimate : test::shared_out(static_cast<std::size_t>(runs), run_of)) coverage.add(estimate, 1.3);
  return coverage;
}

}  // namespace

TEST_CASE("a machine that drifts, steps and remembers the last round does not fool the ratio") {
  const Coverage found = drifting(runs_of(20'000));
  MESSAGE("covered ", found.share());
  CHECK(found.share() >= 0.93 - allowed(0.05) / 3);
}
