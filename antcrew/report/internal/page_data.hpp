// What the scripts of a page work on: the study's figures, the order of its table, its trials.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/grid.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Columns of the table: as the terminal's, and where and why at the end.
std::vector<GridColumn> page_columns();
bool is_number(const GridColumn& column);

// JSON that can stand in a script element. The single trials are left out where the page would become too large with
// them; `with_trials` says so.
std::string page_data(const StudyView& view, std::size_t most_bytes, bool& with_trials);

}  // namespace antcrew::internal
