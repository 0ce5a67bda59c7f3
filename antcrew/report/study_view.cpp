#include "antcrew/report/study_view.hpp"

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/report/confidence.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/cell_texts.hpp"

namespace antcrew::report_layer {
namespace {

FindingView view_of(const Analysed& study, Finding finding) {
  FindingView view;
  view.claim = claim_of(finding);
  if (finding.of != nullptr)
    view.whose =
        cell_in_words(*finding.of->cell) + " at " + point_in_words(study.record->points[finding.of->cell->point]);
  if (finding.kind == Finding::Kind::loss && finding.share > 0) view.share = percent_text(finding.share);
  view.worth = worth_of(finding);
  view.advice = advice_for(finding);
  view.numbers = std::move(finding);
  return view;
}

std::vector<FindingView> views_of(const Analysed& study, const std::vector<Finding>& findings) {
  std::vector<FindingView> views;
  for (const Finding& finding : findings) views.push_back(view_of(study, finding));
  return views;
}

RoundsView rounds_of(const Analysed& study) {
  RoundsView rounds;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind == Cell::Kind::baseline || !f.speedup) continue;
    if (f.confirmed) rounds.confirming = f.speedup->count;
    if (f.cell->kind != Cell::Kind::variant) continue;
    const int count = f.explored ? f.explored->count : f.speedup->count;
    rounds.fewest = rounds.fewest == 0 ? count : std::min(rounds.fewest, count);
    rounds.most = std::max(rounds.most, count);
    if (f.speedup->claimed) rounds.widest = std::max(rounds.widest, f.speedup->relative_half_width());
    rounds.checked = rounds.checked || f.cell->check.has_value();
  }
  return rounds;
}

}  // namespace

StudyView::StudyView(const Analysed& analysed)
    : study(analysed), title(printable(analysed.record->title, 160)), sentence(headline(analysed)) {
  for (const Point& point : study.record->points) points.push_back(point_in_words(point));
  for (const CellFigures& f : study.cells) {
    CellView cell;
    cell.numbers = &f;
    cell.name = cell_in_words(*f.cell);
    cell.at = points[f.cell->point];
    cell.texts = internal::cell_texts(f);
    cell.fitting_time_s = internal::fitting_time(study, f, times_fitted);
    cell.best = study.conclusion.leader == &f && study.conclusion.answer == Conclusion::Kind::best;
    cell.measured = f.verdict != Verdict::not_measured || f.time_s.has_value();
    cells.push_back(std::move(cell));
  }
  for (const CellFigures* f : explained_cells(study))
    explained.push_back({static_cast<std::size_t>(f - study.cells.data()), shares_text(study, *f),
                         views_of(study, findings_of(study, *f))});
  of_study = views_of(study, findings_of_study(study));
  warnings = views_of(study, study.remarks);
  rounds = rounds_of(study);
  confidence = confidence_text(*this);
  provenance = provenance_text(*this);
}

std::vector<const FindingView*> StudyView::findings() const {
  std::vector<const FindingView*> all;
  const auto remark = [](const FindingView& f) { return f.numbers.kind == Finding::Kind::remark; };
  const auto remarks = std::find_if(of_study.begin(), of_study.end(), remark);
  for (auto f = of_study.begin(); f != remarks; ++f) all.push_back(&*f);
  for (const ExplainedView& cell : explained) {
    for (const FindingView& f : cell.findings) all.push_back(&f);
  }
  for (auto f = remarks; f != of_study.end(); ++f) all.push_back(&*f);
  return all;
}

}  // namespace antcrew::report_layer
