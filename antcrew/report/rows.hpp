// Cells and trials as rows: one table of {head, value} for each, from which every form that is made of rows is written.
//
// Times are seconds, memory is bytes, shares are fractions; null is what does not exist. Texts are as the study has
// them: each form makes them safe for itself. Pure.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// One study among several, with the name by which its rows are told from the others'.
struct NamedStudy {
  std::string name;
  const Analysed* study = nullptr;
};

struct Rows {
  std::vector<std::string> heads;
  std::vector<std::vector<Json>> rows;  // texts, numbers and nulls
};

// A row a cell; further dimensions have a column each, headed "dimension NAME".
Rows cell_rows(const std::vector<NamedStudy>& studies);

// A row a trial, in the record's order.
Rows trial_rows(const std::vector<NamedStudy>& studies);

// The same of one study without what repeats its cell: that one's number comes first, and a page has room for no more.
Rows trial_rows_by_cell(const Analysed& study);

}  // namespace antcrew::report_layer
