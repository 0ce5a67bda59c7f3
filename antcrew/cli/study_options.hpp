// The options that every study program has.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/stored.hpp"
#include "antcrew/study/plan.hpp"
#include "antcrew/study/study_base.hpp"

namespace CLI {
class App;
}

namespace antcrew::cli_layer {

struct StudyOptions {
  std::optional<std::string> workers;
  std::optional<std::string> sizes;
  std::vector<std::string> variants;
  std::vector<std::string> studies;
  std::vector<std::string> dimensions;  // NAME=LIST
  std::optional<std::string> pins;
  std::optional<int> rounds;
  double width_percent = Plan{}.width * 100;
  double matters_percent = Plan{}.matters * 100;
  int launches = Plan{}.launches;
  double wait_idle_s = 0;
  std::optional<double> budget_s;
  bool quick = false;
  bool find_races = false;
  bool without_cell_processes = false;
  bool no_confirm = false;
  bool no_crowd = false;
  double call_limit_s = 0;
  std::string memory_limit;
  std::string resume;
  std::string only;
  std::uint64_t seed = 0;
  std::string save;
  FormChoice form;
  bool overwrite = false;
  StoreOptions store;
  bool quiet = false;
  bool answers = false;
  bool page = false;  // one beside the record, too
  bool let_print = false;
  std::string launcher;
  std::optional<std::string> meter;
  bool dry_run = false;
};

// The options of a study program; none when it was asked for help, which has been printed. Throws Error (cli.option).
std::optional<StudyOptions> parse_study_options(int argc, char** argv, const std::string& about);

// The same for a command of `antcrew`; of_commands: without what C++ code alone can be asked for.
void add_study_options(CLI::App& app, StudyOptions& options, bool of_commands);

// --dry-run, and its earlier name.
void add_dry_run(CLI::App& app, bool& dry_run, const std::string& what);
// Parses; an option or command that there is none of becomes an error that names the nearest one.
void parse(CLI::App& app, int argc, char** argv);

// Throws Error (units.count, study.grid, cli.option) naming the option.
Plan plan_of(const StudyOptions& options);

// The studies named by title or number (from 1), all when none is named. Throws Error (cli.study).
std::vector<const StudyBase*> chosen_studies(const std::vector<const StudyBase*>& studies,
                                             const std::vector<std::string>& wanted);

// The form asked for; of several studies each has a file of its own, by its title.
FormChoice form_of(const StudyOptions& options, const Outline& study, std::size_t studies);

// --save, or a new file of this study's own under antcrew-records/. Throws Error (record.exists).
std::string record_path(const StudyOptions& options, const Outline& study, std::size_t studies);

}  // namespace antcrew::cli_layer
