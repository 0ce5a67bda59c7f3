// What is said of a study, in words and numbers: made once from its analysis, and laid out by each form.
//
//   std::string text = result_text(StudyView(analysed), look);
//
// Words are whole: no line is broken, nothing is escaped, only long names are shortened. Pure; the analysis stays the
// caller's, and is pointed into.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/analysis/finding.hpp"
#include "antcrew/analysis/forward.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct FindingView {
  Finding numbers;
  std::string claim;   // one sentence without a full stop
  std::string whose;   // `"split evenly" (ThreadCrew) with 2 workers at size 100`; empty: the study's
  std::string share;   // "12 %" of its workers' time; empty where it is no loss
  std::string worth;   // "Without it speedup 3.2 at most, …"; empty likewise
  std::string advice;  // what to change or measure next; empty when there is nothing to do

  // The claim with the cell that it is about, for lists of several cells.
  std::string claim_with_cell() const { return whose.empty() ? claim : whose + ": " + claim; }
  // Worth knowing, and nothing that was lost; that nothing is wrong counts as an answer.
  bool is_aside() const {
    return numbers.kind == Finding::Kind::remark && numbers.id != "nothing-wrong" && numbers.id != "waits-can-overlap";
  }
};

struct CellView {
  const CellFigures* numbers = nullptr;
  std::string name;                             // `"split evenly" (ThreadCrew) with 2 workers`, "the baseline"
  std::string at;                               // its point
  std::vector<std::string> texts;               // a text a column of cell_columns(), without marks
  std::optional<Estimate> fitting_time_s = {};  // see fitting_time()
  bool best = false;                            // the sentence names it as the best
  bool measured = false;
};

// A cell whose time is explained.
struct ExplainedView {
  std::size_t cell = 0;  // in StudyView::cells
  std::string shares;    // "89 % at work, 10 % idle at the join"; empty without a ledger
  std::vector<FindingView> findings;
};

// Rounds that figures of variants rest on.
struct RoundsView {
  int fewest = 0;
  int most = 0;          // 0 = nothing was timed to its end
  double widest = 0;     // the relative half width of the widest interval; 0 = none is claimed
  int confirming = 0;    // of the best, in fresh rounds; 0 = it was not confirmed
  bool checked = false;  // with another input, too
};

struct StudyView {
  StudyView(const Analysed& analysed);  // NOLINT: whoever has an analysis can have it laid out

  const Analysed& study;
  std::string title;
  std::string sentence;             // what was found
  std::vector<std::string> points;  // in words
  std::vector<CellView> cells;
  std::vector<ExplainedView> explained;  // the one that the sentence is about first
  std::vector<FindingView> of_study;
  std::vector<FindingView> warnings;
  RoundsView rounds;
  bool times_fitted = false;  // some of those times are not the medians
  std::string confidence;     // "11 to 17 rounds in fresh processes, answers compared, machine idle."
  std::string provenance;     // the machine, rounds, noise and date, in one line

  // Of the study and of explained cells, in the order in which they are told.
  std::vector<const FindingView*> findings() const;
};

}  // namespace antcrew::report_layer
