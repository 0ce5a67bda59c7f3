// A host whose cell processes are numbers and whose clock is moved by hand: a whole study in a fraction of a
// millisecond.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/study/run_loop.hpp"
#include "antcrew/study/study.hpp"

namespace test {

using namespace antcrew;
using namespace antcrew::layers;

struct FakeClock {
  std::int64_t ns = 1'000'000'000;
  void advance(double seconds) { ns += static_cast<std::int64_t>(seconds * 1e9); }
  double s() const { return static_cast<double>(ns) * 1e-9; }
};

class FakeHost : public Host {
 public:
  explicit FakeHost(FakeClock& clock) : clock_(clock) {}

  // What a call of a cell takes in a cell process; `fresh` when the cell process is new.
  std::function<double(const CellSpec&, std::size_t cell, int round, bool fresh)> call_s;
  double input_s = 0.001;
  double renewing_s = 0.0005;
  std::function<double(double call_s)> visit_s = [](double call) { return 3 * call; };  // beyond renewing
  std::function<void(std::size_t cell, int round, Visit& visit)> meddle = {};

  std::function<std::optional<double>(int copies)> crowd_s = {};

  // What was asked of it.
  struct Asked {
    std::size_t point_size;
    std::size_t cell;
    VisitOrder order;
    CellSpec spec;
    double at_s;
  };
  std::vector<Asked> asked;
  bool keep_asked = true;
  std::function<void(int opened)> on_open;  // while the input is made
  struct Checked {
    CellSpec spec;
    std::size_t size;
    std::size_t other_size;
  };
  std::vector<Checked> checked;
  double check_s = 0;
  struct Metered {
    CellSpec spec;
    int round;  // the last one before it
    int calls;
    bool one_worker;
  };
  std::vector<Metered> metered;
  double meter_s = 0;  // what metering a cell takes; nothing is metered where it takes none
  int last_round = 0;
  int opened = 0;
  int closed = 0;
  int launched = 0;                  // of them, in a program started anew
  std::vector<std::uint64_t> seeds;  // of the inputs, as they were asked for
  std::size_t most_alive = 0;        // cell processes at the same time

  std::optional<Fault> open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) override {
    ++opened;
    if (on_open) on_open(opened);
    if (facts.afresh) ++launched;
    seeds.push_back(at.seed);
    at_ = at;
    cells_ = cells;
    alive_.assign(cells.size(), false);
    clock_.advance(input_s);
    facts.make_input_s = input_s / 2;
    facts.reference_s = input_s / 2;
    return std::nullopt;
  }
  Visit visit(std::size_t cell, const VisitOrder& order) override {
    if (keep_asked) asked.push_back({at_.size, cell, order, cells_[cell], clock_.s()});
    Visit visit;
    const bool fresh = !alive_[cell];
    alive_[cell] = true;
    most_alive = std::max(most_alive, static_cast<std::size_t>(std::count(alive_.begin(), alive_.end(), true)));
    if (fresh) {
      clock_.advance(renewing_s);
      visit.renewing_s = renewing_s;
    }
    last_round = order.round;
    Trial trial;
    trial.round = order.round;
    trial.wall_s = call_s(cells_[cell], cell, order.round, fresh);
    visit.began_ns = clock_.ns;
    clock_.advance(visit_s(trial.wall_s));
    visit.seen.trials.push_back(std::move(trial));
    if (meddle) meddle(cell, order.round, visit);
    if (!order.keep || visit.replace || visit.over) alive_[cell] = false;
    return visit;
  }
  Visit check(std::size_t cell, std::size_t other_size) override {
    checked.push_back({cells_[cell], at_.size, other_size});
    clock_.advance(check_s);
    Visit visit;
    visit.seen.check = CheckFacts{other_size, true, {}};
    return visit;
  }
  Visit meter(std::size_t cell, int calls, bool one_worker) override {
    Visit visit;
    if (meter_s <= 0) return visit;
    clock_.advance(meter_s);
    metered.push_back({cells_[cell], last_round, calls, one_worker});
    visit.seen.metered.resize(static_cast<std::size_t>(calls));
    for (auto& sums : visit.seen.metered) sums.withheld = "it is simulated";
    return visit;
  }
  void renew() override { alive_.assign(alive_.size(), false); }
  std::optional<double> crowd(int copies) override { return crowd_s ? crowd_s(copies) : std::nullopt; }
  void close() override { ++closed; }

 private:
  FakeClock& clock_;
  Point at_;
  std::vector<CellSpec> cells_;
  std::vector<bool> alive_;
};

// A study that is described but never called: `variants` of them, each with these worker counts.
class FakeStudy {
 public:
  using Make = std::size_t (*)(const StudyPoint&);
  FakeStudy(int variants, std::vector<int> workers, std::vector<std::size_t> sizes = {1000})
      : study_(
            "Simulated", +[](const StudyPoint& at) { return at.size; }, +[](const std::size_t& n) { return n; }) {
    study_.sizes(std::move(sizes));
    study_.workers(std::move(workers));
    for (int v = 0; v < variants; ++v)
      study_.template variant<Workers>("v" + std::to_string(v), [](const std::size_t& n, Workers) { return n; });
  }
  const StudyBase& base() const { return study_; }
  void inputs(int count) { study_.inputs(count); }

 private:
  Study<Make, std::size_t (*)(const std::size_t&), Exactly> study_;
};

inline Record run_fake(FakeHost& host, FakeClock& clock, const FakeStudy& study, const Plan& plan,
                       const RunHooks& hooks = {}, const Record* begun = nullptr) {
  RunTools tools{host};
  tools.machine.limits.online_processors = tools.machine.limits.affinity_processors = 8;
  tools.now_ns = [&clock] { return clock.ns; };
  tools.machine_times = [] { return MachineTimes{}; };
  Record fresh;
  fresh.library_version = "0";
  fresh.created = "2026-01-02T03:04:05Z";
  fresh.build = {"g++", "-O3", "Release", true, true, "0123", ""};
  return run_with(tools, study.base(), plan, hooks, fresh, begun);
}

// A host, its clock, and what is said: calls of about so many seconds, faster with more workers.
struct Theatre {
  FakeClock clock;
  FakeHost host{clock};
  std::vector<std::string> notes;
  RunHooks hooks;

  explicit Theatre(double call_s = 0.001) {
    host.call_s = [call_s](const CellSpec& spec, std::size_t, int round, bool) {
      const double faster = spec.baseline() ? 1 : spec.workers == 1 ? 0.97 : 0.6 * spec.workers;
      return call_s / faster * (1 + 0.001 * (round % 7));
    };
    hooks.on_note = hooks.on_left_out = [this](const std::string& note) { notes.push_back(note); };
  }
  std::string all_notes() const {
    std::string all;
    for (const std::string& note : notes) all += note + "\n";
    return all;
  }
};

inline Plan staged(double budget_s) {
  Plan plan;
  plan.budget_s = budget_s;
  plan.seed = 3;
  return plan;
}

}  // namespace test
