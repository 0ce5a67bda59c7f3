// What all figures have in common, once their own data are there.
#include <algorithm>
#include <cmath>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/internal/end_labels.hpp"
#include "antcrew/report/internal/figure_parts.hpp"

namespace antcrew::internal {
namespace {

bool covers(const Panel& panel, const FigurePoint& a, const FigurePoint& b) {
  constexpr double sign = 0.022;  // height of a marker, as a share of the panel
  return std::fabs(share_on(panel.y, a.y) - share_on(panel.y, b.y)) < sign ||
         (a.certainty != Certainty::exact && b.certainty != Certainty::exact && a.low <= b.high && b.low <= a.high);
}

bool cover_each_other(const Panel& panel, const Series& a, const Series& b) {
  for (const FigurePoint& one : a.points) {
    for (const FigurePoint& other : b.points) {
      if (one.x == other.x && covers(panel, one, other)) return true;
    }
  }
  return false;
}

// Only the figures' own statement of what is noisy: verdicts.
bool mark_noisy(Panel& panel, const Analysed& study) {
  bool any = false;
  for (Series& series : panel.series) {
    if (series.kind == Series::Kind::bars || series.kind == Series::Kind::dots) continue;
    for (FigurePoint& point : series.points) {
      if (point.cell < 0) continue;
      const Verdict verdict = study.cells[static_cast<std::size_t>(point.cell)].verdict;
      point.noisy = verdict == Verdict::too_noisy || verdict == Verdict::too_few_rounds;
      any = any || point.noisy;
    }
  }
  return any;
}

}  // namespace

void set_aside(Panel& panel) {
  std::vector<double> places;
  for (Series& series : panel.series) {
    if (series.kind != Series::Kind::line) return;
    for (FigurePoint& point : series.points) {
      point.aside = 0;
      places.push_back(point.x);
    }
  }
  std::sort(places.begin(), places.end());
  places.erase(std::unique(places.begin(), places.end()), places.end());
  double room = 0.1;
  for (std::size_t k = 1; k < places.size(); ++k)
    room = std::min(room, share_on(panel.x, places[k]) - share_on(panel.x, places[k - 1]));
  // A line keeps its form: all its points move alike. Those that cover each other anywhere, by way of others too, are
  // a group.
  std::vector<bool> done(panel.series.size(), false);
  for (std::size_t first = 0; first < panel.series.size(); ++first) {
    if (done[first]) continue;
    std::vector<std::size_t> group = {first};
    done[first] = true;
    for (std::size_t k = 0; k < group.size(); ++k) {
      for (std::size_t other = 0; other < panel.series.size(); ++other) {
        if (done[other] || !cover_each_other(panel, panel.series[group[k]], panel.series[other])) continue;
        done[other] = true;
        group.push_back(other);
      }
    }
    std::sort(group.begin(), group.end());
    constexpr double widest_step = 0.012;
    const double step = std::min(widest_step, 0.6 * room / static_cast<double>(group.size()));
    for (std::size_t k = 0; k < group.size(); ++k) {
      for (FigurePoint& point : panel.series[group[k]].points)
        point.aside = (static_cast<double>(k) - static_cast<double>(group.size() - 1) / 2) * step;
    }
  }
}

void finish(Figure& figure, const Analysed& study, const std::string& basis) {
  figure.study = printable(study.record->title);
  figure.basis = basis;
  bool noisy = false;
  bool seen_only = false;
  for (Panel& panel : figure.panels) {
    set_aside(panel);
    noisy = mark_noisy(panel, study) || noisy;
    for (const Series& series : panel.series)
      seen_only = seen_only || std::any_of(series.points.begin(), series.points.end(), [](const FigurePoint& point) {
                    return point.certainty == Certainty::range;
                  });
  }
  if (seen_only) figure.caption += " Thin dotted bars are only the range seen, in too few rounds for an interval.";
  if (noisy) figure.caption += " Hollow or pale: too noisy, or of too few rounds, to rest anything on.";
}

}  // namespace antcrew::internal
