#include "antcrew/report/result.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <sstream>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/notes.hpp"

namespace antcrew::report_layer {

std::string one_line(const std::string& text, std::size_t width) {
  if (display_width(text) <= width) return text;
  std::string kept = wrapped(text, width - 2);
  kept.resize(std::min(kept.find('\n'), kept.size()));
  if (display_width(kept) > width - 2) return printable(text, width);
  // A whole clause is better than half a sentence; what has no blank beside it, as in "1,000", ends none.
  std::size_t clause = 0;
  kept += ' ';
  for (std::size_t k = kept.size() / 2; k + 1 < kept.size(); ++k) {
    const bool ends = std::string(";:,").find(kept[k]) != std::string::npos && kept[k + 1] == ' ';
    if (ends || (kept[k] == ' ' && kept[k + 1] == '(')) clause = k;
  }
  if (clause > 0) kept.resize(clause);
  return kept.substr(0, kept.find_last_not_of(' ') + 1) + " …";
}

namespace {

constexpr std::size_t result_lines = 12;  // besides the table, and what is said of the record
using Lines = std::vector<std::string>;

Lines lines_of(const std::string& text) {
  Lines lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

// The first sentences of a text that fit so many lines; the first one always.
std::string sentences_within(const std::string& text, std::size_t width, std::size_t most) {
  std::string kept = text;
  while (lines_of(wrapped(kept, width)).size() > most) {
    const std::size_t end = kept.rfind(". ", kept.size() - 2);
    if (end == std::string::npos) break;
    kept.resize(end + 1);
  }
  return wrapped(kept, width);
}

// Lines in their order of importance; how many more there are where not all have room.
Lines the_first(Lines lines, std::size_t room, const char* what) {
  if (lines.size() <= room) return lines;
  const std::size_t more = lines.size() - std::max<std::size_t>(room, 1) + 1;
  lines.resize(lines.size() - more);
  lines.push_back(fmt::format("… and {} more {}", more, what));
  return lines;
}

// The table

// Which crew it is says something only where a name stands for several.
bool one_crew_a_name(const Analysed& study) {
  std::map<std::string, std::string> crews;
  return std::all_of(study.cells.begin(), study.cells.end(), [&](const CellFigures& f) {
    return f.cell->kind != Cell::Kind::variant ||
           crews.emplace(f.cell->variant, f.cell->crew).first->second == f.cell->crew;
  });
}

std::string table_at(const StudyView& view, std::size_t point, const Look& look) {
  std::vector<GridColumn> columns = internal::cell_columns();
  for (GridColumn& column : columns) {
    if (column.head == "crew") column.importance = one_crew_a_name(view.study) ? 1 : 9;
    if (column.head == "speedup") column.head = "speedup (95 %)";
  }
  TextGrid grid(columns);
  const CellFigures* above = nullptr;
  for (const CellView& cell : view.cells) {
    if (cell.numbers->cell->point != point || !cell.measured) continue;
    grid.row(internal::short_texts(cell, !internal::same_variant(above, *cell.numbers)), internal::cell_styles(cell));
    above = cell.numbers;
  }
  return grid.text(look);
}

// Empty where nothing was measured.
std::string best_elsewhere(const StudyView& view, std::size_t point) {
  const auto is_here = [&](const CellView& cell) {
    const Cell& its = *cell.numbers->cell;
    return its.point == point && its.kind == Cell::Kind::variant && cell.measured;
  };
  const auto cells = std::count_if(view.cells.begin(), view.cells.end(), is_here);
  if (cells == 0) return {};
  const CellFigures* best = view.study.best[point].cell;
  if (best == nullptr || !best->speedup)
    return fmt::format("  {}: none of {} can be ranked", view.points[point], cells);
  return fmt::format("  {}: best {} with {} worker{}, {}{}", view.points[point], printable(best->cell->variant, 30),
                     best->cell->workers, best->cell->workers == 1 ? "" : "s", ratio_text(*best->speedup),
                     cells > 1 ? fmt::format("; {} more", cells - 1) : "");
}

Lines other_points(const StudyView& view) {
  constexpr std::size_t most = 6;
  Lines lines;
  // The largest one, which is the last of a list, is the nearest to the one above.
  for (std::size_t k = view.points.size(); k-- > 0;) {
    std::string line = k == view.study.conclusion.point ? std::string() : best_elsewhere(view, k);
    if (!line.empty()) lines.push_back(std::move(line));
  }
  return the_first(std::move(lines), most, "points");
}

// Where the time went

Lines time_of(const StudyView& view, std::size_t width) {
  if (view.explained.empty()) return {};
  const ExplainedView& explained = view.explained.front();
  const Cell& cell = *view.cells[explained.cell].numbers->cell;
  const std::string& shares = explained.shares;
  Lines lines;
  for (const FindingView& f : explained.findings) {
    if (f.is_aside()) continue;
    lines = lines_of(wrapped("  " + (f.share.empty() ? "" : f.share + ": ") + f.claim + ".", width));
    break;
  }
  if (lines.empty() && shares.empty()) return {};
  if (lines.size() > 2) {
    std::string rest = lines[1] + " " + lines[2].substr(lines[2].find_first_not_of(' '));
    lines = {lines[0], one_line(rest, width)};
  }
  const std::string whose = fmt::format("Time of \"{}\", {} worker{}", printable(cell.variant, 30), cell.workers,
                                        cell.workers == 1 ? "" : "s");
  lines.insert(lines.begin(), one_line(whose + (shares.empty() ? ":" : ": " + shares), width));
  return lines;
}

// What to know

struct Group {
  std::string first;
  int cells = 0;
};

std::string with_count(const Group& group, std::size_t width) {
  if (group.cells == 1) return one_line(group.first, width);
  const std::string more = fmt::format(" ({} cells)", group.cells);
  return one_line(group.first, width - display_width(more)) + more;
}

std::string fault_text(const CellFigures& f) {
  const std::string name =
      f.cell->kind == Cell::Kind::baseline ? "the baseline" : "\"" + printable(f.cell->variant, 30) + "\"";
  return fmt::format("{}: {}, {} worker{}: {}", name_of(f.verdict), name, f.cell->workers,
                     f.cell->workers == 1 ? "" : "s", f.evidence);
}

// One line a variant and fault, the worst first; of a single one all that two lines hold.
Lines faults(const Analysed& study, std::size_t width) {
  std::map<std::pair<Verdict, std::string>, Group> groups;
  for (const CellFigures& f : study.cells) {
    if (f.verdict >= Verdict::not_measured || f.evidence.empty()) continue;
    Group& group = groups[{f.verdict, f.cell->key()}];
    if (++group.cells == 1) group.first = fault_text(f);
  }
  Lines lines;
  for (const auto& [key, group] : groups) lines.push_back(with_count(group, width));
  if (groups.size() != 1 || groups.begin()->second.cells > 1) return lines;
  lines = lines_of(wrapped(groups.begin()->second.first, width));
  if (lines.size() > 2) lines = {lines[0], one_line(lines[1] + " …", width)};
  return lines;
}

// What the crew waited for in place of the variant, and answers that are dearer to read than the baseline's.
Lines left_to_others(const Analysed& study, std::size_t width) {
  std::map<std::string, Group> groups;
  const auto add = [&](const CellFigures& f, const std::string& what) {
    Group& group = groups[what.substr(0, 8) + f.cell->key()];
    if (++group.cells == 1) group.first = fmt::format("\"{}\": {}", printable(f.cell->variant, 30), what);
  };
  for (const CellFigures& f : study.cells) {
    const auto tasks = f.counters.find(internal::unwaited_work);
    if (tasks != f.counters.end() && tasks->second > 0)
      add(f, "tasks started but never awaited, " + count_text(static_cast<std::uint64_t>(tasks->second)) + " per call");
    if (f.read_speedup && f.verdict >= Verdict::too_few_rounds)
      add(f, fmt::format("reading its answer counts: speedup {:.2g} with it", *f.read_speedup));
  }
  Lines lines;
  for (const auto& [key, group] : groups) lines.push_back(with_count(group, width));
  return lines;
}

Lines warnings(const StudyView& view, std::size_t width) {
  std::vector<std::string> ids;
  std::map<std::string, Group> groups;
  std::map<std::string, std::string> only_variant;  // by id; empty where it is about several
  for (const FindingView& warning : view.warnings) {
    const std::string& id = warning.numbers.id;
    const CellFigures* of = warning.numbers.of;
    Group& group = groups[id];
    const std::string variant = of == nullptr ? "" : fmt::format("\"{}\": ", printable(of->cell->variant, 30));
    std::string& named = only_variant[id];
    if (++group.cells > 1) {
      if (named != variant) named.clear();
      continue;
    }
    named = variant;
    ids.push_back(id);
    group.first = warning.claim;
  }
  for (auto& [id, group] : groups) group.first = "Warning: " + only_variant[id] + group.first;
  Lines lines;
  for (const std::string& id : ids) lines.push_back(with_count(groups[id], width));
  return lines;
}

std::string skipped(const Analysed& study) {
  const Record& record = *study.record;
  if (record.left_out.empty()) return {};
  const LeftOut& first = record.left_out.front();
  const double needed_s = advised_budget_s(record);
  std::string text =
      needed_s > 0 ? fmt::format("Skipped (--budget {:.0f} is enough)", needed_s) : "Skipped for lack of time";
  const std::string what = left_out_text(record, first);
  text += ": " + what.substr(0, what.find(" at "));
  if (record.left_out.size() > 1) text += fmt::format("; {} more", record.left_out.size() - 1);
  return text;
}

std::string not_measured(const StudyView& view) {
  const auto cells =
      std::count_if(view.cells.begin(), view.cells.end(), [](const CellView& cell) { return !cell.measured; });
  return cells == 0 ? "" : fmt::format("{} cell{} not measured.", cells, cells == 1 ? " was" : "s were");
}

}  // namespace

std::string result_text(const StudyView& view, Look look) {
  if (look.width == 0) look.width = 80;
  const Analysed& study = view.study;
  const std::string answer = sentences_within(view.sentence, look.width, 3);
  const Lines time = time_of(view, look.width);
  Lines notes = faults(study, look.width);
  for (std::string& line : left_to_others(study, look.width)) notes.push_back(std::move(line));
  for (const std::string& line : {not_measured(view), skipped(study)}) {
    if (!line.empty()) notes.push_back(one_line(line, look.width));
  }
  for (std::string& line : warnings(view, look.width)) notes.push_back(std::move(line));

  const std::size_t point = study.conclusion.point;
  const std::string title = view.points.size() > 1 ? view.title + ", " + view.points[point] : view.title;
  std::string text = styled(answer, Style::heading, look) + "\n\n" + one_line(title, look.width) + "\n";
  if (!view.points.empty()) text += table_at(view, point, look);
  for (const std::string& line : other_points(view)) text += one_line(line, look.width) + "\n";
  if (view.times_fitted)
    text += one_line("  times of variants: the baseline's over the speedup of the same rounds", look.width) + "\n";
  text += "\n";
  for (const std::string& line : time) text += line + "\n";
  const Lines confidence = lines_of(wrapped(view.confidence, look.width));
  for (std::size_t k = 0; k < std::min<std::size_t>(confidence.size(), 2); ++k) text += confidence[k] + "\n";
  const std::size_t used = lines_of(answer).size() + 3 + time.size() + confidence.size();
  const std::size_t room = used + 2 < result_lines ? result_lines - used : 2;
  for (const std::string& line : the_first(std::move(notes), room, "notes (--all)")) text += line + "\n";
  return text;
}

}  // namespace antcrew::report_layer
