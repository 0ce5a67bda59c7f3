// Rows as separated values, for spreadsheets and scripts: a head, then a line a row, decimal points whatever the
// locale, empty where a value does not exist. Text that a spreadsheet could take for a formula is given an apostrophe
// in front. Pure.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/rows.hpp"

namespace antcrew::report_layer {

// RFC 4180: fields quoted where they must be, lines that end in CR LF.
std::string csv_text(const Rows& rows);

// Fields between tabs, as spreadsheets take them from the clipboard; a tab inside a text becomes a blank.
std::string tsv_text(const Rows& rows);

// One field of a CSV.
std::string csv_field(const std::string& text);

}  // namespace antcrew::report_layer
