#include "antcrew/cli/sweep.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <filesystem>

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

std::unique_ptr<CommandStudy> study_for(const SweepOptions& options, const std::vector<std::string>& command) {
  if (!command.empty() && !options.file.empty())
    bad_input("cli.option", "sweep", "both a study file and a command", "leave one of them out");
  if (!command.empty()) {
    const Plan plan = plan_of(options.study);
    return study_of(command, std::filesystem::current_path().string(), plan.sizes, plan.dimensions);
  }
  if (options.file.empty())
    bad_input("cli.option", "sweep", "nothing to measure",
              "give a study file, or -- COMMAND with '@(workers)' in it; `antcrew sweep --example` shows a file");
  return read_study(options.file);
}

}  // namespace

void add_sweep_options(CLI::App& app, SweepOptions& options) {
  app.add_option("FILE", options.file,
                 "the study, a TOML file; instead of it: -- COMMAND with '@(workers)' in it, quoted for the shell");
  app.add_flag("--example", options.example, "write a study file with comments that runs as it is, and run nothing");
  add_study_options(app, options.study, true);
  app.get_option("--list")->description("show every command word by word, and run nothing");
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
  if (options.study.list) {
    put_out(commands_in_words(*study, plan), "");
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
