// The `antcrew` command.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cstdio>

#include "antcrew/base/error.hpp"
#include "antcrew/cli/compare.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/history.hpp"
#include "antcrew/cli/show.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/cli/sweep.hpp"
#include "antcrew/machine/machine.hpp"
#include "antcrew/machine/noise.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/report/machine_text.hpp"
#include "demo.hpp"
#include "help.hpp"

namespace {

using namespace antcrew;
using namespace antcrew::layers;

constexpr double look_s = 0.2;  // at what other programs do

int run_command(int argc, char** argv) {
  CLI::App app(
      "Ant Crew: how much faster are the rewrites of a sequential program, and where did the rest of the time go?");
  app.name("antcrew");
  app.require_subcommand(0, 1);
  app.set_version_flag("--version", library_version());

  CLI::App* demo = app.add_subcommand("demo", "run the shipped example end to end (under 30 s)");
  demo->prefix_command();  // what follows is for the example
  std::string machine_form = "text";
  CLI::App* machine = app.add_subcommand("machine", "what this machine is, and what a study may use of it");
  add_plain_form(*machine, machine_form);
  bool as_json = false;
  machine->add_flag("--json", as_json, "")->group("");  // its name in 0.1
  ShowOptions show_options;
  CLI::App* show = app.add_subcommand("show", "show saved records: table, figures, page, or for other programs");
  show->add_option("RECORD", show_options.records,
                   std::string("each ") + record_help + "; several stand side by side where a form can hold them")
      ->required();
  add_store_options(*show, show_options.store, false);
  add_form_options(*show, show_options.form);
  show->add_option("--details", show_options.details, "all that was seen of this variant besides its time")
      ->type_name("VARIANT");
  show->add_option("--trial", show_options.trial, "of a study of commands: what is left of trials of this variant")
      ->type_name("VARIANT");
  show->add_flag("--answers", show_options.answers, "what the baseline and each variant answered, in short");
  ExplainOptions explain_options;
  CLI::App* explain = app.add_subcommand("explain", "where the time went, and what to change next");
  explain->add_option("RECORD", explain_options.record, record_help)->required();
  add_store_options(*explain, explain_options.store, false);
  add_plain_form(*explain, explain_options.form);
  explain->add_flag("--timeline", explain_options.timeline, "what each worker did when, too");
  explain->add_option("--to", explain_options.to, "write to this file instead of standard output")->type_name("FILE");
  explain->add_flag("--anonymize", explain_options.scrub, scrub_help);

  CompareOptions compare_options;
  CLI::App* compare_command = app.add_subcommand("compare", "before and after: what became better or worse");
  add_compare_options(*compare_command, compare_options);
  GuardOptions guard_options;
  CLI::App* guard_command = app.add_subcommand("guard", "an exit code for CI: required speedups, allowed losses");
  add_guard_options(*guard_command, guard_options);
  WorthOptions worth_options;
  CLI::App* worth = app.add_subcommand("worth", "from which size on, and with how many workers, to go parallel");
  worth->add_option("RECORD", worth_options.record, record_help)->required();
  add_store_options(*worth, worth_options.store, false);
  worth->add_option("--variant", worth_options.variant, "of this variant (default: the best one)")->type_name("NAME");
  add_plain_form(*worth, worth_options.form);
  worth->add_option("--to", worth_options.to, "write a rule that a program loads to this file")->type_name("FILE");
  ListOptions list_options;
  CLI::App* list = app.add_subcommand("list", "the history: which runs are stored, and what came out");
  add_list_options(*list, list_options);
  MarkOptions mark_options;
  CLI::App* mark = app.add_subcommand("mark", "give a stored run a label, a name or a note");
  add_mark_options(*mark, mark_options);
  ImportOptions import_options;
  CLI::App* import = app.add_subcommand("import", "store records that lie elsewhere");
  add_import_options(*import, import_options);
  RemoveOptions remove_options;
  CLI::App* remove = app.add_subcommand("remove", "remove stored runs; files of yours stay");
  add_remove_options(*remove, remove_options);
  CLI::App* forget = app.add_subcommand("forget", "its name in 0.1")->group("");
  add_remove_options(*forget, remove_options);
  std::string topic;
  std::string shell;
  CLI::App* help = app.add_subcommand("help", "guides: I have a loop, recursion, a script; not faster; CI; a cluster");
  help->add_option("TOPIC", topic, "a guide or a command; without it the list of them");
  help->add_option("--completion", shell, "print what completes commands and options in this shell: bash, zsh")
      ->type_name("SHELL");
  SweepOptions sweep_options;
  CLI::App* sweep_command =
      app.add_subcommand("sweep", "measure commands in any language: scripts, programs, jobs on several machines");
  add_sweep_options(*sweep_command, sweep_options);
  // What stands behind "--" is a command, whatever it looks like.
  std::vector<std::string> command;
  const int own = static_cast<int>(std::find(argv, argv + argc, std::string("--")) - argv);
  if (argc > 1 && std::string(argv[1]) == "sweep" && own < argc) {
    command.assign(argv + own + 1, argv + argc);
    if (command.empty())
      bad_input("cli.option", "sweep", "no command behind '--'",
                "write it there: -- sort '--parallel=@(workers)' FILE");
    argc = own;
  }

  try {
    parse(app, argc, argv);
  } catch (const CLI::CallForHelp&) {
    CLI::App* asked = &app;
    for (CLI::App* sub : app.get_subcommands()) asked = sub;
    fmt::print("{}", asked->help(asked == &app ? "" : "antcrew"));
    return exit_done;
  } catch (const CLI::CallForVersion&) {
    fmt::print("antcrew {}\n", library_version());
    return exit_done;
  }
  if (*machine) {
    if (as_json) std::fprintf(stderr, "--json is now --as json; the next version does not take the old name\n");
    check_plain_form(machine_form, "a machine");
    const Machine here = this_machine();
    put_out(as_json || machine_form == "json" ? to_json(here) : machine_text(here, other_load(look_s)), "");
    return exit_done;
  }
  if (*sweep_command) return sweep(sweep_options, command);
  if (*compare_command) return compare_records(compare_options);
  if (*guard_command) return guard_record(guard_options);
  if (*worth) return tell_worth(worth_options);
  if (*help) return shell.empty() ? run_help(app, topic) : print_completion(app, shell);
  if (*list) return list_runs(list_options);
  if (*mark) return mark_run(mark_options);
  if (*import) return import_records(import_options);
  if (*forget)
    std::fprintf(stderr, "antcrew forget is now antcrew remove; the next version does not take the old name\n");
  if (*remove || *forget) return remove_runs(remove_options);
  if (*show) return show_record(show_options);
  if (*explain) return explain_record(explain_options);
  if (*demo) return run_demo(demo->remaining());
  fmt::print("{}", app.help());
  return exit_done;
}

}  // namespace

int main(int argc, char** argv) {
  return antcrew::cli_layer::guarded("antcrew", [&] { return run_command(argc, argv); });
}
