// Figures and trials as CSV (RFC 4180): a head, lines that end in CR LF, decimal points whatever the locale.
//
// Times are seconds, memory is bytes, shares are fractions. What does not exist is empty. Text that a spreadsheet could
// take for a formula is given an apostrophe in front. Pure.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::report_layer {

// One study among several, with the name by which its rows are told from the others'.
struct NamedStudy {
  std::string name;
  const Analysed* study = nullptr;
};

// A row a cell; further dimensions have a column each, headed "dimension NAME".
std::string cells_csv(const std::vector<NamedStudy>& studies);

// A row a trial, in the record's order.
std::string trials_csv(const std::vector<NamedStudy>& studies);

// One field: quoted where it must be.
std::string csv_field(const std::string& text);

}  // namespace antcrew::report_layer
