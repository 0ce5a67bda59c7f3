// The forms that records can be shown in, by the name that --as takes, and where they go to.
//
//   put_out(rendered({{"tides.json", record}}, {"figure:speedup", "tides.svg"}, look), "tides.svg");
#pragma once

#include <string>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/text.hpp"

namespace CLI {
class App;
}

namespace antcrew::cli_layer {

struct NamedRecord {
  std::string name;  // file, where it is one of several
  Record record;
};

struct FormChoice {
  std::string form = "text";  // of form_names(), or "figure:KIND"
  std::string to;             // file; empty = standard output
  std::string image;          // of a figure: "svg", "png", "pdf"; empty = by the ending of `to`, else "svg"
  bool all = false;           // of the text: every size, and all notes
  bool scrub = false;         // without names of hosts, users and folders
};

// "text, markdown, …, page, figure, figure:KIND"
std::string form_names();

// Of a command that has fewer forms than a record: text and json, and those named besides. Throws Error (cli.form).
void check_plain_form(const std::string& form, const std::string& of, const std::vector<std::string>& besides = {});

// --as, --to, --image, --all and --anonymize.
void add_form_options(CLI::App& app, FormChoice& choice);
inline constexpr const char* scrub_help =
    "leave out names of hosts, users and folders, wherever they stand in the record";
// Of a command that has two forms.
void add_plain_form(CLI::App& app, std::string& form);

// Throws Error: cli.form (no such form, one that holds one record only, a bitmap to a terminal), report.figure (no such
// kind). Also when a figure file is asked for and the plotter is missing: before the first second is measured.
void check_form(const FormChoice& choice, std::size_t records = 1);

// Of a figure: "svg", "png" or "pdf". Throws Error (cli.form).
std::string image_of(const FormChoice& choice);
// Throws Error (cli.form, cli.plotter): no image of this kind, or nothing that draws it.
void check_image(const FormChoice& choice);

// Throws Error as check_form, and cli.figure where the records have nothing to show of that kind, or drawing failed.
std::string rendered(const std::vector<NamedRecord>& records, const FormChoice& choice, const Look& look);

// To standard output, or into a file: beside it first and then renamed. Throws Error (cli.write, record.write).
void put_out(const std::string& text, const std::string& to);

}  // namespace antcrew::cli_layer
