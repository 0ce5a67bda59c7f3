#include "antcrew/cli/compare.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <memory>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/guard.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/draw.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/compare_text.hpp"
#include "antcrew/report/compared_figures.hpp"
#include "antcrew/report/guard_text.hpp"
#include "antcrew/report/text.hpp"
#include "antcrew/store/record_lookup.hpp"
#include "antcrew/sweep/toml_table.hpp"

namespace antcrew::cli_layer {
namespace {

// Records and what they say; addresses stay.
struct Runs {
  std::vector<std::unique_ptr<Record>> records;
  std::vector<std::unique_ptr<Analysed>> studies;
  std::string newest_is;  // what people call it

  Runs(const std::string& list, const StoreOptions& store) {
    for (const RecordFile& file : record_files(list, store)) {
      records.push_back(std::make_unique<Record>(load_record(file.path)));
      studies.push_back(std::make_unique<Analysed>(analyse(*records.back())));
      const bool newest = std::all_of(records.begin(), records.end(),
                                      [&](const auto& other) { return other->created <= records.back()->created; });
      if (newest) newest_is = file.title;
    }
    // Oldest first, whatever the order of the names.
    std::stable_sort(studies.begin(), studies.end(),
                     [](const auto& a, const auto& b) { return a->record->created < b->record->created; });
  }
  std::vector<const Analysed*> all() const {
    std::vector<const Analysed*> pointers;
    for (const auto& study : studies) pointers.push_back(study.get());
    return pointers;
  }
};

// Names of files in a file of requirements are relative to that file, which then means the same wherever it is used.
std::string beside(const std::string& list, const std::string& file) {
  namespace fs = std::filesystem;
  std::string found;
  for (std::size_t from = 0; from <= list.size();) {
    const std::size_t comma = std::min(list.find(',', from), list.size());
    std::string word = list.substr(from, comma - from);
    if (is_file_name(word) && fs::path(word).is_relative()) {
      std::error_code unknown;
      const fs::path there = fs::path(file).parent_path() / word;
      if (fs::exists(there, unknown)) {
        word = there.string();
      } else if (fs::exists(word, unknown)) {
        std::fprintf(stderr, "%s: there is no %s beside it; taking the one in the current folder.\n",
                     printable(file, 100).c_str(), printable(word, 100).c_str());
      }
    }
    found += (found.empty() ? "" : ",") + word;
    from = comma + 1;
  }
  return found;
}

Requirements required_by_file(const std::string& path, std::string& against) {
  Requirements required;
  const toml::table root = internal::toml_of(
      internal::toml_text(path, "guard", "give a file of requirements; docs/guard.md has them"), path, "guard");
  internal::TomlTable table(root, path, "the guard", "guard");
  const auto format = table.count("format");
  if (!format || *format != 1)
    bad_input("guard.format", printable(path, 100), format ? "another format than 1" : "no 'format' at the top",
              "write format = 1");
  required.variant = table.text("variant").value_or("");
  required.speedup = table.number("speedup");
  required.efficiency = table.number("efficiency");
  if (const auto bytes = table.count("memory")) required.memory_bytes = static_cast<double>(*bytes);
  required.all_hold = table.yes_or_no("all_hold").value_or(false);
  required.no_finding = table.words("no_finding");
  required.allow_missing = table.words("allow_missing");
  if (const auto old = table.text("not_worse_than")) against = beside(*old, path);
  if (const auto by = table.number("by_percent")) required.not_worse_by = *by / 100;
  table.finish();
  return required;
}

Requirements required_by(const GuardOptions& options, std::string& against) {
  Requirements required;
  if (!options.requirements.empty()) required = required_by_file(options.requirements, against);
  if (!options.variant.empty()) required.variant = options.variant;
  if (options.speedup) required.speedup = options.speedup;
  if (options.efficiency) required.efficiency = options.efficiency;
  if (!options.memory.empty()) required.memory_bytes = static_cast<double>(parse_count(options.memory, "--memory"));
  required.all_hold = required.all_hold || options.all_hold;
  required.no_finding.insert(required.no_finding.end(), options.no_finding.begin(), options.no_finding.end());
  required.allow_missing.insert(required.allow_missing.end(), options.allow_missing.begin(),
                                options.allow_missing.end());
  if (!options.not_worse_than.empty()) against = options.not_worse_than;
  if (options.by_percent) required.not_worse_by = *options.by_percent / 100;
  required.not_worse = !against.empty();
  if ((required.not_worse_by || !required.allow_missing.empty()) && against.empty())
    bad_input("guard.option", "guard", "no record to compare with", "name it with --not-worse-than RECORD");
  if (required.not_worse_by && !(*required.not_worse_by >= 0 && *required.not_worse_by < 1))
    bad_input("guard.option", "guard", "a loss that cannot be allowed", "give --by 0 to 99, in percent");
  for (const auto& value : {required.speedup, required.efficiency, required.memory_bytes}) {
    if (value && !(*value > 0))
      bad_input("guard.option", "guard", "a requirement of zero or less", "give more than zero");
  }
  return required;
}

std::string drawn(const Runs& before, const Runs& after, const CompareOptions& options) {
  const bool history = options.form == "figure:history";
  std::vector<const Analysed*> runs = before.all();
  const std::vector<const Analysed*> later = after.all();
  const Analysed& old = *runs.back();
  runs.insert(runs.end(), later.begin(), later.end());
  const auto figure = history ? history_figure(runs, options.variant)
                              : side_by_side_figure(old, *later.back(), {before.newest_is, after.newest_is});
  if (!figure)
    bad_input("cli.figure", "--as " + options.form,
              history ? "fewer than two of these runs have figures of this cell"
                      : "one of the two has no speedups that could be drawn",
              history ? "name another with --variant, or more runs" : "see `antcrew compare` without --as");
  return draw(*figure, image_of({options.form, options.to, options.image}));
}

}  // namespace

void add_compare_options(CLI::App& app, CompareOptions& options) {
  app.add_option("OLD", options.before,
                 std::string("the record before: ") + record_help + "; several runs with commas between them")
      ->required();
  app.add_option("NEW", options.after, "of the record after")->required();
  app.add_option("--as", options.form,
                 "form: text, json, figure (both side by side), figure:history (one cell in all runs)")
      ->type_name("FORM")
      ->capture_default_str();
  app.add_option("--variant", options.variant, "that a history follows (default: the newest run's best)")
      ->type_name("NAME");
  app.add_option("--to", options.to, "write to this file instead of standard output")->type_name("FILE");
  app.add_option("--image", options.image, "of a figure: svg, png, pdf (default: by the ending of --to, else svg)")
      ->type_name("IMAGE");
  add_store_options(app, options.store, false);
}

int compare_records(const CompareOptions& options) {
  const bool figure = options.form == "figure" || options.form == "figure:history";
  check_plain_form(options.form, "a comparison", {"figure", "figure:history"});
  if (!options.variant.empty() && options.form != "figure:history")
    bad_input("cli.option", "--variant", "only a history follows one variant", "add --as figure:history");
  if (figure) check_image({options.form, options.to, options.image});
  const Runs before(options.before, options.store);
  const Runs after(options.after, options.store);
  const Comparison found = compare(before.all(), after.all());
  const Look look = options.to.empty() ? output_look() : Look();
  const Analysed& now = *after.all().back();
  if (figure) {
    put_out(drawn(before, after, options), options.to);
    return exit_done;
  }
  put_out(options.form == "json" ? compare_json(found, now) : wrapped(compare_text(found, now, look), look.width),
          options.to);
  if (found.any(Change::worse) || found.any(Change::worse_in_time)) return exit_answer_is_no;
  const bool told = found.any(Change::better) || found.any(Change::same) || found.any(Change::better_in_time);
  return told ? exit_done : exit_cannot_tell;
}

void add_guard_options(CLI::App& app, GuardOptions& options) {
  app.add_option("RECORD", options.record, record_help)->required();
  add_store_options(app, options.store, false);
  app.add_option("--requirements", options.requirements, "a TOML file that has them")->type_name("FILE");
  app.add_option("--variant", options.variant, "look at this variant only (default: the best)")->type_name("NAME");
  app.add_option("--speedup", options.speedup, "at least this speedup")->type_name("S");
  app.add_option("--efficiency", options.efficiency, "at least this efficiency, such as 0.6")->type_name("E");
  app.add_option("--memory", options.memory, "at most this much memory, such as 2Gi")->type_name("BYTES");
  app.add_flag("--all-hold", options.all_hold, "no cell with another verdict than 'holds'");
  app.add_option("--no-finding", options.no_finding, "no finding of this id, such as lock-wait; may be given again")
      ->type_name("ID")
      ->allow_extra_args(false);
  app.add_option("--not-worse-than", options.not_worse_than,
                 "than this record, or several runs with commas between them")
      ->type_name("RECORD");
  app.add_option(
         "--by", options.by_percent,
         "so much of a speedup may be lost, beyond noise (default: what runs differ by: measured, else assumed)")
      ->type_name("PERCENT");
  app.add_option("--allow-missing", options.allow_missing,
                 "a variant that the record before has and this one need not have; may be given again")
      ->type_name("NAME")
      ->allow_extra_args(false);
  add_plain_form(app, options.form);
  app.add_option("--junit", options.junit, "write the outcome as JUnit XML to this file, too")->type_name("FILE");
}

int guard_record(const GuardOptions& options) {
  check_plain_form(options.form, "a guard's answer");
  std::string against;
  const Requirements required = required_by(options, against);
  const Runs now(options.record, options.store);
  const std::vector<const Analysed*> runs = now.all();
  std::unique_ptr<Runs> before;
  std::optional<Comparison> compared;
  if (!against.empty()) {
    before = std::make_unique<Runs>(against, options.store);
    compared = compare(before->all(), runs, guard_false_alarms);
  }
  const std::vector<Check> checks = guard(runs, required, compared ? &*compared : nullptr);
  put_out(options.form == "json"
              ? guard_json(checks, runs)
              : wrapped(guard_text(checks, runs, compared ? &*compared : nullptr), output_look().width),
          "");
  if (!options.junit.empty()) put_out(guard_junit(checks, runs), options.junit);
  if (any(checks, Outcome::failed)) return exit_answer_is_no;
  return any(checks, Outcome::cannot_tell) ? exit_cannot_tell : exit_done;
}

}  // namespace antcrew::cli_layer
