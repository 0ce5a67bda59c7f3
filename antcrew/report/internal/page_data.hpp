// What the scripts of a page work on: the study's figures, the order of its table, its trials.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/figure.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Columns of the table: as the terminal's, and where, when there are several points, before the verdict.
std::vector<GridColumn> page_columns(const StudyView& view);
bool is_number(const GridColumn& column);

// JSON that can stand in a script element. The single trials are left out where the page would become too large with
// them; `with_trials` says so.
std::string page_data(const StudyView& view, std::size_t most_bytes, bool& with_trials);

// A figure, and the element of the page that it is drawn in.
struct PlacedFigure {
  Figure figure;
  std::string into;
};
// Likewise, of a page that has figures and no table of cells.
std::string history_data(const std::string& title, const std::string& sentence,
                         const std::vector<PlacedFigure>& figures);

}  // namespace antcrew::internal
