// A cell in the words of the table: the same figures, rounded alike, in every form that people read.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Of workers that mostly wait, processors are not what limits.
bool limited_by_processors(const CellFigures& f);

// The leader that the headline names, where it names one as the best.
bool is_best(const Analysed& study, const CellFigures& f);

std::vector<GridColumn> cell_columns();
// A style a column, after the verdict; the best cell's figures stand out.
std::vector<Style> cell_styles(const Analysed& study, const CellFigures& f);

// Whether the row of a cell need not name its variant again below another's.
bool same_variant(const CellFigures* above, const CellFigures& f);

// A text a column. name_again: false where the row above is of the same variant.
std::vector<std::string> cell_texts(const Analysed& study, const CellFigures& f, bool name_again = true);
// The same without marks that need a legend.
std::vector<std::string> short_cell_texts(const Analysed& study, const CellFigures& f, bool name_again = true);

}  // namespace antcrew::internal
