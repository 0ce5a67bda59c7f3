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
// The time that fits the speedup beside it: the baseline's over the speedup, which was formed within rounds, while the
// two medians are of different ones. None where there is no speedup. `differs` becomes true where it is another time by
// more than a fiftieth.
std::optional<Estimate> fitting_time(const Analysed& study, const CellFigures& f, bool& differs);
// As marked_texts(), with that in place of the median.
std::vector<std::string> fitted_texts(const CellView& cell, bool name_again = true);
inline constexpr const char* fitted_note =
    "Times of variants are those that fit the speedups: the baseline's over the speedup of the same rounds.";
// Without them, for a table without a legend.
std::vector<std::string> short_texts(const CellView& cell, bool name_again);

}  // namespace antcrew::internal
