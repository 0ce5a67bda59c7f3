#include "antcrew/report/page.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/code_size.hpp"
#include "antcrew/report/internal/cell_texts.hpp"
#include "antcrew/report/internal/figure_parts.hpp"
#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/internal/page_assets.hpp"
#include "antcrew/report/internal/page_data.hpp"
#include "antcrew/report/internal/page_frame.hpp"
#include "antcrew/report/machine_text.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/scaling.hpp"

namespace antcrew::report_layer {
namespace {

using internal::escaped;

const char* tone_of(const CellFigures& f) {
  if (f.verdict == Verdict::holds) return f.cell->kind == Cell::Kind::variant ? "good" : "";
  return f.verdict < Verdict::not_measured ? "bad" : "open";
}

// A text a column of the page's table.
std::vector<std::string> texts_on_page(const StudyView& view, const CellView& cell) {
  std::vector<std::string> texts = internal::fitted_texts(cell);
  if (view.points.size() > 1) texts.insert(texts.end() - 1, cell.at);
  return texts;
}

// It can be read without scripts; with them it is sorted and filtered.
std::string cells_html(const StudyView& view) {
  const std::vector<GridColumn> columns = internal::page_columns(view);
  std::string text =
      "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"table of cells\"><table>\n<thead><tr>";
  for (const GridColumn& column : columns)
    text += fmt::format("<th scope=\"col\"{}>{}</th>", internal::is_number(column) ? " class=\"number\"" : "",
                        escaped(column.head));
  text += "</tr></thead>\n<tbody>\n";
  for (std::size_t k = 0; k < view.cells.size(); ++k) {
    const std::vector<std::string> texts = texts_on_page(view, view.cells[k]);
    text += fmt::format("<tr id=\"cell-{}\">", k);
    for (std::size_t c = 0; c < columns.size(); ++c) {
      std::string kind = internal::is_number(columns[c]) ? "number"
                         : c == 0                        ? "name"
                         : columns[c].head == "at"       ? "at"
                                                         : "";
      const bool verdict = columns[c].head == "verdict";
      const CellFigures& f = *view.cells[k].numbers;
      if (verdict) kind = std::string("verdict ") + tone_of(f);
      text += kind.empty() ? "<td>" : fmt::format("<td class=\"{}\">", kind);
      text += escaped(texts[c]);
      if (verdict && !f.evidence.empty())
        text += fmt::format(" <span class=\"why\">{}</span>", escaped(printable(f.evidence, 400)));
      text += "</td>";
    }
    text += "</tr>\n";
  }
  text += "</tbody>\n</table></div>";
  return view.times_fitted ? text + fmt::format("<p>{}</p>", escaped(internal::fitted_note)) : text;
}

// One item for what is found of several cells, in the words of the first: whose it is stands behind.
std::string finding_html(const Analysed& study, const std::vector<const FindingView*>& same) {
  const FindingView& f = *same.front();
  const std::ptrdiff_t of = f.numbers.of == nullptr ? -1 : internal::place_of(study, *f.numbers.of);
  std::string text = fmt::format("<li data-of=\"{}\"{}>", of, of >= 0 ? " tabindex=\"0\"" : "");
  std::string claim = f.claim;
  if (!claim.empty() && claim.front() >= 'a' && claim.front() <= 'z')
    claim.front() = static_cast<char>(claim.front() - 32);
  text += escaped(claim) + ".";
  const bool alike =
      std::all_of(same.begin(), same.end(), [&](const FindingView* one) { return one->claim == f.claim; });
  std::vector<std::string> whose;
  for (const FindingView* one : same) {
    if (one->numbers.of == nullptr) continue;
    whose.push_back(internal::bar_name(study, *one->numbers.of->cell) +
                    (alike || one->share.empty() ? "" : " (" + one->share + ")"));
  }
  if (!whose.empty()) text += fmt::format(" <span class=\"whose\">{}</span>", escaped(joined(whose, "; ")));
  if (!f.worth.empty()) text += fmt::format(" <span class=\"worth\">{}.</span>", escaped(f.worth));
  if (!f.advice.empty())
    text += fmt::format(" <span class=\"try\"><strong>Try:</strong> {}.</span>", escaped(f.advice));
  return text + "</li>\n";
}

// On the first screen the largest three; who lost nothing has nothing to try, and stands last.
std::string findings_html(const StudyView& view, bool first) {
  constexpr std::size_t most_first = 3;
  std::vector<std::vector<const FindingView*>> groups;
  for (const FindingView* f : view.findings()) {
    if (first && f->is_aside()) continue;
    const auto same = std::find_if(groups.begin(), groups.end(), [&](const auto& group) {
      return group.front()->numbers.id == f->numbers.id &&
             (group.front()->claim == f->claim || group.front()->advice == f->advice);
    });
    if (same == groups.end()) {
      groups.push_back({f});
    } else {
      same->push_back(f);
    }
  }
  std::stable_partition(groups.begin(), groups.end(),
                        [](const auto& group) { return group.front()->numbers.id != "nothing-wrong"; });
  if (first) groups.resize(std::min(groups.size(), most_first));
  std::string text;
  for (const auto& group : groups) text += finding_html(view.study, group);
  if (text.empty()) return first ? "<p>Nothing was metered that could tell where the time went.</p>\n" : "";
  return fmt::format("<{0} class=\"findings\">\n{1}</{0}>\n", first ? "ol" : "ul", text);
}

// Where the name of a line ends: at its first colon that stands in no quotes.
std::size_t end_of_name(const std::string& line) {
  bool quoted = false;
  for (std::size_t k = 0; k + 1 < line.size(); ++k) {
    if (line[k] == '"' || line[k] == '\'') quoted = !quoted;
    if (!quoted && line[k] == ':' && line[k + 1] == ' ') return k;
  }
  return std::string::npos;
}

// What a terminal has as lines, "  name: what is said", and more of it further in, as rows of a table.
std::string rows_html(const std::string& text) {
  std::string rows;
  bool open = false;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    std::string line = text.substr(at, end - at);
    at = end + 1;
    const std::size_t indent = line.find_first_not_of(' ');
    if (indent == std::string::npos) continue;
    line.erase(0, indent);
    if (open && indent > 2) {
      rows += "<br>" + escaped(line);
      continue;
    }
    const std::size_t name = end_of_name(line);
    if (open) rows += "</td></tr>\n";
    rows += name == std::string::npos ? "<tr><td colspan=\"2\">" + escaped(line)
                                      : "<tr><th scope=\"row\">" + escaped(line.substr(0, name)) + "</th><td>" +
                                            escaped(line.substr(name + 2));
    open = true;
  }
  return rows.empty() ? rows : "<table class=\"said-of\"><tbody>\n" + rows + "</td></tr>\n</tbody></table>\n";
}

// Each under a heading of its own.
std::string sections_html(const std::vector<Section>& sections) {
  std::string text;
  for (const Section& section : sections) {
    if (!section.text.empty())
      text += (section.heading.empty() ? "" : fmt::format("<h3>{}</h3>\n", escaped(section.heading))) +
              rows_html(section.text);
  }
  return text;
}

std::string facts_html(const std::vector<std::pair<std::string, std::string>>& facts) {
  std::string text = "<dl class=\"facts\">\n";
  for (const auto& [name, value] : facts)
    text += fmt::format("<dt>{}</dt><dd>{}</dd>\n", escaped(name), escaped(printable(value)));
  return text + "</dl>\n";
}

// As the terminal has it: names in the first columns, what goes on without one.
std::string machine_html(const Analysed& study) {
  constexpr std::size_t name_to = 16;
  const std::string text = machine_text(study.record->machine, study.record->load_before);
  std::vector<std::pair<std::string, std::string>> facts;
  std::string usable;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    const std::string line = text.substr(at, end - at);
    at = end + 1;
    if (line.size() <= name_to || line[0] != ' ') {
      usable += line;
      continue;
    }
    const std::string name = line.substr(2, line.find_last_not_of(' ', name_to - 1) - 1);
    if (line[2] == ' ' && !facts.empty())
      facts.back().second += "; " + line.substr(name_to);
    else
      facts.emplace_back(name, line.substr(name_to));
  }
  return fmt::format("<p>{}</p>\n", escaped(usable)) + facts_html(facts);
}

std::string code_sizes_html(const Analysed& study) {
  const std::vector<CodeSize> sizes = code_sizes_of(study);
  if (sizes.empty()) return {};
  std::string text =
      "<h3>Lines of source, and what they gain</h3>\n<table class=\"said-of\"><thead><tr><th scope=\"col\">source</th>"
      "<th scope=\"col\" class=\"number\">lines</th><th scope=\"col\">speedup, at its "
      "fastest</th></tr></thead>\n<tbody>\n";
  for (const CodeSize& size : sizes)
    text += fmt::format(
        "<tr><th scope=\"row\">{}</th><td class=\"number\">{}</td><td>{}</td></tr>\n",
        escaped(printable(size.source->of, 60)), size.source->lines > 0 ? std::to_string(size.source->lines) : "?",
        escaped(size.source->lines == 0 ? size.source->trouble
                : size.cell != nullptr  ? fmt::format("{} with {} worker{}", ratio_text(*size.cell->speedup),
                                                      size.cell->cell->workers, size.cell->cell->workers == 1 ? "" : "s")
                                        : std::string()));
  return text + "</tbody></table>\n";
}

std::string measured_html(const Analysed& study) {
  const Record& record = *study.record;
  return facts_html({{"begun", record.created},
                     {"took", duration_text(record.measured_s) + (record.complete ? "" : ", ended early")},
                     {"answers compared", record.agreement},
                     {"rounds", fmt::format("{} to {}, for intervals within ±{:.0f} %", record.plan.least_rounds,
                                            record.plan.most_rounds, 100 * record.plan.width)},
                     {"compiler", record.build.compiler},
                     {"flags", record.build.flags},
                     {"Ant Crew", record.library_version}});
}

// How far to trust it, beside what was found: as the terminal's last lines of a result.
std::string caveat_html(const StudyView& view) {
  std::string text = view.confidence;
  for (const FindingView& warning : view.warnings) {
    const bool noise = warning.numbers.id == "noise";
    if (!noise && warning.numbers.id != "unoptimised") continue;
    // Said once: in full.
    constexpr std::string_view in_short = ", not idle";
    if (const std::size_t at = text.find(in_short); noise && at != std::string::npos) text.erase(at, in_short.size());
    text += " Warning: " + warning.claim + ".";
  }
  return "<p class=\"caveat\">" + escaped(text) + "</p>\n";
}

std::string body_html(const StudyView& view, bool with_trials) {
  const Analysed& study = view.study;
  std::string text = fmt::format(
      "<body>\n<a class=\"skip\" href=\"#findings\">To the findings</a>\n<header class=\"bar\"><span class=\"title\">{}"
      "</span><nav aria-label=\"parts of this page\"><a href=\"#findings\">Findings</a><a href=\"#all\">Cells</a>"
      "<a href=\"#drawn\">Figures</a><a href=\"#machine\">Machine</a><a href=\"#data\">Data</a></nav>"
      "<button type=\"button\" id=\"theme\">theme</button></header>\n<main>\n{}",
      escaped(view.title), internal::page_headline(view.sentence) + caveat_html(view));
  text +=
      "<div class=\"first\">\n<section aria-labelledby=\"where\">\n<h2 id=\"where\">Where the time went, and what to "
      "try</h2>\n" +
      findings_html(view, true) + "</section>\n<div id=\"first-figure\"></div>\n</div>\n";
  text += fmt::format("<p class=\"provenance\">{}</p>\n", escaped(view.provenance));
  text += "<section id=\"findings\"><h2>All findings</h2>\n" + findings_html(view, false);
  text += sections_html(scaling_of(study)) + code_sizes_html(study);
  text += "</section>\n<section id=\"all\"><h2>All results</h2>\n<div id=\"cells\">" + cells_html(view) +
          "</div></section>\n";
  text +=
      "<section id=\"drawn\"><h2>Figures</h2>\n<noscript><p>Figures are drawn by scripts, which are off here; the "
      "numbers stand in the table above.</p></noscript>"
      "<div id=\"figures\" class=\"figures\"></div></section>\n";
  text += "<section id=\"machine\"><h2>The machine</h2>\n" + machine_html(study) + "<h2>How it was measured</h2>\n" +
          measured_html(study) + "<details><summary>All notes</summary>\n<pre>" + escaped(text_of(notes_of(view))) +
          "</pre></details></section>\n";
  text += std::string("<section id=\"data\"><h2>Raw data</h2>\n<p id=\"raw\"></p>\n") +
          (with_trials ? ""
                       : "<p>The single trials are left out: with them this page would be larger than 2 MB. They are "
                         "in the record.</p>\n") +
          "</section>\n";
  text += internal::page_footer("one record", study.record->library_version);
  return text;
}

}  // namespace

std::string page_html(const StudyView& view) {
  bool with_trials = true;
  const std::string data = internal::page_data(view, most_page_bytes - internal::page_charts.text.size(), with_trials);
  return internal::page_head(view.title) + body_html(view, with_trials) + internal::page_scripts(data);
}

}  // namespace antcrew::report_layer
