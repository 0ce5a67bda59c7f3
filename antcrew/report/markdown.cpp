#include "antcrew/report/markdown.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/code_size.hpp"
#include "antcrew/report/confidence.hpp"
#include "antcrew/report/findings.hpp"
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

std::string table_of(const Analysed& study, std::size_t point) {
  std::vector<std::string> heads;
  std::string rule = "|";
  for (const GridColumn& column : internal::cell_columns()) {
    heads.push_back(column.head);
    rule += column.right ? " ---: |" : " --- |";
  }
  std::string text = row_text(heads) + rule + "\n";
  for (const CellFigures& f : study.cells) {
    if (f.cell->point == point) text += row_text(internal::cell_texts(study, f));
  }
  return text;
}

std::string findings_text(const Analysed& study) {
  constexpr std::size_t most = 5;
  std::string text;
  std::size_t told = 0;
  for (const Finding& f : findings_of(study)) {
    if (f.kind == Finding::Kind::remark || told == most) continue;
    ++told;
    text += fmt::format("{}. {}.", told, markdown_escaped(claim_with_cell(study, f)));
    const std::string worth = worth_of(f);
    const std::string advice = advice_for(f);
    if (!worth.empty()) text += " " + markdown_escaped(worth) + ".";
    if (!advice.empty()) text += " Try: " + markdown_escaped(advice) + ".";
    text += "\n";
  }
  return text.empty() ? text : "\nWhere the time went, and what to try:\n\n" + text;
}

std::string efforts(const Analysed& study) {
  std::string text;
  for (const CodeSize& effort : code_sizes_of(study)) {
    if (effort.source->lines == 0) continue;
    text += row_text({effort.source->of, std::to_string(effort.source->lines),
                      effort.cell == nullptr ? "" : ratio_text(*effort.cell->speedup)});
  }
  return text.empty() ? text : "\n| source | lines | speedup, at its fastest |\n| --- | ---: | --- |\n" + text;
}

std::string evidence_text(const Analysed& study) {
  std::string text;
  for (const CellFigures& f : study.cells) {
    if (!speaks_against(f)) continue;
    text += fmt::format("- {}: {} at {}: {}\n", name_of(f.verdict), markdown_escaped(cell_in_words(*f.cell)),
                        markdown_escaped(point_in_words(study.record->points[f.cell->point])),
                        markdown_escaped(f.evidence));
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

std::string markdown_text(const Analysed& study) {
  std::string text = "**" + markdown_escaped(headline(study)) + "**\n\n" + markdown_escaped(study.record->title) + "\n";
  for (std::size_t point = 0; point < study.record->points.size(); ++point) {
    text += "\n";
    if (study.record->points.size() > 1)
      text += "At " + markdown_escaped(point_in_words(study.record->points[point])) + ":\n\n";
    text += table_of(study, point);
  }
  return text + findings_text(study) + efforts(study) + evidence_text(study) + "\n" +
         markdown_escaped(confidence_line(study)) + "\n";
}

}  // namespace antcrew::report_layer
