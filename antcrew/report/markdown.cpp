#include "antcrew/report/markdown.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string row_text(const std::vector<std::string>& cells) {
  std::string text = "|";
  for (const std::string& cell : cells) text += " " + markdown_escaped(cell) + " |";
  return text + "\n";
}

constexpr std::size_t most_rows = 16;

// Of the headline's point; of many cells each variant at its fastest, and what does not hold.
std::vector<const CellView*> rows_of(const StudyView& view) {
  std::vector<const CellView*> all;
  for (const CellView& cell : view.cells) {
    if (cell.numbers->cell->point == view.study.conclusion.point) all.push_back(&cell);
  }
  if (all.size() <= most_rows) return all;
  std::vector<const CellView*> fastest;
  for (const CellView* cell : all) {
    const auto same = std::find_if(fastest.begin(), fastest.end(), [&](const CellView* other) {
      return other->numbers->cell->kind == cell->numbers->cell->kind &&
             other->numbers->cell->key() == cell->numbers->cell->key();
    });
    if (same == fastest.end()) {
      fastest.push_back(cell);
    } else if (internal::drawable(*cell->numbers) && cell->numbers->speedup &&
               (!(*same)->numbers->speedup || !internal::drawable(*(*same)->numbers) ||
                cell->numbers->speedup->median > (*same)->numbers->speedup->median)) {
      *same = cell;
    }
  }
  return fastest;
}

std::string table_of(const StudyView& view, bool& shortened) {
  const std::vector<GridColumn> columns = internal::cell_columns();
  std::vector<std::string> heads;
  std::string rule = "|";
  for (const GridColumn& column : columns) {
    heads.push_back(column.head);
    rule += column.right ? " ---: |" : " --- |";
  }
  std::string text = row_text(heads) + rule + "\n";
  const std::vector<const CellView*> rows = rows_of(view);
  shortened = false;
  for (const CellView& cell : view.cells) {
    const bool here = cell.numbers->cell->point == view.study.conclusion.point;
    shortened = shortened || (here && std::find(rows.begin(), rows.end(), &cell) == rows.end());
  }
  for (const CellView* cell : rows) {
    std::vector<std::string> texts = internal::fitted_texts(*cell);
    if (speaks_against(*cell->numbers)) texts.back() += ": " + printable(cell->numbers->evidence, 100);
    text += row_text(texts);
  }
  return text;
}

std::string findings_text(const StudyView& view) {
  constexpr std::size_t most = 3;
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

// What the table has, and what it leaves out.
std::string about_table(const StudyView& view, bool shortened) {
  std::string text = view.study.record->title;
  if (view.points.size() > 1)
    text += fmt::format(", at {}; {} other{} measured too", view.points[view.study.conclusion.point],
                        view.points.size() - 1, view.points.size() == 2 ? " was" : "s were");
  if (shortened) text += "; each variant at its fastest worker count";
  return text + ".";
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
  bool shortened = false;
  const std::string table = table_of(view, shortened);
  std::string text = "**" + markdown_escaped(view.sentence) + "**\n\n" +
                     markdown_escaped(about_table(view, shortened)) + "\n\n" + table;
  if (view.times_fitted) text += std::string("\n") + internal::fitted_note + "\n";
  return text + findings_text(view) + "\n" + markdown_escaped(view.provenance) + "\n";
}

}  // namespace antcrew::report_layer
