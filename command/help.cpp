#include "help.hpp"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <sstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/cli/forms.hpp"
#include "antcrew/report/text.hpp"
#include "guides.hpp"

namespace {

using namespace antcrew;
using namespace antcrew::layers;

std::vector<const CLI::App*> commands_of(const CLI::App& app) {
  std::vector<const CLI::App*> commands;
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; })) {
    if (!command->get_group().empty()) commands.push_back(command);
  }
  return commands;
}

// Markdown as a terminal shows it: code set in, headings without their signs.
std::string shown(const std::string& markdown, const Look& look) {
  std::istringstream lines(markdown);
  std::string text;
  bool code = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.rfind("```", 0) == 0) {
      code = !code;
    } else if (code) {
      text += line.empty() ? "\n" : "    " + line + "\n";
    } else if (line.rfind('#', 0) == 0) {
      const std::size_t from = line.find_first_not_of("# ");
      text += styled(from == std::string::npos ? "" : line.substr(from), Style::heading, look) + "\n";
    } else {
      text += line + "\n";
    }
  }
  return text;
}

std::string topics() {
  std::string text = "Guides, each to be followed step by step:\n\n";
  for (const Guide& guide : guides()) text += fmt::format("  antcrew help {:<12} {}\n", guide.topic, title_of(guide));
  return text + "\nAnd `antcrew help COMMAND`, the same as `antcrew COMMAND --help`. All commands: antcrew --help\n";
}

std::vector<std::string> options_of(const CLI::App& app) {
  std::vector<std::string> words;
  for (const CLI::Option* option : app.get_options()) {
    for (const std::string& name : option->get_lnames()) words.push_back("--" + name);
  }
  return words;
}

}  // namespace

std::string title_of(const Guide& guide) {
  const std::string text = guide.text;
  const std::size_t end = text.find('\n');
  return text.substr(2, end - 2);
}

int run_help(const CLI::App& app, const std::string& topic) {
  if (topic.empty()) {
    fmt::print("{}", topics());
    return exit_done;
  }
  std::vector<std::string> known;
  for (const Guide& guide : guides()) {
    known.emplace_back(guide.topic);
    if (topic != guide.topic) continue;
    put_out(shown(guide.text, output_look()), "");
    return exit_done;
  }
  for (const CLI::App* command : commands_of(app)) {
    known.push_back(command->get_name());
    if (topic != command->get_name()) continue;
    fmt::print("{}", command->help("antcrew"));
    return exit_done;
  }
  const std::string likely = nearest_word(known, topic);
  bad_input("cli.topic", topic, "no topic of this name",
            (likely.empty() ? "" : "did you mean '" + likely + "'? ") + std::string("`antcrew help` lists them"));
}

int print_completion(const CLI::App& app, const std::string& shell) {
  if (shell != "bash" && shell != "zsh")
    bad_input("cli.topic", "--completion " + shell, "no such shell", "choose from bash, zsh");
  std::string names;
  std::string cases;
  for (const CLI::App* command : commands_of(app)) {
    names += (names.empty() ? "" : " ") + command->get_name();
    cases += fmt::format("    {}) words=\"{}\" ;;\n", command->get_name(), joined(options_of(*command), " "));
  }
  std::string topics_named;
  for (const Guide& guide : guides()) topics_named += std::string(topics_named.empty() ? "" : " ") + guide.topic;
  std::string text = shell == "zsh" ? "#compdef antcrew\nautoload -U +X bashcompinit && bashcompinit\n" : "";
  text += fmt::format(R"sh(# Completes commands and options of antcrew, and names of files.
_antcrew() {{
  local here="${{COMP_WORDS[COMP_CWORD]}}" words=""
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W "{} --help --version" -- "$here"))
    return
  fi
  case "${{COMP_WORDS[1]}}" in
{}  esac
  case "$here" in
    -*) COMPREPLY=($(compgen -W "$words" -- "$here")) ;;
    *) if [ "${{COMP_WORDS[1]}}" = help ]; then
         COMPREPLY=($(compgen -W "{} {}" -- "$here"))
       else
         COMPREPLY=($(compgen -f -W "last" -- "$here"))
       fi ;;
  esac
}}
complete -o filenames -F _antcrew antcrew
)sh",
                      names, cases, topics_named, names);
  cli_layer::put_out(text, "");
  return exit_done;
}
