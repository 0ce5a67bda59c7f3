#include "antcrew/cli/forms.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <deque>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iterator>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/draw.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/scrub.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/csv.hpp"
#include "antcrew/report/figure.hpp"
#include "antcrew/report/markdown.hpp"
#include "antcrew/report/page.hpp"
#include "antcrew/report/result.hpp"
#include "antcrew/report/study_json.hpp"
#include "antcrew/report/table.hpp"

namespace antcrew::cli_layer {
namespace {

// Each under its name, where there are several.
std::string one_by_one(const std::vector<NamedStudy>& studies, const char* before,
                       const std::function<std::string(const Analysed&)>& text) {
  std::string all;
  for (const NamedStudy& named : studies) {
    if (studies.size() > 1) all += fmt::format("{}{}{}\n\n", all.empty() ? "" : "\n", before, named.name);
    all += text(*named.study);
  }
  return all;
}

std::string tables(const std::vector<NamedStudy>& studies, const Look& look) {
  return one_by_one(studies, "Record ", [&](const Analysed& study) { return result_text(study, look); });
}
std::string whole_tables(const std::vector<NamedStudy>& studies, const Look& look) {
  return one_by_one(studies, "Record ", [&](const Analysed& study) { return table_text(study, look); });
}
std::string markdowns(const std::vector<NamedStudy>& studies, const Look&) {
  return one_by_one(studies, "### Record ", [](const Analysed& study) { return markdown_text(study); });
}
std::string csvs(const std::vector<NamedStudy>& studies, const Look&) {
  return csv_text(cell_rows(studies));
}
std::string tsvs(const std::vector<NamedStudy>& studies, const Look&) {
  return tsv_text(cell_rows(studies));
}
std::string trials(const std::vector<NamedStudy>& studies, const Look&) {
  return csv_text(trial_rows(studies));
}
std::string jsons(const std::vector<NamedStudy>& studies, const Look&) {
  if (studies.size() == 1) return study_json(*studies.front().study);
  std::string all;
  for (const NamedStudy& named : studies) all += (all.empty() ? "[" : ",\n") + study_json(*named.study);
  return all + "]\n";
}
std::string page(const std::vector<NamedStudy>& studies, const Look&) {
  return page_html(*studies.front().study);
}

struct Form {
  const char* name;
  bool several;
  std::string (*render)(const std::vector<NamedStudy>&, const Look& look);
};
constexpr Form forms[] = {{"text", true, tables}, {"markdown", true, markdowns}, {"csv", true, csvs},
                          {"tsv", true, tsvs},    {"trials", true, trials},      {"json", true, jsons},
                          {"page", false, page}};

const Form* form_called(const std::string& name) {
  const auto* found =
      std::find_if(std::begin(forms), std::end(forms), [&](const Form& form) { return form.name == name; });
  return found == std::end(forms) ? nullptr : found;
}

bool is_figure(const std::string& form) {
  return form == "figure" || form.rfind("figure:", 0) == 0;
}

std::string ending_of(const std::string& path) {
  const std::size_t dot = path.rfind('.');
  return dot == std::string::npos || path.find('/', dot) != std::string::npos ? std::string() : path.substr(dot + 1);
}

}  // namespace

std::string image_of(const FormChoice& choice) {
  const std::string image = !choice.image.empty() ? choice.image : choice.to.empty() ? "svg" : ending_of(choice.to);
  if (image == "svg" || image == "png" || image == "pdf") return image;
  bad_input("cli.form", choice.image.empty() ? "--to " + choice.to : "--image " + choice.image,
            "a figure is svg, png or pdf", "end the file's name in one of them, or add --image svg");
}

void check_image(const FormChoice& choice) {
  const std::string image = image_of(choice);
  if (image != "svg" && choice.to.empty() && ::isatty(STDOUT_FILENO) != 0)
    bad_input("cli.form", "--image " + image, "this would fill the terminal with the bytes of an image",
              "name a file: --to figure." + image);
  check_plotter();
}

namespace {

void check_figure(const FormChoice& choice) {
  if (choice.form != "figure") {
    const std::string kind = choice.form.substr(7);
    const std::vector<std::string>& kinds = figure_kinds();
    if (std::find(kinds.begin(), kinds.end(), kind) == kinds.end())
      bad_input("report.figure", "--as " + choice.form, "there is no figure of this kind",
                "choose from " + joined(kinds));
  }
  check_image(choice);
}

std::string drawn(const Analysed& study, const FormChoice& choice) {
  const std::string kind = choice.form == "figure" ? telling_kind(study) : choice.form.substr(7);
  const std::optional<Figure> figure = figure_of(study, kind);
  if (figure) return draw(*figure, image_of(choice));
  std::vector<std::string> there;
  for (const Figure& other : figures_of(study)) there.push_back(other.kind);
  bad_input("cli.figure", "--as figure:" + kind, "this record has nothing to show in such a figure",
            there.empty() ? "nothing in it can be drawn" : "it has " + joined(there));
}

// Found before anything is measured, not after.
void check_target(const std::string& to) {
  if (to.empty()) return;
  const std::size_t slash = to.rfind('/');
  const std::string folder = slash == std::string::npos ? "." : slash == 0 ? "/" : to.substr(0, slash);
  if (::access(folder.c_str(), W_OK | X_OK) == 0) return;
  could_not_run("cli.write", "--to " + to, "the folder " + folder + " cannot be written (" + std::strerror(errno) + ")",
                errno == ENOENT ? "make it first, or name another" : "name another");
}

}  // namespace

std::string form_names() {
  std::vector<std::string> names;
  for (const Form& form : forms) names.emplace_back(form.name);
  return joined(names) + ", figure, figure:KIND";
}

void add_form_options(CLI::App& app, FormChoice& choice) {
  app.add_option("--as", choice.form, "form: " + form_names() + "; KIND is " + joined(figure_kinds()))
      ->transform([](const std::string& form) {
        if (form != "table") return form;
        std::fprintf(stderr, "--as table is now --as text; the next version does not take the old name\n");
        return std::string("text");
      })
      ->type_name("FORM")
      ->capture_default_str();
  app.add_option("--to", choice.to, "write to this file instead of standard output")->type_name("FILE");
  app.add_option("--image", choice.image, "of a figure: svg, png, pdf (default: by the ending of --to, else svg)")
      ->type_name("IMAGE");
  app.add_flag("--all", choice.all, "of the text: every size, every figure and all notes");
  app.add_flag("--anonymize", choice.scrub, scrub_help);
}

void add_plain_form(CLI::App& app, std::string& form) {
  app.add_option("--as", form, "form: text, json")->type_name("FORM")->capture_default_str();
}

void check_plain_form(const std::string& form, const std::string& of, const std::vector<std::string>& besides) {
  std::vector<std::string> known = {"text", "json"};
  known.insert(known.end(), besides.begin(), besides.end());
  if (std::find(known.begin(), known.end(), form) == known.end())
    bad_input("cli.form", "--as", "no form '" + form + "' of " + of, "choose from " + joined(known));
}

void check_form(const FormChoice& choice, std::size_t records) {
  const bool figure = is_figure(choice.form);
  const Form* form = form_called(choice.form);
  if (!figure && form == nullptr)
    bad_input("cli.form", "--as", "no form '" + choice.form + "'", "choose from " + form_names());
  if (records > 1 && (figure || !form->several))
    bad_input("cli.form", "--as " + choice.form, fmt::format("it holds one record, {} were given", records),
              "show them one at a time");
  if (choice.all && choice.form != "text")
    bad_input("cli.form", "--all", "the form " + choice.form + " has everything as it is", "leave out --all");
  if (!choice.image.empty() && !figure)
    bad_input("cli.form", "--image " + choice.image, "only a figure is an image", "add --as figure");
  check_target(choice.to);
  if (figure) check_figure(choice);
}

std::string rendered(const std::vector<NamedRecord>& records, const FormChoice& choice, const Look& look) {
  check_form(choice, records.size());
  std::deque<Record> scrubbed;  // stays where it is: analysed studies point into it
  std::deque<Analysed> analysed;
  std::vector<NamedStudy> studies;
  for (const NamedRecord& named : records) {
    if (choice.scrub) scrubbed.push_back(scrub(named.record));
    analysed.push_back(analyse(choice.scrub ? scrubbed.back() : named.record));
    studies.push_back({choice.scrub ? scrub_text(named.name) : named.name, &analysed.back()});
  }
  if (is_figure(choice.form)) return drawn(analysed.front(), choice);
  return choice.all ? whole_tables(studies, look) : form_called(choice.form)->render(studies, look);
}

void put_out(const std::string& text, const std::string& to) {
  const auto failed = [](const std::string& where) {
    could_not_run("cli.write", where, std::string("cannot be written (") + std::strerror(errno) + ")",
                  "name another file, or make room");
  };
  if (to.empty()) {
    // Files and pipes get UTF-8 always; a terminal what it can show.
    const bool plain = ::isatty(STDOUT_FILENO) != 0 && !takes_utf8();
    const std::string shown = plain ? plain_signs(text) : text;
    if (std::fwrite(shown.data(), 1, shown.size(), stdout) != shown.size() || std::fflush(stdout) != 0)
      failed("standard output");
    return;
  }
  // What is no plain file, such as a named pipe, is written as it stands.
  std::error_code unknown;
  if (!std::filesystem::exists(to, unknown) || std::filesystem::is_regular_file(to, unknown))
    return record_layer::save_text(text, to, false);
  std::ofstream file(to, std::ios::binary);
  file << text << std::flush;
  if (!file) failed(to);
}

}  // namespace antcrew::cli_layer
