#include "antcrew/report/history_page.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/change_points.hpp"
#include "antcrew/analysis/compare.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/compare_text.hpp"
#include "antcrew/report/compared_figures.hpp"
#include "antcrew/report/confidence.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/internal/page_data.hpp"
#include "antcrew/report/internal/page_frame.hpp"
#include "antcrew/report/study_view.hpp"

namespace antcrew::report_layer {
namespace {

using internal::escaped;

std::vector<const Analysed*> studies_of(const StudyHistory& history) {
  std::vector<const Analysed*> studies;
  for (const HistoryRun& run : history.runs) studies.push_back(run.study);
  return studies;
}

std::string measured_at(const Analysed& study) {
  std::string text = study.record->created.substr(0, 16);
  std::replace(text.begin(), text.end(), 'T', ' ');
  return printable(text, 20);
}

std::string count_of(std::size_t count, const char* noun) {
  return fmt::format("{} {}{}", count, noun, count == 1 ? "" : "s");
}

// Each change that is there to stay, in a sentence.
std::vector<std::string> changes_in(const StudyHistory& history) {
  std::vector<std::string> sentences;
  if (history.runs.size() < 2 * runs_beside_change) return sentences;
  const std::vector<const Analysed*> all = studies_of(history);
  for (const CellChanges& cell : changes_over(all)) {
    for (const ChangePoint& change : cell.found) {
      const HistoryRun& from = history.runs[cell.runs[change.at]];
      sentences.push_back(fmt::format("From {} ({}) on: {} at {}, speedup {:.3g} to {:.3g}", printable(from.name, 40),
                                      measured_at(*from.study), cell_in_words(*cell.cell->cell),
                                      point_in_words(all.back()->record->points[cell.cell->cell->point]), change.before,
                                      change.after));
    }
  }
  return sentences;
}

// alone: the page's first sentence says it already.
std::string changes_html(const StudyHistory& history, const std::vector<std::string>& changes, bool alone) {
  if (alone && changes.size() < 2) return {};
  if (history.runs.size() < 2 * runs_beside_change)
    return fmt::format("<p>{}: too few to tell a lasting change, which takes {} at least.</p>\n",
                       count_of(history.runs.size(), "run"), 2 * runs_beside_change);
  if (changes.empty())
    return fmt::format("<p>{}: no speedup changed for good.</p>\n", count_of(history.runs.size(), "run"));
  std::string text = "<ul class=\"findings\">\n";
  for (const std::string& change : changes) text += "<li>" + escaped(change) + ".</li>\n";
  return text + "</ul>\n<p class=\"provenance\">Of twenty histories without a change one is said to have one.</p>\n";
}

std::string pair_id(std::size_t study, std::size_t run) {
  return fmt::format("beside-{}-{}", study, run);
}

std::string machine_in_short(const Analysed& study) {
  const Machine& machine = study.record->machine;
  return fmt::format("{}, {}", machine.processor.empty() ? "unknown processor" : printable(machine.processor, 40),
                     count_of(static_cast<std::size_t>(machine.usable_processors()), "processor"));
}

// Newest first: that is what one looks for. first_pair: the run from which on pairs are drawn.
std::string runs_html(const StudyHistory& history, std::size_t number, std::size_t first_pair) {
  std::set<std::string> machines;
  for (const HistoryRun& run : history.runs) machines.insert(machine_in_short(*run.study));
  const bool several = machines.size() > 1;
  std::string text = fmt::format(
      "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"runs of {0}\"><table aria-label=\"runs of "
      "{0}\">\n"
      "<thead><tr><th scope=\"col\">run</th><th scope=\"col\">measured, UTC</th>{1}<th scope=\"col\">what was "
      "found</th>"
      "<th scope=\"col\">how far to trust it</th><th scope=\"col\">side by side</th></tr></thead>\n<tbody>\n",
      escaped(printable(history.title, 60)), several ? "<th scope=\"col\">machine</th>" : "");
  for (std::size_t k = history.runs.size(); k-- > 0;) {
    const HistoryRun& run = history.runs[k];
    const StudyView view(*run.study);
    text += fmt::format("<tr><td class=\"name\">{}</td><td>{}</td>", escaped(printable(run.name, 60)),
                        escaped(measured_at(*run.study)));
    if (several) text += "<td class=\"at\">" + escaped(machine_in_short(*run.study)) + "</td>";
    text += fmt::format("<td class=\"at\">{}{}</td><td class=\"at\">{}</td>", escaped(answer_in_short(*run.study)),
                        run.study->record->complete ? "" : " (ended early)", escaped(view.confidence));
    text += k > 0 && k >= first_pair
                ? fmt::format("<td><a href=\"#{}\">with the one before</a></td></tr>\n", pair_id(number, k))
                : "<td></td></tr>\n";
  }
  return text + "</tbody>\n</table></div>\n" +
         (several ? "" : "<p class=\"provenance\">" + escaped(*machines.begin()) + ".</p>\n");
}

std::string table_html(const std::vector<std::vector<std::string>>& rows, const std::string& name) {
  std::string text = fmt::format(
      "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"{0}\"><table aria-label=\"{0}\">\n<thead><tr>",
      escaped(name));
  for (const std::string& head : rows.front()) text += "<th scope=\"col\">" + escaped(head) + "</th>";
  text += "</tr></thead>\n<tbody>\n";
  for (std::size_t k = 1; k < rows.size(); ++k) {
    text += "<tr>";
    for (const std::string& cell : rows[k]) text += "<td class=\"at\">" + escaped(cell) + "</td>";
    text += "</tr>\n";
  }
  return text + "</tbody>\n</table></div>\n";
}

std::string pair_html(const HistoryRun& before, const HistoryRun& after, const std::string& id) {
  const Comparison found = compare({before.study}, {after.study});
  const std::string name = printable(before.name, 60) + " and " + printable(after.name, 60);
  std::string text = fmt::format("<details id=\"{}\"><summary>{} ({}) and {} ({})</summary>\n<p>{}</p>\n", id,
                                 escaped(printable(before.name, 60)), escaped(measured_at(*before.study)),
                                 escaped(printable(after.name, 60)), escaped(measured_at(*after.study)),
                                 escaped(compared_in_words(found, *after.study)));
  if (!found.disturbed.empty())
    text += "<p class=\"caveat\">Warning: the machine was not idle (" + escaped(found.disturbed) +
            "): what changed may be that.</p>\n";
  text += fmt::format("<div id=\"drawn-{}\"></div>\n", id);
  if (!found.cells.empty()) text += table_html(compared_rows(found, *after.study), name);
  return text + "</details>\n";
}

std::string sentence_of(const std::vector<StudyHistory>& studies, std::size_t runs,
                        const std::vector<std::string>& changes) {
  std::string text = fmt::format("{} of {}: ", count_of(runs, "run"),
                                 studies.size() == 1 ? "\"" + printable(studies.front().title, 80) + "\""
                                                     : fmt::format("{} studies", studies.size()));
  const bool enough = std::any_of(studies.begin(), studies.end(), [](const StudyHistory& history) {
    return history.runs.size() >= 2 * runs_beside_change;
  });
  if (!enough)
    text += fmt::format("too few to tell a lasting change, which takes {} at least", 2 * runs_beside_change);
  else if (changes.empty())
    text += "no speedup changed for good";
  else
    text += (changes.size() == 1 ? "one lasting change" : fmt::format("{} lasting changes", changes.size())) + ". " +
            changes.back();
  if (studies.size() == 1)
    text += ". The newest, " + printable(studies.front().runs.back().name, 60) + ": " +
            answer_in_short(*studies.front().runs.back().study);
  return text + ".";
}

}  // namespace

std::vector<StudyHistory> runs_by_study(std::vector<HistoryRun> runs) {
  std::stable_sort(runs.begin(), runs.end(), [](const HistoryRun& a, const HistoryRun& b) {
    return a.study->record->created < b.study->record->created;
  });
  std::vector<StudyHistory> studies;
  for (auto run = runs.rbegin(); run != runs.rend(); ++run) {
    const std::string& title = run->study->record->title;
    auto found = std::find_if(studies.begin(), studies.end(), [&](const StudyHistory& s) { return s.title == title; });
    if (found == studies.end()) found = studies.insert(studies.end(), {title, {}});
    found->runs.insert(found->runs.begin(), *run);
  }
  return studies;
}

std::string history_page_html(const std::vector<StudyHistory>& studies) {
  std::size_t runs = 0;
  std::size_t left_to_draw = most_pairs;
  std::vector<std::string> all_changes;
  std::vector<internal::PlacedFigure> figures;
  std::string sections;
  for (std::size_t number = 0; number < studies.size(); ++number) {
    const StudyHistory& history = studies[number];
    const std::size_t count = history.runs.size();
    runs += count;
    const std::vector<std::string> changes = changes_in(history);
    all_changes.insert(all_changes.end(), changes.begin(), changes.end());
    const std::size_t pairs = std::min(left_to_draw, count == 0 ? 0 : count - 1);
    left_to_draw -= pairs;
    const std::string id = fmt::format("study-{}", number);
    sections += fmt::format("<section aria-labelledby=\"{0}\">\n<h2 id=\"{0}\">{1}</h2>\n{2}", id,
                            escaped(studies.size() == 1 ? "Run after run" : printable(history.title, 160)),
                            changes_html(history, changes, studies.size() == 1));
    if (auto figure = history_figure(studies_of(history))) {
      sections += fmt::format("<div id=\"drawn-{}\"></div>\n", id);
      figures.push_back({std::move(*figure), "drawn-" + id});
    }
    sections += runs_html(history, number, count - pairs);
    if (pairs > 0) sections += "<h3>Side by side</h3>\n";
    for (std::size_t k = count; k-- > count - pairs;) {
      const HistoryRun& before = history.runs[k - 1];
      const HistoryRun& after = history.runs[k];
      sections += pair_html(before, after, pair_id(number, k));
      if (auto figure = side_by_side_figure(*before.study, *after.study, {before.name, after.name}))
        figures.push_back({std::move(*figure), "drawn-" + pair_id(number, k)});
    }
    if (pairs + 1 < count) sections += "<p>Older pairs are left out: antcrew compare has them.</p>\n";
    sections += "</section>\n";
  }
  const std::string sentence = sentence_of(studies, runs, all_changes);
  const std::string title = studies.size() == 1 ? printable(studies.front().title, 160) : "History of runs";
  const std::string version = studies.empty() ? "" : studies.front().runs.back().study->record->library_version;
  return internal::page_head(title) +
         fmt::format(
             "<body>\n<header class=\"bar\"><span class=\"title\">{}</span><button type=\"button\" "
             "id=\"theme\">theme</button></header>\n<main>\n{}{}",
             escaped(title), internal::page_headline(sentence), sections) +
         internal::page_footer(count_of(runs, "record"), version) +
         internal::page_scripts(internal::history_data(title, sentence, figures));
}

}  // namespace antcrew::report_layer
