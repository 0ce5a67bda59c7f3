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

std::string finding_text(const FindingView& f, const std::string& mark, const std::string& claim) {
  std::string text = fmt::format("  {}{}{}. [{}]\n", mark, f.share.empty() ? "" : f.share + ": ", claim, f.numbers.id);
  if (!f.worth.empty()) text += "     " + f.worth + ".\n";
  if (!f.advice.empty()) text += "     Try: " + f.advice + ".\n";
  return text;
}

// Told where it is near enough to matter.
std::string limit_text(const CellFigures& cell, const std::vector<FindingView>& findings) {
  const auto found_in = std::find_if(findings.begin(), findings.end(),
                                     [](const FindingView& f) { return f.numbers.limit_speedup.has_value(); });
  if (found_in == findings.end()) return {};
  const Finding* told = &found_in->numbers;
  if (*told->limit_speedup > 4 * cell.cell->workers) return {};
  static const std::map<std::string, const char*> because = {
      {"critical path", "With its longest chain of steps as it is"},
      {"lock", "While one lock is held for as long as it is"},
      {"stage", "With its busiest stage as it is"},
      {"piece", "While its longest piece stays whole"}};
  const auto found = because.find(told->limit_by);
  return fmt::format("  {}, no number of workers passes speedup {:.3g}.\n",
                     found == because.end() ? "With its serial part as it is" : found->second, *told->limit_speedup);
}

std::string explained_text(const StudyView& view, const ExplainedView& explained, const Look& look) {
  const CellView& its = view.cells[explained.cell];
  const CellFigures& cell = *its.numbers;
  std::string text = "\n" + styled(its.name + " at " + its.at, Style::heading, look);
  if (cell.verdict >= Verdict::too_few_rounds && cell.speedup) {
    text += ": speedup " + ratio_text(*cell.speedup);
    if (cell.verdict != Verdict::holds) text += fmt::format(", {}", name_of(cell.verdict));
  } else {
    text += fmt::format(": {}", name_of(cell.verdict));
  }
  text += "\n" + ledger_text(view.study, cell, look);
  int number = 0;
  text += limit_text(cell, explained.findings);
  for (const FindingView& f : explained.findings)
    text += finding_text(f, f.numbers.kind == Finding::Kind::remark ? "- " : fmt::format("{}. ", ++number), f.claim);
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
  const double taken = finding.figures.get("taken_processors");
  if (finding.or_else == "noise" && taken < 0.05)
    text += "; it may as well be noise: not all instrumented calls show it";
  else if (finding.or_else == "noise")
    text += fmt::format(
        "; it may as well be the machine, of which {:.2g} processors were taken away meanwhile: measure again when it "
        "is idle",
        taken);
  else if (!finding.or_else.empty())
    text += fmt::format("; it may as well be {}", finding.or_else);
  return text;
}

std::string explanation(const StudyView& view, const Look& look, bool timelines) {
  std::string text = styled(view.title, Style::heading, look) + "\n" + view.sentence + "\n";
  for (const FindingView& f : view.of_study) {
    if (f.numbers.kind == Finding::Kind::meaning) text += "\n" + finding_text(f, "", f.claim_with_cell());
  }
  for (const ExplainedView& cell : view.explained) {
    text += explained_text(view, cell, look);
    if (timelines)
      text += timeline_text(*view.cells[cell.cell].numbers, look.width > 90   ? 80
                                                            : look.width > 30 ? look.width - 12
                                                                              : 60);
  }
  text += text_of(scaling_of(view.study));
  std::string whole;
  for (const FindingView& f : view.of_study) {
    if (f.numbers.kind != Finding::Kind::meaning) whole += finding_text(f, "- ", f.claim_with_cell());
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

std::string first_findings(const StudyView& view, std::size_t most) {
  if (view.explained.empty()) return {};
  const ExplainedView& first = view.explained.front();
  std::string text;
  std::size_t told = 0;
  for (const FindingView& f : first.findings) {
    if (told == most) break;
    if (f.is_aside()) continue;
    ++told;
    text += fmt::format("  {}{}.\n", f.share.empty() ? "" : f.share + ": ", f.claim);
    if (!f.advice.empty()) text += "     Try: " + f.advice + ".\n";
  }
  if (text.empty()) return {};
  const CellView& cell = view.cells[first.cell];
  return fmt::format("\nWhere the time of {} went, as shares of its workers' time (antcrew explain tells more):\n",
                     cell.name) +
         middle_ledger(view.study, *cell.numbers, ledger_bar) + text;
}

bool cannot_explain(const StudyView& view) {
  return std::all_of(view.explained.begin(), view.explained.end(), [](const ExplainedView& cell) {
    return std::all_of(cell.findings.begin(), cell.findings.end(), [](const FindingView& f) { return f.is_aside(); });
  });
}

}  // namespace antcrew::report_layer
