#include "antcrew/analysis/worth.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <utility>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/analysis/pairing.hpp"

namespace antcrew::analysis_layer {
namespace {

constexpr double worth_more = 0.98;  // of the time with fewer workers
constexpr int places_between = 200;  // looked at between two sizes

struct Sized {
  double size;
  double time_s;
};
using Curve = std::vector<Sized>;

double at(const Curve& curve, double size) {
  const auto after = std::lower_bound(curve.begin(), curve.end(), size,
                                      [](const Sized& one, double wanted) { return one.size < wanted; });
  if (after == curve.end()) return curve.back().time_s;
  if (after == curve.begin() || after->size == size) return after->time_s;
  const Sized& before = *(after - 1);
  return before.time_s + (after->time_s - before.time_s) * (size - before.size) / (after->size - before.size);
}

class FindingOut {
 public:
  FindingOut(const Analysed& study, const std::string& variant) : study_(study) {
    if (study.record->points.empty()) return;
    const Point& headline = study.record->points[headline_point(*study.record)];
    const CellFigures* of = chosen(headline, variant);
    if (of == nullptr) return;
    of_ = of;
    for (const CellFigures& f : study.cells) {
      const Point& point = study.record->points[f.cell->point];
      if (point.dimensions != headline.dimensions || point.pin != headline.pin || point.grown_for != 0 || !f.time_s ||
          !f.newest || point.size == 0)
        continue;
      const auto size = static_cast<double>(point.size);
      if (f.cell->kind == Cell::Kind::baseline && f.cell->baseline_for.empty())
        sequential_.push_back({size, explored_time(*f.cell, *f.time_s)});
      const bool its = f.cell->kind == Cell::Kind::variant && f.cell->key() == of->cell->key();
      if (!its) continue;
      if (f.verdict < Verdict::too_few_rounds) {
        faulty_.emplace(f.cell->workers, &f);
        continue;
      }
      measured_[{f.cell->workers, size}] = &f;
    }
    by_size(sequential_);
    for (const auto& [which, f] : measured_) {
      const auto& [workers, size] = which;
      if (f->explored) curves_[workers].push_back({size, at(sequential_, size) / f->explored->median});
    }
    // A worker count that was not sound at every size is no advice. What is only noisy has its median.
    std::erase_if(curves_, [&](const auto& one) { return one.second.size() != sequential_.size(); });
  }

  std::optional<Worth> worth() const {
    if (of_ == nullptr || sequential_.empty()) return std::nullopt;
    Worth found;
    found.of = of_;
    for (const auto& [workers, cell] : faulty_) found.faulty.push_back(cell);
    found.smallest = static_cast<std::size_t>(sequential_.front().size);
    found.largest = static_cast<std::size_t>(sequential_.back().size);
    found.steps = steps_with(std::numeric_limits<int>::max());
    int largest = 1;
    for (const Worth::Step& step : found.steps) largest = std::max(largest, step.workers);
    for (const auto& [workers, curve] : curves_) {
      if (workers > 1 && workers < largest) found.with_fewer.push_back({workers, steps_with(workers)});
    }
    // A size at which what is advised was not told from the sequential version, or a better count was not from it.
    for (const Sized& one : sequential_) {
      const int advised = workers_for(found.steps, one.size);
      bool open = advised > 1 && !pays(1, advised, one.size);
      for (const auto& [workers, curve] : curves_) {
        open = open || (workers > 1 && workers != advised &&
                        time_of(workers, one.size) < worth_more * time_of(advised, one.size));
      }
      found.unsure += open ? 1 : 0;
      found.most_regret = std::max(found.most_regret, regret(found, one.size));
    }
    if (!found.steps.empty() && found.steps.back().workers > 1)
      found.crossover = crossover_with(found.steps.back().workers);
    return found;
  }

 private:
  static void by_size(Curve& curve) {
    std::sort(curve.begin(), curve.end(), [](const Sized& a, const Sized& b) { return a.size < b.size; });
  }

  // Exploring tried all cells in the same rounds; what was tried again later met another machine, perhaps.
  static double explored_time(const Cell& cell, const Estimate& otherwise) {
    std::vector<double> times;
    for (const auto& [generation, time] : times_of(cell, exploring)) times.push_back(time);
    return times.empty() ? otherwise.median : median(std::move(times));
  }

  // The headline's leader where that is meant, else by the ratios that it was chosen by.
  const CellFigures* chosen(const Point& headline, const std::string& variant) const {
    const auto meant = [&](const CellFigures& f) {
      return f.cell->kind == Cell::Kind::variant && f.verdict == Verdict::holds &&
             (variant.empty() || f.cell->variant == variant || f.cell->key() == variant);
    };
    const CellFigures* leader = study_.conclusion.leader;
    if (leader != nullptr && meant(*leader)) return leader;
    const CellFigures* best = nullptr;
    for (const CellFigures& f : study_.cells) {
      if (!meant(f) || !f.newest || !f.explored || !(study_.record->points[f.cell->point] == headline)) continue;
      if (best == nullptr || f.explored->median > best->explored->median) best = &f;
    }
    return best;
  }

  std::vector<double> places() const {
    std::vector<double> all;
    for (std::size_t k = 0; k + 1 < sequential_.size(); ++k) {
      const double ratio = sequential_[k + 1].size / sequential_[k].size;
      for (int step = 0; step < places_between; ++step)
        all.push_back(sequential_[k].size * std::pow(ratio, static_cast<double>(step) / places_between));
    }
    all.push_back(sequential_.back().size);
    return all;
  }

  double time_of(int workers, double size) const {
    const auto curve = curves_.find(workers);
    return workers == 1 || curve == curves_.end() ? at(sequential_, size) : at(curve->second, size);
  }

  // The time with `instead` / the time with `workers` at a size that was tried; none where it was not settled.
  std::optional<Estimate> gain(int instead, int workers, double size) const {
    if (workers == 1) {
      auto ratio = gain(1, instead, size);
      if (ratio) ratio = Estimate{1 / ratio->median, 1 / ratio->high, 1 / ratio->low, ratio->count, true};
      return ratio;
    }
    const auto its = measured_.find({workers, size});
    if (its == measured_.end() || its->second->verdict != Verdict::holds) return std::nullopt;
    std::optional<Estimate> ratio = its->second->explored;  // the sequential time / its time
    if (instead > 1) {
      const auto other = measured_.find({instead, size});
      if (other == measured_.end() || other->second->verdict != Verdict::holds) return std::nullopt;
      ratio = ratio_of_times(*other->second->cell, *its->second->cell, level_of(*study_.record));
    }
    return ratio && ratio->claimed ? ratio : std::nullopt;
  }
  bool pays(int instead, int workers, double size) const {
    const auto ratio = gain(instead, workers, size);
    return ratio && ratio->low > 1;
  }
  // One is faster beyond doubt, or they are alike within 5 %.
  bool settled(int instead, int workers, double size) const {
    const auto ratio = gain(instead, workers, size);
    return ratio && (ratio->leaves_out(1) || (ratio->low > 0.95 && ratio->high < 1.05));
  }

  // Between two sizes that were tried a change may lie where the times cross, if it was settled at both ends; else it
  // is made at the first size at which it pays.
  std::vector<Worth::Step> steps_with(int most) const {
    std::vector<Worth::Step> steps;
    int last = 1;
    std::size_t below = 0;  // the size that was tried, not above the place
    for (const double size : places()) {
      while (below + 1 < sequential_.size() && sequential_[below + 1].size <= size) ++below;
      const bool tried = sequential_[below].size == size;
      const std::size_t above = tried || below + 1 == sequential_.size() ? below : below + 1;
      const int workers = best_at(size, last, most, sequential_[below].size, sequential_[above].size);
      if (workers == last) continue;
      steps.push_back({static_cast<std::size_t>(std::ceil(size)), workers});
      last = workers;
    }
    return steps;
  }

  // What was best for a smaller size stays, unless another saves enough and that was told: sizes near a border do not
  // swing.
  int best_at(double size, int last, int most, double below, double above) const {
    const auto told = [&](int workers) {
      return pays(last, workers, above) && (below == above || settled(last, workers, below));
    };
    int best = last;
    for (const auto& [workers, curve] : curves_) {
      if (workers > 1 && workers <= most && workers != last &&
          time_of(workers, size) < worth_more * time_of(best, size) && told(workers))
        best = workers;
    }
    if (last != 1 && time_of(1, size) < worth_more * time_of(best, size) && told(1)) best = 1;
    return best;
  }

  static int workers_for(const std::vector<Worth::Step>& steps, double size) {
    int workers = 1;
    for (const Worth::Step& step : steps) {
      if (static_cast<double>(step.from_size) <= size) workers = step.workers;
    }
    return workers;
  }

  double regret(const Worth& found, double size) const {
    const int workers = workers_for(found.steps, size);
    double least = time_of(1, size);
    for (const auto& [count, curve] : curves_) {
      if (count > 1) least = std::min(least, time_of(count, size));
    }
    return time_of(workers, size) / least;
  }

  std::optional<Crossover> crossover_with(int workers) const {
    for (const Crossover& one : crossovers_of(study_)) {
      const Point& point = study_.record->points[one.of->cell->point];
      if (one.of->cell->key() == of_->cell->key() && one.of->cell->workers == workers &&
          point.dimensions == study_.record->points[of_->cell->point].dimensions)
        return one;
    }
    return std::nullopt;
  }

  const Analysed& study_;
  const CellFigures* of_ = nullptr;
  Curve sequential_;
  std::map<int, Curve> curves_;
  std::map<int, const CellFigures*> faulty_;
  std::map<std::pair<int, double>, const CellFigures*> measured_;  // by workers and size
};

}  // namespace

std::optional<Worth> worth_of(const Analysed& study, const std::string& variant) {
  return FindingOut(study, variant).worth();
}

}  // namespace antcrew::analysis_layer
