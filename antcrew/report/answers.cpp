#include "antcrew/report/answers.hpp"

#include <fmt/format.h>

#include "antcrew/report/headline.hpp"

namespace antcrew::report_layer {

std::string answers_text(const Record& record) {
  std::string text;
  for (std::size_t point = 0; point < record.points.size(); ++point) {
    std::string here;
    for (const Cell& cell : record.cells) {
      if (cell.point != point || cell.answer.empty()) continue;
      here += fmt::format("  {}: {}\n", cell_in_words(cell), cell.answer);
    }
    if (!here.empty()) text += fmt::format("Answers at {}:\n{}", point_in_words(record.points[point]), here);
  }
  return text.empty() ? "This record has no answers.\n" : text;
}

}  // namespace antcrew::report_layer
