// A grid of text: aligned columns that give way, least important first, when there is not enough room.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/layer.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

struct GridColumn {
  std::string head;
  bool right = false;  // numbers
  int importance = 9;  // the lowest gives way first; 9 never does
};

class TextGrid {
 public:
  explicit TextGrid(std::vector<GridColumn> columns) : columns_(std::move(columns)) {}

  // One text a column, and where not all are plain one style a column.
  void row(std::vector<std::string> cells, std::vector<Style> styles = {});
  // A line across all columns, above the rows that follow.
  void heading(std::string text);

  // Fits into `width` columns if giving up columns can do that (0 = as wide as it likes).
  std::string text(const Look& look) const;
  // Heads of the columns that text(width) leaves out.
  std::vector<std::string> left_out(std::size_t width) const;

 private:
  struct Line {
    std::string heading;
    std::vector<std::string> cells;  // empty for a heading
    std::vector<Style> styles;       // empty = all plain
  };
  std::vector<std::size_t> widths() const;
  std::vector<bool> shown(std::size_t width) const;

  std::vector<GridColumn> columns_;
  std::vector<Line> lines_;
};

}  // namespace antcrew::report_layer
