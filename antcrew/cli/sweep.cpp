#include "antcrew/cli/sweep.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <filesystem>
#include <iostream>
#include <iterator>
#include <utility>

#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/run_study.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/sweep/run_sweep.hpp"
#include "antcrew/sweep/study_file.hpp"

namespace antcrew::cli_layer {
namespace {

// Options that say what a study file says itself.
const char* option_of_one_line(const OneLine& line) {
  const std::pair<const char*, bool> given[] = {{"--title", !line.title.empty()},
                                                {"--baseline", !line.baseline.empty()},
                                                {"--try", !line.tries.empty()},
                                                {"--launcher", !line.launcher.empty()},
                                                {"--input", !line.input.empty()},
                                                {"--answer", !line.answer.empty()},
                                                {"--filter", !line.filter.empty()},
                                                {"--compare", !line.compare.empty()},
                                                {"--tolerance", line.tolerance.has_value()}};
  for (const auto& [name, is_given] : given) {
    if (is_given) return name;
  }
  return nullptr;
}

std::unique_ptr<CommandStudy> study_for(const SweepOptions& options, const std::vector<std::string>& command) {
  const std::string folder = std::filesystem::current_path().string();
  if (options.file.empty() && (!command.empty() || !options.line.tries.empty())) {
    const Plan plan = plan_of(options.study);
    OneLine line = options.line;
    line.command = command;
    line.folder = folder;
    line.sizes = plan.sizes;
    line.dimensions = plan.dimensions;
    return study_of(line);
  }
  if (options.file.empty())
    bad_input("cli.option", "sweep", "nothing to measure",
              "give a study file, or -- COMMAND with '@(workers)' in it; `antcrew sweep --example` shows a file");
  if (!command.empty()) bad_input("cli.option", "sweep", "both a study file and a command", "leave one of them out");
  if (const char* name = option_of_one_line(options.line))
    bad_input("cli.option", name, "the study file says that itself", "leave it out, or write it into the file");
  if (options.file != "-") return read_study(options.file);
  const std::string text{std::istreambuf_iterator<char>(std::cin), {}};
  return study_from_text(text, "standard input", folder);
}

}  // namespace

void add_sweep_options(CLI::App& app, SweepOptions& options) {
  app.add_option("FILE", options.file,
                 "the study, a TOML file, or - for standard input; instead of it: -- COMMAND with '@(workers)' in it, "
                 "quoted for the shell");
  app.add_flag("--example", options.example, "write a study file with comments that runs as it is, and run nothing");
  OneLine& line = options.line;
  app.add_option("--title", line.title, "without a file: what the study is about (default: the command)")
      ->type_name("TEXT");
  app.add_option("--baseline", line.baseline,
                 "without a file: another command to compare with, in one word-split text (default: -- COMMAND with 1 "
                 "worker)")
      ->type_name("COMMAND");
  app.add_option("--try", line.tries, "without a file: a further variant, NAME='COMMAND …'; may be given again")
      ->type_name("NAME=COMMAND")
      ->allow_extra_args(false);
  app.add_option("--launcher", line.launcher, "without a file: words in front of every variant")->type_name("WORDS");
  app.add_option("--input", line.input, "without a file: a file for standard input")->type_name("FILE");
  app.add_option("--answer", line.answer,
                 "without a file: what is compared: output (default), none, or the name of a file that commands write "
                 "into '@(folder)'; may be given again for several files")
      ->type_name("WHAT")
      ->allow_extra_args(false);
  app.add_option("--filter", line.filter,
                 "without a file: a command that both answers go through first, off the clock, such as 'xz -dc'")
      ->type_name("COMMAND");
  app.add_option("--compare", line.compare, "without a file: how: exactly (default), lines (in any order), numbers")
      ->type_name("HOW");
  app.add_option("--tolerance", line.tolerance, "of numbers, such as 1e-9")->type_name("X");
  add_study_options(app, options.study, true);
}

int sweep(const SweepOptions& asked, const std::vector<std::string>& command) {
  SweepOptions options = asked;
  if (options.example) {
    put_out(example_study(), options.study.form.to);
    return exit_done;
  }
  check_form(options.study.form);
  if (!options.study.resume.empty()) options.study.resume = record_file(options.study.resume, options.study.store);
  const auto study = study_for(options, command);
  const Plan plan = plan_of(options.study);
  decide(*study, plan, usable_processors_now());  // bad input is found before the first second is spent
  if (options.study.dry_run) {
    const bool json = options.study.form.form == "json";
    put_out(json ? commands_json(*study, plan) : commands_in_words(*study, plan), options.study.form.to);
    return exit_done;
  }
  record_path(options.study, *study, 1);
  end_on_signals();
  const auto run_it = [&](const Plan& how, const RunHooks& hooks, const Record* begun, const std::string& path) {
    std::filesystem::path kept = std::filesystem::absolute(path);
    kept.replace_extension();
    return run_sweep(*study, how, hooks, kept.string() + "-trials", begun);
  };
  return run_study({study.get(), run_it}, options.study, 1);
}

}  // namespace antcrew::cli_layer
