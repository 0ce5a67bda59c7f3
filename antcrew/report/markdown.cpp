#include "antcrew/report/markdown.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/code_size.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string row_text(const std::vector<std::string>& cells) {
  std::string text = "|";
  for (const std::string& cell : cells) text += " " + markdown_escaped(cell) + " |";
  return text + "\n";
}

std::string table_of(const StudyView& view, std::size_t point) {
  std::vector<std::string> heads;
  std::string rule = "|";
  for (const GridColumn& column : internal::cell_columns()) {
    heads.push_back(column.head);
    rule += column.right ? " ---: |" : " --- |";
  }
  std::string text = row_text(heads) + rule + "\n";
  for (const CellView& cell : view.cells) {
    if (cell.numbers->cell->point == point) text += row_text(internal::fitted_texts(cell));
  }
  return text;
}

std::string findings_text(const StudyView& view) {
  constexpr std::size_t most = 5;
  std::string text;
  std::size_t told = 0;
  for (const FindingView* f : view.findings()) {
    if (f->numbers.kind == Finding::Kind::remark || told == most) continue;
    ++told;
    text += fmt::format("{}. {}.", told, markdown_escaped(f->claim_with_cell()));
    if (!f->worth.empty()) text += " " + markdown_escaped(f->worth) + ".";
    if (!f->advice.empty()) text += " Try: " + markdown_escaped(f->advice) + ".";
    text += "\n";
  }
  return text.empty() ? text : "\nWhere the time went, and what to try:\n\n" + text;
}

std::string code_sizes(const Analysed& study) {
  std::string text;
  for (const CodeSize& size : code_sizes_of(study)) {
    if (size.source->lines == 0) continue;
    text += row_text({size.source->of, std::to_string(size.source->lines),
                      size.cell == nullptr ? "" : ratio_text(*size.cell->speedup)});
  }
  return text.empty() ? text : "\n| source | lines | speedup, at its fastest |\n| --- | ---: | --- |\n" + text;
}

std::string evidence_text(const StudyView& view) {
  std::string text;
  for (const CellView& cell : view.cells) {
    const CellFigures& f = *cell.numbers;
    if (!speaks_against(f)) continue;
    text += fmt::format("- {}: {} at {}: {}\n", name_of(f.verdict), markdown_escaped(cell.name),
                        markdown_escaped(cell.at), markdown_escaped(f.evidence));
  }
  return text.empty() ? text : "\nWhat speaks against cells:\n\n" + text;
}

}  // namespace

std::string markdown_escaped(const std::string& text) {
  std::string out;
  for (const char c : printable(text)) {
    if (std::string("\\`*_{}[]<>#|~&$!").find(c) != std::string::npos) out += '\\';
    out += c;
  }
  return out;
}

std::string markdown_text(const StudyView& view) {
  std::string text =
      "**" + markdown_escaped(view.sentence) + "**\n\n" + markdown_escaped(view.study.record->title) + "\n";
  for (std::size_t point = 0; point < view.points.size(); ++point) {
    text += "\n";
    if (view.points.size() > 1) text += "At " + markdown_escaped(view.points[point]) + ":\n\n";
    text += table_of(view, point);
  }
  if (view.times_fitted) text += std::string("\n") + internal::fitted_note + "\n";
  return text + findings_text(view) + code_sizes(view.study) + evidence_text(view) + "\n" +
         markdown_escaped(view.provenance) + "\n";
}

}  // namespace antcrew::report_layer
