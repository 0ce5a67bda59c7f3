#include "antcrew/report/figure.hpp"

#include <algorithm>
#include <array>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/confidence.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {
namespace {

struct Maker {
  const char* kind;
  internal::MaybeFigure (*make)(const Analysed&);
};
constexpr std::array<Maker, 15> makers = {{{"speedup", internal::speedup_figure},
                                           {"ledger", internal::ledger_figure},
                                           {"ledger-shares", internal::ledger_shares_figure},
                                           {"speedup-over-size", internal::speedup_over_size_figure},
                                           {"time", internal::time_figure},
                                           {"efficiency", internal::efficiency_figure},
                                           {"dimensions", internal::dimensions_figure},
                                           {"ladder", internal::ladder_figure},
                                           {"variants", internal::variants_figure},
                                           {"phases", internal::phases_figure},
                                           {"timeline", internal::timeline_figure},
                                           {"messages", internal::messages_figure},
                                           {"memory", internal::memory_figure},
                                           {"roofline", internal::roofline_figure},
                                           {"trials", internal::trials_figure}}};

std::size_t widest_curve(const Analysed& study) {
  std::size_t most = 0;
  for (const auto& curve : study.curves) most = std::max(most, curve.size());
  return most;
}

}  // namespace

const std::vector<std::string>& figure_kinds() {
  static const std::vector<std::string> kinds = [] {
    std::vector<std::string> all;
    for (const Maker& maker : makers) all.emplace_back(maker.kind);
    return all;
  }();
  return kinds;
}

std::optional<Figure> figure_of(const Analysed& study, const std::string& kind) {
  for (const Maker& maker : makers) {
    if (kind != maker.kind) continue;
    if (study.cells.empty()) return std::nullopt;
    std::optional<Figure> figure = maker.make(study);
    if (figure) internal::finish(*figure, study, figure_basis(StudyView(study)));
    return figure;
  }
  bad_input("report.figure", "figure:" + kind, "there is no figure of this kind",
            "choose from " + joined(figure_kinds()));
}

std::vector<Figure> figures_of(const Analysed& study) {
  std::vector<Figure> figures;
  if (study.cells.empty()) return figures;
  const std::string basis = figure_basis(StudyView(study));
  for (const Maker& maker : makers) {
    if (auto figure = maker.make(study)) {
      internal::finish(*figure, study, basis);
      figures.push_back(std::move(*figure));
    }
  }
  return figures;
}

// Where there is one worker count only, what changes with the size says more, or else what each step brought.
std::string telling_kind(const Analysed& study) {
  std::vector<std::string> wanted = {"speedup", "speedup-over-size", "ladder", "trials"};
  if (widest_curve(study) < 2) wanted = {"ladder", "speedup-over-size", "variants", "speedup", "trials"};
  for (const std::string& kind : wanted) {
    const auto maker = std::find_if(makers.begin(), makers.end(), [&](const Maker& m) { return kind == m.kind; });
    if (!study.cells.empty() && maker->make(study)) return kind;
  }
  return "speedup";
}

}  // namespace antcrew::report_layer
