#include "antcrew/report/findings.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/ledger_words.hpp"
#include "antcrew/report/scaling.hpp"

namespace antcrew::report_layer {
namespace {

const char* sure_text(const Finding& f) {
  switch (f.sure) {
    case Finding::Sure::measured:
      return "measured";
    case Finding::Sure::likely:
      return "likely";
    case Finding::Sure::open:
      break;
  }
  return "open";
}

std::string finding_text(const Finding& f, const std::string& mark, const std::string& claim) {
  std::string text =
      fmt::format("  {}{}{}. [{}]\n", mark,
                  f.kind == Finding::Kind::loss && f.share > 0 ? percent_text(f.share) + ": " : "", claim, f.id);
  const std::string worth = worth_of(f);
  if (!worth.empty()) text += "     " + worth + ".\n";
  const std::string advice = advice_for(f);
  if (!advice.empty()) text += "     Try: " + advice + ".\n";
  return text;
}

// Told where it is near enough to matter.
std::string limit_text(const CellFigures& cell, const std::vector<Finding>& findings) {
  const auto told =
      std::find_if(findings.begin(), findings.end(), [](const Finding& f) { return f.limit_speedup.has_value(); });
  if (told == findings.end() || *told->limit_speedup > 4 * cell.cell->workers) return {};
  static const std::map<std::string, const char*> because = {
      {"critical path", "With its longest chain of steps as it is"},
      {"lock", "While one lock is held for as long as it is"},
      {"stage", "With its busiest stage as it is"},
      {"piece", "While its longest piece stays whole"}};
  const auto found = because.find(told->limit_by);
  return fmt::format("  {}, no number of workers passes speedup {:.3g}.\n",
                     found == because.end() ? "With its serial part as it is" : found->second, *told->limit_speedup);
}

std::string cell_text(const Analysed& study, const CellFigures& cell, const Look& look) {
  const Point& point = study.record->points[cell.cell->point];
  std::string text =
      "\n" + styled(fmt::format("{} at {}", cell_in_words(*cell.cell), point_in_words(point)), Style::heading, look);
  if (cell.verdict >= Verdict::too_few_rounds && cell.speedup) {
    text += ": speedup " + ratio_text(*cell.speedup);
    if (cell.verdict != Verdict::holds) text += fmt::format(", {}", name_of(cell.verdict));
  } else {
    text += fmt::format(": {}", name_of(cell.verdict));
  }
  text += "\n" + ledger_text(study, cell, look);
  int number = 0;
  const std::vector<Finding> findings = findings_of(study, cell);
  text += limit_text(cell, findings);
  for (const Finding& f : findings) {
    if (f.kind == Finding::Kind::remark) {
      text += finding_text(f, "- ", claim_of(f));
    } else {
      text += finding_text(f, fmt::format("{}. ", ++number), claim_of(f));
    }
  }
  return text;
}

}  // namespace

std::string worth_of(const Finding& finding) {
  if (finding.kind != Finding::Kind::loss) return {};
  std::string text;
  if (finding.gain_speedup && finding.loss_s < 0)
    text = fmt::format("With all of that work speedup {:.3g} at most, if all else stays", *finding.gain_speedup);
  else if (finding.gain_speedup)
    text = fmt::format("Without it speedup {:.3g} at most, if all else stays", *finding.gain_speedup);
  if (text.empty()) text = "Its worth is not known";
  text += fmt::format(" ({})", sure_text(finding));
  if (finding.or_else == "noise")
    text += fmt::format(
        "; it may as well be the machine, of which {:.2g} processors were taken away meanwhile: measure again when it "
        "is idle",
        finding.figures.get("taken_processors"));
  else if (!finding.or_else.empty())
    text += fmt::format("; it may as well be {}", finding.or_else);
  return text;
}

std::string claim_with_cell(const Analysed& study, const Finding& finding) {
  if (finding.of == nullptr) return claim_of(finding);
  return fmt::format("{} at {}: {}", cell_in_words(*finding.of->cell),
                     point_in_words(study.record->points[finding.of->cell->point]), claim_of(finding));
}

std::string explanation(const Analysed& study, const Look& look, bool timelines) {
  std::string text = styled(printable(study.record->title, 200), Style::heading, look) + "\n" + headline(study) + "\n";
  const std::vector<Finding> of_study = findings_of_study(study);
  for (const Finding& f : of_study) {
    if (f.kind == Finding::Kind::meaning) text += "\n" + finding_text(f, "", claim_with_cell(study, f));
  }
  for (const CellFigures* cell : explained_cells(study)) {
    text += cell_text(study, *cell, look);
    if (timelines) text += timeline_text(*cell, look.width > 90 ? 80 : look.width > 30 ? look.width - 12 : 60);
  }
  text += scaling_text(study);
  std::string whole;
  for (const Finding& f : of_study) {
    if (f.kind != Finding::Kind::meaning) whole += finding_text(f, "- ", claim_with_cell(study, f));
  }
  if (!whole.empty()) text += "\nThe study as a whole:\n" + whole;
  return text;
}

namespace {

// Of the median instrumented run; nothing where its ledger is withheld.
std::string middle_ledger(const Analysed& study, const CellFigures& cell,
                          std::string (*in_words)(const LaneParts&, double)) {
  std::vector<Ledger> ledgers = ledgers_of(study, cell);
  if (ledgers.empty() || !withheld_because(study, cell).empty()) return {};
  std::sort(ledgers.begin(), ledgers.end(), [](const Ledger& a, const Ledger& b) { return a.wall_s < b.wall_s; });
  const Ledger& middle = ledgers[ledgers.size() / 2];
  return in_words(middle.parts_s, middle.lane_seconds());
}

}  // namespace

std::string shares_text(const Analysed& study, const CellFigures& cell) {
  return middle_ledger(study, cell, ledger_shares);
}

std::string first_findings(const Analysed& study, std::size_t most) {
  const std::vector<const CellFigures*> cells = explained_cells(study);
  if (cells.empty()) return {};
  std::string text;
  std::size_t told = 0;
  for (const Finding& f : findings_of(study, *cells.front())) {
    if (told == most) break;
    if (f.kind == Finding::Kind::remark && f.id != "nothing-wrong") continue;
    text += fmt::format("  {}{}{}.\n", ++told == 1 ? "" : "",
                        f.kind == Finding::Kind::loss && f.share > 0 ? percent_text(f.share) + ": " : "", claim_of(f));
    const std::string advice = advice_for(f);
    if (!advice.empty()) text += "     Try: " + advice + ".\n";
  }
  if (text.empty()) return {};
  return fmt::format("\nWhere the time of {} went, as shares of its workers' time (antcrew explain tells more):\n",
                     cell_in_words(*cells.front()->cell)) +
         middle_ledger(study, *cells.front(), ledger_bar) + text;
}

bool cannot_explain(const Analysed& study) {
  const std::vector<const CellFigures*> cells = explained_cells(study);
  return std::all_of(cells.begin(), cells.end(), [&](const CellFigures* cell) {
    const std::vector<Finding> findings = findings_of(study, *cell);
    return std::none_of(findings.begin(), findings.end(),
                        [](const Finding& f) { return f.kind != Finding::Kind::remark || f.id == "nothing-wrong"; });
  });
}

}  // namespace antcrew::report_layer
