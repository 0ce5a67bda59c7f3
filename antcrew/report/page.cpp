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
#include "antcrew/report/machine_text.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/scaling.hpp"

namespace antcrew::report_layer {
namespace {

using internal::escaped;

std::string base64_of_hex(const std::string& hex) {
  constexpr char digits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::vector<unsigned> bytes;
  for (std::size_t k = 0; k + 1 < hex.size(); k += 2)
    bytes.push_back(static_cast<unsigned>(std::stoul(hex.substr(k, 2), nullptr, 16)));
  std::string out;
  for (std::size_t k = 0; k < bytes.size(); k += 3) {
    const std::size_t left = bytes.size() - k;
    const unsigned group = bytes[k] << 16 | (left > 1 ? bytes[k + 1] << 8 : 0) | (left > 2 ? bytes[k + 2] : 0);
    out += digits[group >> 18 & 63];
    out += digits[group >> 12 & 63];
    out += left > 1 ? digits[group >> 6 & 63] : '=';
    out += left > 2 ? digits[group & 63] : '=';
  }
  return out;
}

std::string policy() {
  const auto hash = [](const internal::PageAsset& asset) { return "'sha256-" + base64_of_hex(asset.sha256) + "'"; };
  return fmt::format(
      "default-src 'none'; script-src {} {} {}; style-src {}; img-src data: blob:; base-uri 'none'; form-action 'none'",
      hash(internal::page_charts), hash(internal::page_figures), hash(internal::page_script),
      hash(internal::page_style));
}

const char* tone_of(const CellFigures& f) {
  if (f.verdict == Verdict::holds) return f.cell->kind == Cell::Kind::variant ? "good" : "";
  return f.verdict < Verdict::not_measured ? "bad" : "open";
}

// A text a column of the page's table.
std::vector<std::string> texts_on_page(const CellView& cell) {
  std::vector<std::string> texts = internal::fitted_texts(cell);
  const std::string& evidence = cell.numbers->evidence;
  texts.push_back(cell.at);
  texts.push_back(evidence.empty() ? evidence : printable(evidence, 400));
  return texts;
}

// It can be read without scripts; with them it is sorted and filtered.
std::string cells_html(const StudyView& view) {
  const std::vector<GridColumn> columns = internal::page_columns();
  std::string text =
      "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"table of cells\"><table>\n<thead><tr>";
  for (const GridColumn& column : columns)
    text += fmt::format("<th scope=\"col\"{}>{}</th>", internal::is_number(column) ? " class=\"number\"" : "",
                        escaped(column.head));
  text += "</tr></thead>\n<tbody>\n";
  for (std::size_t k = 0; k < view.cells.size(); ++k) {
    const std::vector<std::string> texts = texts_on_page(view.cells[k]);
    text += fmt::format("<tr id=\"cell-{}\">", k);
    for (std::size_t c = 0; c < columns.size(); ++c) {
      std::string kind = internal::is_number(columns[c]) ? "number"
                         : c == 0                        ? "name"
                         : columns[c].head == "evidence" ? "evidence"
                                                         : "";
      if (columns[c].head == "verdict") kind = tone_of(*view.cells[k].numbers);
      text += kind.empty() ? "<td>" : fmt::format("<td class=\"{}\">", kind);
      text += escaped(texts[c]) + "</td>";
    }
    text += "</tr>\n";
  }
  text += "</tbody>\n</table></div>";
  return view.times_fitted ? text + fmt::format("<p>{}</p>", escaped(internal::fitted_note)) : text;
}

// One item for what is found of several cells in the same words: whose it is stands behind.
std::string finding_html(const Analysed& study, const std::vector<const FindingView*>& same) {
  const FindingView& f = *same.front();
  const std::ptrdiff_t of = f.numbers.of == nullptr ? -1 : internal::place_of(study, *f.numbers.of);
  std::string text = fmt::format("<li data-of=\"{}\"{}>", of, of >= 0 ? " tabindex=\"0\"" : "");
  std::string claim = f.claim;
  if (!claim.empty() && claim.front() >= 'a' && claim.front() <= 'z')
    claim.front() = static_cast<char>(claim.front() - 32);
  text += escaped(claim) + ".";
  std::vector<std::string> whose;
  for (const FindingView* one : same) {
    if (one->numbers.of != nullptr) whose.push_back(internal::bar_name(study, *one->numbers.of->cell));
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
      return group.front()->numbers.id == f->numbers.id && group.front()->claim == f->claim;
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

// Under a heading of this page's.
std::string sections_html(const char* heading, const std::vector<Section>& sections) {
  const std::string text = text_of(sections);
  return text.empty() ? text : fmt::format("<h3>{}</h3>\n<pre>{}</pre>\n", heading, escaped(text.substr(1)));
}

std::string facts_html(const std::vector<std::pair<std::string, std::string>>& facts) {
  std::string text = "<dl class=\"facts\">\n";
  for (const auto& [name, value] : facts)
    text += fmt::format("<dt>{}</dt><dd>{}</dd>\n", escaped(name), escaped(printable(value)));
  return text + "</dl>\n";
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

std::string head_html(const StudyView& view) {
  return fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"{}\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<link rel=\"icon\" href=\"data:,\">\n"
      "<title>{}</title>\n<style>{}</style>\n</head>\n",
      policy(), escaped(view.title), internal::page_style.text);
}

// Where the first sentence ends; not inside a name, which stands in quotes.
std::size_t end_of_sentence(const std::string& text) {
  bool quoted = false;
  for (std::size_t k = 0; k + 1 < text.size(); ++k) {
    if (text[k] == '"') quoted = !quoted;
    if (!quoted && text[k] == '.' && text[k + 1] == ' ') return k;
  }
  return std::string::npos;
}

// What was found stands large; whom it could not be told from, below.
std::string headline_html(const std::string& all) {
  const std::size_t end = end_of_sentence(all);
  if (end == std::string::npos) return "<h1>" + escaped(all) + "</h1>\n";
  return "<h1>" + escaped(all.substr(0, end + 1)) + "</h1>\n<p class=\"also\">" + escaped(all.substr(end + 2)) +
         "</p>\n";
}

std::string body_html(const StudyView& view, bool with_trials) {
  const Analysed& study = view.study;
  std::string text = fmt::format(
      "<body>\n<a class=\"skip\" href=\"#findings\">To the findings</a>\n<header class=\"bar\"><span class=\"title\">{}"
      "</span><nav aria-label=\"parts of this page\"><a href=\"#findings\">Findings</a><a href=\"#all\">Cells</a>"
      "<a href=\"#drawn\">Figures</a><a href=\"#machine\">Machine</a><a href=\"#data\">Data</a></nav>"
      "<button type=\"button\" id=\"theme\">theme</button></header>\n<main>\n{}",
      escaped(view.title), headline_html(view.sentence));
  text +=
      "<div class=\"first\">\n<section aria-labelledby=\"where\">\n<h2 id=\"where\">Where the time went, and what to "
      "try</h2>\n" +
      findings_html(view, true) + "</section>\n<div id=\"first-figure\"></div>\n</div>\n";
  text += fmt::format("<p class=\"provenance\">{}</p>\n", escaped(view.provenance));
  text += "<section id=\"findings\"><h2>All findings</h2>\n" + findings_html(view, false);
  text += sections_html("Extrapolation", scaling_of(study));
  text += sections_html("Is it worth it?", {code_size_section(study)});
  text += "</section>\n<section id=\"all\"><h2>All results and caveats</h2>\n<div id=\"cells\">" + cells_html(view) +
          "</div></section>\n";
  text +=
      "<section id=\"drawn\"><h2>Figures</h2>\n<noscript><p>Figures are drawn by scripts, which are off here; the "
      "numbers stand in the table above.</p></noscript>"
      "<div id=\"figures\" class=\"figures\"></div></section>\n";
  text += "<section id=\"machine\"><h2>The machine</h2>\n<pre>" +
          escaped(machine_text(study.record->machine, study.record->load_before)) +
          "</pre>\n<h2>How it was measured</h2>\n" + measured_html(study) +
          "<details><summary>All notes</summary>\n<pre>" + escaped(text_of(notes_of(view))) +
          "</pre></details></section>\n";
  text += std::string("<section id=\"data\"><h2>Raw data</h2>\n<p id=\"raw\"></p>\n") +
          (with_trials ? ""
                       : "<p>The single trials are left out: with them this page would be larger than 2 MB. They are "
                         "in the record.</p>\n") +
          "</section>\n";
  text += fmt::format(
      "<footer>Made by Ant Crew {} from one record; nothing on this page comes from a network. Figures are drawn by "
      "Chart.js.<details><summary>Its licence</summary><pre>{}</pre></details></footer>\n</main>\n"
      "<div id=\"said\" class=\"said\" role=\"status\" aria-live=\"polite\"></div>\n",
      escaped(study.record->library_version), escaped(std::string(internal::page_licence.text)));
  return text;
}

}  // namespace

std::string page_html(const StudyView& view) {
  bool with_trials = true;
  const std::string data = internal::page_data(view, most_page_bytes - internal::page_charts.text.size(), with_trials);
  return head_html(view) + body_html(view, with_trials) +
         fmt::format(
             "<script type=\"application/json\" "
             "id=\"study\">{}</script>\n<script>{}</script>\n<script>{}</script>\n<script>{}</script>\n"
             "</body>\n</html>\n",
             data, internal::page_charts.text, internal::page_figures.text, internal::page_script.text);
}

}  // namespace antcrew::report_layer
