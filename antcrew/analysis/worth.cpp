#include "antcrew/analysis/worth.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/conclusion.hpp"

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
    const Point& headline = study.record->points[headline_point(*study.record)];
    const CellFigures* of = chosen(headline, variant);
    if (of == nullptr) return;
    of_ = of;
    for (const CellFigures& f : study.cells) {
      const Point& point = study.record->points[f.cell->point];
      if (point.dimensions != headline.dimensions || point.pin != headline.pin || point.grown_for != 0 || !f.time_s ||
          !f.newest || point.size == 0)
        continue;
      const Sized one{static_cast<double>(point.size), f.time_s->median};
      if (f.cell->kind == Cell::Kind::baseline && f.cell->baseline_for.empty()) sequential_.push_back(one);
      const bool its = f.cell->kind == Cell::Kind::variant && f.cell->key() == of->cell->key();
      if (!its) continue;
      if (f.verdict < Verdict::too_few_rounds) {
        faulty_.emplace(f.cell->workers, &f);
        continue;
      }
      curves_[f.cell->workers].push_back(one);
      if (f.verdict != Verdict::holds) unsure_.insert(one.size);
    }
    by_size(sequential_);
    for (auto& [workers, curve] : curves_) by_size(curve);
    // A worker count that was not sound at every size is no advice. What is only noisy has its median.
    std::erase_if(curves_, [&](const auto& one) { return one.second.size() != sequential_.size(); });
  }

  std::optional<Worth> worth() const {
    if (of_ == nullptr || sequential_.empty()) return std::nullopt;
    Worth found;
    found.of = of_;
    for (const auto& [workers, cell] : faulty_) found.faulty.push_back(cell);
    found.unsure = static_cast<int>(unsure_.size());
    found.smallest = static_cast<std::size_t>(sequential_.front().size);
    found.largest = static_cast<std::size_t>(sequential_.back().size);
    found.steps = steps_with(std::numeric_limits<int>::max());
    int largest = 1;
    for (const Worth::Step& step : found.steps) largest = std::max(largest, step.workers);
    for (const auto& [workers, curve] : curves_) {
      if (workers > 1 && workers < largest) found.with_fewer.push_back({workers, steps_with(workers)});
    }
    for (const Sized& one : sequential_) found.most_regret = std::max(found.most_regret, regret(found, one.size));
    if (!found.steps.empty() && found.steps.back().workers > 1)
      found.crossover = crossover_with(found.steps.back().workers);
    return found;
  }

 private:
  static void by_size(Curve& curve) {
    std::sort(curve.begin(), curve.end(), [](const Sized& a, const Sized& b) { return a.size < b.size; });
  }

  const CellFigures* chosen(const Point& headline, const std::string& variant) const {
    const CellFigures* best = nullptr;
    for (const CellFigures& f : study_.cells) {
      const bool meant = variant.empty() || f.cell->variant == variant || f.cell->key() == variant;
      if (f.cell->kind != Cell::Kind::variant || !meant || f.verdict != Verdict::holds || !f.time_s) continue;
      if (!(study_.record->points[f.cell->point] == headline)) continue;
      if (best == nullptr || f.time_s->median < best->time_s->median) best = &f;
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

  std::vector<Worth::Step> steps_with(int most) const {
    std::vector<Worth::Step> steps;
    int last = 1;
    for (const double size : places()) {
      const int workers = best_at(size, last, most);
      if (workers == last) continue;
      steps.push_back({static_cast<std::size_t>(std::ceil(size)), workers});
      last = workers;
    }
    return steps;
  }

  // What was best for a smaller size stays, unless another saves enough: sizes near a border do not swing.
  int best_at(double size, int last, int most) const {
    int best = last;
    for (const auto& [workers, curve] : curves_) {
      if (workers > 1 && workers <= most && time_of(workers, size) < worth_more * time_of(best, size)) best = workers;
    }
    if (time_of(1, size) < worth_more * time_of(best, size)) best = 1;
    return best;
  }

  double regret(const Worth& found, double size) const {
    int workers = 1;
    for (const Worth::Step& step : found.steps) {
      if (static_cast<double>(step.from_size) <= size) workers = step.workers;
    }
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
  std::set<double> unsure_;
};

}  // namespace

std::optional<Worth> worth_of(const Analysed& study, const std::string& variant) {
  return FindingOut(study, variant).worth();
}

}  // namespace antcrew::analysis_layer
