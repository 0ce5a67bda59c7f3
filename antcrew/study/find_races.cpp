#include "antcrew/study/find_races.hpp"

#include <sched.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <random>

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/machine/random_delays.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/process_host.hpp"

namespace antcrew {

using namespace layers;

namespace {

constexpr int usual_rounds = 20;
constexpr int counts_each = 3;
constexpr int most_workers_tried = 16;

// Takes a processor away in random bursts, so that hand-written threads are interrupted too.
class Disturber {
 public:
  explicit Disturber(std::uint64_t seed) : pid_(::fork()) {
    if (pid_ != 0) return;
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    std::mt19937_64 random(seed);
    while (true) {
      const std::int64_t end = now_ns() + static_cast<std::int64_t>(random() % 400'000);
      while (now_ns() < end) {
      }
      ::usleep(static_cast<useconds_t>(random() % 300));
    }
  }
  ~Disturber() {
    if (pid_ <= 0) return;
    ::kill(pid_, SIGKILL);
    ::waitpid(pid_, nullptr, 0);
  }
  Disturber(const Disturber&) = delete;
  Disturber& operator=(const Disturber&) = delete;

 private:
  pid_t pid_;
};

class RandomDelays {
 public:
  explicit RandomDelays(std::uint64_t seed) { internal::delay_seed.store(seed); }
  ~RandomDelays() { internal::delay_seed.store(0); }
  RandomDelays(const RandomDelays&) = delete;
  RandomDelays& operator=(const RandomDelays&) = delete;
};

std::vector<CellSpec> random_cells(const Outline& study, const Grid& grid, const Point& point,
                                   std::mt19937_64& random) {
  std::vector<CellSpec> cells;
  for (const std::size_t variant : grid.variants) {
    if (study.variants()[variant].kind == Cell::Kind::probe) continue;
    for (int k = 0; k < counts_each; ++k) {
      const int workers = 2 + static_cast<int>(random() % (most_workers_tried - 1));
      cells.push_back({static_cast<int>(variant), workers, point.pin});
    }
  }
  return cells;
}

void note(RaceReport& report, const Outline& study, const CellSpec& cell, const Point& point, const Fault& fault) {
  const std::string key = cell.of(study).key();
  for (RaceFault& known : report.faults) {
    if (known.variant == key && known.workers == cell.workers && known.point == point) {
      ++known.seen;
      return;
    }
  }
  report.faults.push_back({key, cell.workers, point, std::string(name_of(fault.kind)) + ": " + fault.text, 1});
}

}  // namespace

RaceReport find_races(const StudyBase& study, const Plan& plan, const std::function<bool()>& stop) {
  const Grid grid = decide(study, plan, usable_processors_now());
  RaceReport report;
  report.title = study.title();
  report.seed = plan.seed != 0 ? plan.seed : (std::random_device()() | 1u);
  report.variants = static_cast<int>(grid.variants.size());
  std::mt19937_64 random(report.seed);
  const std::int64_t start = now_ns();
  const auto spent = [&] { return plan.budget_s > 0 && static_cast<double>(now_ns() - start) * 1e-9 > plan.budget_s; };
  const RandomDelays on(report.seed);
  ProcessHost host(study, {plan.call_limit_s, plan.memory_limit_bytes, stop, false, plan.budget_s, plan.launcher});
  const Disturber disturber(report.seed);
  try {
    for (const Point& point : grid.points) {
      const std::vector<CellSpec> cells = random_cells(study, grid, point, random);
      std::vector<bool> over(cells.size(), false);
      BlockFacts facts;
      if (auto fault = host.open(point, cells, facts); fault && fault->kind != Fault::Kind::threads_left) {
        report.faults.push_back({"baseline", 1, point, fault->text, 1});
        continue;
      }
      const int rounds = plan.rounds > 0 ? plan.rounds : usual_rounds;
      for (int round = 1; round <= rounds && !spent(); ++round) {
        for (std::size_t i = 0; i < cells.size() && !spent(); ++i) {
          if (over[i]) continue;
          const Visit visit = host.visit(i, {round, 0, true});
          over[i] = visit.over;
          ++report.trials;
          for (const Fault& fault : visit.seen.faults) note(report, study, cells[i], point, fault);
        }
      }
      host.close();
    }
  } catch (const Stopped&) {
  } catch (const BlockLost& lost) {
    report.faults.push_back({"baseline", 1, grid.points.front(), lost.fault.text, 1});
  }
  return report;
}

}  // namespace antcrew
