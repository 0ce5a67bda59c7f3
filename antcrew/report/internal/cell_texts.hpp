// A cell in the words of the table: the same figures, rounded alike, in every form that people read.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/layer.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Of workers that mostly wait, processors are not what limits.
bool limited_by_processors(const CellFigures& f);

std::vector<GridColumn> cell_columns();
// A style a column, after the verdict; the best cell's figures stand out.
std::vector<Style> cell_styles(const CellView& cell);

// Whether the row of a cell need not name its variant again below another's.
bool same_variant(const CellFigures* above, const CellFigures& f);

// A text a column, without marks.
std::vector<std::string> cell_texts(const CellFigures& f);
// With the marks that the legend explains. name_again: false where the row above is of the same variant.
std::vector<std::string> marked_texts(const CellView& cell, bool name_again = true);
// Without them, for a table without a legend.
std::vector<std::string> short_texts(const CellView& cell, bool name_again);

}  // namespace antcrew::internal
