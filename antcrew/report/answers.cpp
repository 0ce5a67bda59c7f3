#include "antcrew/report/answers.hpp"

#include <fmt/format.h>

#include "antcrew/record/record.hpp"
#include "antcrew/report/headline.hpp"

namespace antcrew::report_layer {

std::string answers_text(const Record& record) {
  std::string text;
  for (std::size_t point = 0; point < record.points.size(); ++point) {
    const Cell* baseline = baseline_of(record, point);
    const bool known = baseline != nullptr && !baseline->answer.empty();
    std::string here = known ? "  the baseline: " + baseline->answer + "\n" : "";
    int same = 0;
    for (const Cell& cell : record.cells) {
      if (cell.point != point || cell.answer.empty() || &cell == baseline) continue;
      if (known && cell.answer == baseline->answer) {
        ++same;
      } else {
        here += fmt::format("  {}: {}\n", cell_in_words(cell), cell.answer);
      }
    }
    if (same > 0) here += fmt::format("  the same from {} other cell{}\n", same, same == 1 ? "" : "s");
    if (!here.empty()) text += fmt::format("Answers at {}:\n{}", point_in_words(record.points[point]), here);
  }
  return text.empty() ? "This record has no answers.\n" : text;
}

}  // namespace antcrew::report_layer
