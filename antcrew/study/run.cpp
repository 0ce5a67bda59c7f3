#include "antcrew/study/run.hpp"

#include <algorithm>
#include <chrono>
#include <ctime>
#include <numeric>
#include <random>

#include "antcrew/machine/clock.hpp"
#include "antcrew/study/local_host.hpp"

namespace antcrew {
namespace {

constexpr int baseline_visits = 3;  // in each round, spread over it

std::string utc_now() {
  const std::time_t now = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&now, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

std::uint64_t fresh_seed() {
  std::random_device device;
  // 53 bits, so that every JSON reader keeps it whole.
  return ((static_cast<std::uint64_t>(device()) << 32 | device()) & ((1ull << 53) - 1)) | 1;
}

// Cells in random order, the baseline once in each third. Not std::shuffle: its order differs between libraries.
std::vector<std::size_t> order_of_round(std::size_t baseline, const std::vector<std::size_t>& others,
                                        std::mt19937_64& random) {
  std::vector<std::size_t> order = others;
  for (std::size_t i = order.size(); i > 1; --i) std::swap(order[i - 1], order[random() % i]);
  for (std::size_t third = baseline_visits; third-- > 0;) {
    const std::size_t first = others.size() * third / baseline_visits;
    const std::size_t last = others.size() * (third + 1) / baseline_visits;
    const std::size_t place = first + random() % (last - first + 1);
    order.insert(order.begin() + static_cast<std::ptrdiff_t>(place), baseline);
  }
  return order;
}

class Run {
 public:
  Run(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const BuildFacts& build)
      : plan_(plan), hooks_(hooks), host_(std::make_unique<LocalHost>(study)), started_ns_(now_ns()) {
    record_.machine = this_machine();
    grid_ = decide(study, plan, record_.machine.usable_processors());
    record_.library_version = library_version();
    record_.created = utc_now();
    record_.title = study.title();
    record_.agreement = study.agreement();
    record_.build = build;
#if defined(__OPTIMIZE__)
    record_.build.library_optimised = true;
#endif
    record_.plan = {plan.rounds, plan.budget_s, plan.seed != 0 ? plan.seed : fresh_seed()};
    record_.points = grid_.points;
    random_.seed(record_.plan.seed);
  }

  Record all_blocks() {
    for (std::size_t point = 0; point < grid_.points.size(); ++point) block(point);
    record_.measured_s = elapsed_s();
    record_.complete = true;
    return std::move(record_);
  }

 private:
  double elapsed_s() const {
    return static_cast<double>(now_ns() - started_ns_) * 1e-9;
  }

  // An equal share of what is left, for each point still to come.
  double block_ends_s(std::size_t point) const {
    const double left = std::max(0.0, plan_.budget_s - elapsed_s());
    return elapsed_s() + left / static_cast<double>(grid_.points.size() - point);
  }

  std::vector<CellSpec> add_cells(std::size_t point) {
    std::vector<CellSpec> specs{CellSpec{}};
    record_.cells.push_back({"baseline", "none", Cell::Kind::baseline, 1, point});
    for (const VariantDefinition* variant : grid_.variants) {
      for (const int workers : grid_.workers) {
        specs.push_back({variant, workers});
        record_.cells.push_back({variant->name, variant->crew, Cell::Kind::variant, workers, point});
      }
    }
    return specs;
  }

  void block(std::size_t point) {
    const std::size_t first = record_.cells.size();
    const std::vector<CellSpec> specs = add_cells(point);
    const double ends_s = block_ends_s(point);
    if (auto fault = host_->open(grid_.points[point], specs)) {
      record_.cells[first].faults.push_back(std::move(*fault));
    } else {
      std::vector<bool> over(specs.size(), false);
      for (int round = 1; round <= plan_.rounds && !over[0]; ++round) {
        one_round(point, first, round, over);
        if (hooks_.on_round) hooks_.on_round(record_);
        if (plan_.budget_s > 0 && elapsed_s() >= ends_s) break;
      }
    }
    host_->close();
  }

  void one_round(std::size_t point, std::size_t first, int round, std::vector<bool>& over) {
    std::vector<std::size_t> others;
    for (std::size_t i = 1; i < over.size(); ++i) {
      if (!over[i]) others.push_back(i);
    }
    const std::vector<std::size_t> order = order_of_round(0, others, random_);
    for (std::size_t step = 0; step < order.size() && !over[0]; ++step) {
      const std::size_t i = order[step];
      Cell& cell = record_.cells[first + i];
      tell_progress(point, round, static_cast<double>(step) / static_cast<double>(order.size()), cell);
      Visit visit = host_->visit(i, round);
      over[i] = visit.over;
      keep(cell, std::move(visit));
    }
  }

  void tell_progress(std::size_t point, int round, double of_round, const Cell& cell) const {
    if (!hooks_.on_visit) return;
    const double of_block = (round - 1 + of_round) / plan_.rounds;
    hooks_.on_visit({(static_cast<double>(point) + of_block) / static_cast<double>(grid_.points.size()), elapsed_s(),
                     grid_.points[point].size, cell.variant, cell.workers});
  }

  static void keep(Cell& cell, Visit visit) {
    if (visit.startup_s) cell.startup_s.push_back(*visit.startup_s);
    if (visit.cold_s) cell.cold_s.push_back(*visit.cold_s);
    if (visit.crew) {
      cell.asked_processors = visit.crew->asked_processors;
      cell.granted_processors = visit.crew->granted_processors;
    }
    if (visit.trial) cell.trials.push_back(*visit.trial);
    for (Fault& fault : visit.faults) cell.faults.push_back(std::move(fault));
  }

  const Plan& plan_;
  const RunHooks& hooks_;
  std::unique_ptr<Host> host_;
  std::int64_t started_ns_;
  Grid grid_;
  Record record_;
  std::mt19937_64 random_;
};

}  // namespace

Record run(const StudyBase& study, const Plan& plan, const RunHooks& hooks, const BuildFacts& build) {
  return Run(study, plan, hooks, build).all_blocks();
}

}  // namespace antcrew
