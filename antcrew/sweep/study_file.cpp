#include "antcrew/sweep/study_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <regex>
#include <set>
#include <sstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/sweep/internal/answer_table.hpp"
#include "antcrew/sweep/internal/shell_text.hpp"
#include "antcrew/sweep/internal/trial_run.hpp"
#include "antcrew/sweep/toml_table.hpp"

namespace antcrew::sweep_layer {
namespace {

using internal::check_shell_words;
using internal::refuse_names_in_shell_text;
using internal::TomlTable;

class Reading {
 public:
  Reading(const toml::table& root, std::string name, std::string folder)
      : root_(root, name, "the study"), name_(std::move(name)), folder_(std::move(folder)) {}

  std::unique_ptr<CommandStudy> study() {
    check_format();
    CommandStudy::Parts parts = general();
    const Runnable shared = shared_parts();
    const auto dimensions = root_.values("dimensions");
    auto baseline_table = root_.table("baseline");
    if (!baseline_table)
      bad_input("sweep.key", printable(name_), "no [baseline]",
                "say what the variants are compared with: [baseline] and under it command = [\"…\"]");
    parts.baseline = runnable(*baseline_table, shared);
    const std::string baseline_where = baseline_table->where();
    baseline_table->finish();
    const bool weak = root_.yes_or_no("weak_scaling").value_or(false);
    const std::vector<std::size_t> sizes = root_.counts("sizes");
    auto study = std::make_unique<CommandStudy>(std::move(parts));
    if (sizes.empty()) {
      study->without_sizes();
    } else {
      study->sizes(sizes);
    }
    for (const auto& [name, values] : dimensions) add_dimension(*study, name, values);
    if (const auto workers = worker_counts(root_, "workers"); !workers.empty()) study->workers(workers);
    if (weak) {
      if (sizes.empty())
        bad_input("sweep.key", root_.where("weak_scaling"), "weak_scaling without sizes", "give sizes = […]");
      study->weak_scaling([](std::size_t size, int workers) { return size * static_cast<std::size_t>(workers); });
    }
    variants(*study, shared);
    ladders(*study);
    root_.finish();
    study->check_description();
    check(*study, study->parts().baseline, "the baseline");
    for (std::size_t i = 0; i < study->variants().size(); ++i)
      check(*study, study->runnable(i), "variant '" + study->variants()[i].name + "'");
    for (const auto* list : {&study->parts().before_all, &study->parts().before_each, &study->parts().after_each}) {
      for (const Command& command : *list) check_command(*study, study->parts().baseline, command);
    }
    check_answer_file(*study);
    for (const Command* command : {&study->parts().answer.decides, &study->parts().answer.filter}) {
      if (command->given()) check_command(*study, study->parts().baseline, *command);
    }
    return study;
  }

 private:
  void check_format() {
    const auto format = root_.count("format");
    if (!format)
      bad_input("sweep.format", printable(name_), "no 'format' at the top",
                fmt::format("write format = {}", newest_study_format));
    if (*format > static_cast<std::uint64_t>(newest_study_format) || *format == 0)
      bad_input("sweep.format", root_.where("format"),
                fmt::format("a study of format {}, this Ant Crew reads format {}", *format, newest_study_format),
                *format == 0 ? "write format = 1" : "use a newer Ant Crew");
  }

  CommandStudy::Parts general() {
    CommandStudy::Parts parts;
    parts.title = root_.text_needed("title", "say what the study is about: title = \"…\"");
    parts.file = name_;
    parts.folder = folder_;
    if (auto answer = root_.table("answer")) parts.answer = internal::answer_rule(*answer);
    if (auto limits = root_.table("limits")) {
      parts.limits.call_s = limits->number("call_s").value_or(0);
      if (parts.limits.call_s < 0)
        bad_input("sweep.type", limits->where("call_s"), "a limit below zero", "give seconds");
      parts.limits.memory_bytes = limits->count("memory").value_or(0);
      parts.limits.output_bytes = limits->count("output").value_or(parts.limits.output_bytes);
      limits->finish();
    }
    const std::string keep = root_.choice("keep_folders", {"faulty", "all", "none"});
    parts.keep = keep == "all" ? KeepFolders::all : keep == "none" ? KeepFolders::none : KeepFolders::of_faults;
    parts.before_all = commands("before_all");
    parts.before_each = commands("before_each");
    parts.after_each = commands("after_each");
    return parts;
  }

  std::vector<Command> commands(const char* key) {
    std::vector<Command> all;
    for (const Words& words : root_.lists_of_words(key)) all.push_back(internal::command_of(words, root_.where(key)));
    return all;
  }

  // What the study says for all, and each may say for itself.
  Runnable shared_parts() {
    Runnable shared;
    take_shared(root_, shared);
    return shared;
  }

  static void take_shared(TomlTable& table, Runnable& to) {
    for (const auto& [name, value] : table.texts("environment")) {
      if (name.rfind("ANTCREW_", 0) == 0)
        bad_input("sweep.type", table.where("environment"),
                  "an environment variable '" + printable(name, 60) + "', a name that Ant Crew sets itself",
                  "use another name");
      if (name.empty() || name.find('=') != std::string::npos)
        bad_input("sweep.type", table.where("environment"), "an environment variable called '" + printable(name) + "'",
                  "use a name without '='");
      to.environment[name] = value;
    }
    for (auto& [name, words] : table.word_lists("values")) {
      if (name.find_first_of("()@") != std::string::npos || name.empty() || name == "workers" || name == "size" ||
          name == "folder" || name == "study")
        bad_input("sweep.type", table.where("values"), "a value called '" + printable(name) + "'",
                  "use another name: workers, size, folder and study are there already");
      to.values[name] = std::move(words);
    }
    if (const auto folder = table.text("working_folder")) to.working_folder = *folder;
    if (const auto input = table.text("input")) to.input = *input;
    if (auto reported = table.table("reported")) to.reported = reported_of(*reported);
  }

  static Reported reported_of(TomlTable& table) {
    Reported reported;
    reported.pattern =
        table.text_needed("pattern", "give a regular expression with the number in ( ): 'took ([0-9.]+)'");
    const std::string unit = table.choice("unit", {"s", "ms", "us", "ns", "min"});
    reported.unit_s = unit == "ms" ? 1e-3 : unit == "us" ? 1e-6 : unit == "ns" ? 1e-9 : unit == "min" ? 60 : 1;
    try {
      const std::regex pattern = internal::regex_of(reported.pattern);
      if (pattern.mark_count() < 1)
        bad_input("sweep.type", table.where("pattern"), "a pattern without a group in ( )",
                  "put the number in ( ): 'took ([0-9.]+)'");
    } catch (const std::regex_error& error) {
      bad_input("sweep.type", table.where("pattern"), "not a regular expression (" + printable(error.what(), 60) + ")",
                "see ECMAScript's regular expressions");
    }
    table.finish();
    return reported;
  }

  Runnable runnable(TomlTable& table, const Runnable& shared) {
    Runnable one = shared;
    take_shared(table, one);
    one.launcher = table.words("launcher");
    const Words words = table.words("command");
    const auto shell = table.text("shell");
    if (!words.empty() && shell)
      bad_input("sweep.key", table.where("shell"), "both a command and shell text", "leave one of them out");
    if (shell) {
      refuse_names_in_shell_text(*shell, table.where("shell"));
      if (shell->empty()) bad_input("sweep.type", table.where("shell"), "an empty shell text", "say what is to be run");
      one.command = {{}, *shell, table.where("shell")};
    } else if (table.has("command")) {
      one.command = internal::command_of(words, table.where("command"));
    } else {
      bad_input("sweep.key", table.where(), "nothing to run here", "add command = [\"…\"], or shell = \"…\"");
    }
    return one;
  }

  static std::vector<int> worker_counts(TomlTable& table, const char* key) {
    std::vector<int> workers;
    for (const std::size_t count : table.counts(key))
      workers.push_back(
          internal::checked_workers(count > 1'000'000 ? 1'000'000 : static_cast<long long>(count), table.where(key)));
    if (!workers.empty()) study_layer::check_workers(workers, table.where(key));
    return workers;
  }

  void add_dimension(CommandStudy& study, const std::string& name, const std::vector<PointValue>& values) {
    if (name == "workers" || name == "folder" || name == "study")
      bad_input("sweep.type", root_.where("dimensions"), "a dimension called '" + printable(name) + "'",
                "use another name");
    study.dimension(name, values);
  }

  void variants(CommandStudy& study, const Runnable& shared) {
    std::map<std::string, VariantHandle> by_name;
    std::vector<TomlTable> tables = root_.tables("variant");
    if (tables.empty())
      bad_input("sweep.key", printable(name_), "no variant to compare with the baseline",
                "add [[variant]] with name = \"…\" and command = [\"…\"]");
    for (TomlTable& table : tables) {
      const std::string name = table.text_needed("name", "name it: name = \"four at a time\"");
      const std::string crew = table.text("crew").value_or("command");
      Runnable one = runnable(table, shared);
      std::vector<int> workers = worker_counts(table, "workers");
      const auto probe_of = table.text("probe_of");
      const auto keeps = table.text("keeps");
      const bool chooses = table.yes_or_no("chooses_workers").value_or(false);
      if (printable(crew) != crew || crew.empty())
        bad_input("sweep.type", table.where("crew"), "a crew that is no plain word", "say how it works: \"threads\"");
      if (by_name.count(name) > 0)
        bad_input("sweep.key", table.where("name"), "two variants are called '" + printable(name, 40) + "'",
                  "give one of them another name");
      std::optional<VariantHandle> handle;
      if (probe_of) {
        const auto of = by_name.find(*probe_of);
        if (of == by_name.end())
          bad_input("sweep.key", table.where("probe_of"),
                    "no variant '" + printable(*probe_of, 40) + "' before this one",
                    "name the variant whose part it leaves out");
        handle = study.probe(name, crew, std::move(one), of->second, std::move(workers));
      } else {
        handle = study.variant(name, crew, std::move(one), std::move(workers));
      }
      if (keeps) handle->keeps(*keeps);
      if (chooses) handle->chooses_workers();
      by_name.emplace(name, *handle);
      table.finish();
    }
    by_name_ = std::move(by_name);
  }

  void ladders(CommandStudy& study) {
    for (const Words& names : root_.lists_of_words("ladder")) {
      std::vector<VariantHandle> steps;
      for (const std::string& name : names) {
        const auto step = by_name_.find(name);
        if (step == by_name_.end())
          bad_input("sweep.key", root_.where("ladder"), "no variant '" + printable(name, 40) + "'",
                    "a ladder is a list of variants' names, in the order in which they were improved");
        steps.push_back(step->second);
      }
      study.ladder(steps);
    }
  }

  // Two names in one variable, or one name for two things: what a command gets would depend on which came last.
  void check_names_apart(const CommandStudy& study, const Runnable& of, const std::string& where) const {
    std::map<std::string, std::string> variables;
    const auto add = [&](const std::string& variable, const std::string& name, const char* what) {
      const auto [other, fresh] = variables.emplace(variable, name);
      if (!fresh)
        bad_input("sweep.type", where,
                  std::string("two ") + what + "s, '" + printable(other->second, 40) + "' and '" + printable(name, 40) +
                      "', would be one variable " + variable,
                  "give one of them another name");
    };
    for (const auto& [name, unused] : study.dimensions()) add(dimension_variable(name), name, "dimension");
    for (const auto& [name, unused] : of.values) {
      for (const auto& [dimension, more] : study.dimensions()) {
        if (dimension == name)
          bad_input("sweep.type", where, "a value and a dimension are both called '" + printable(name, 40) + "'",
                    "give one of them another name");
      }
      add(value_variable(name), name, "value");
    }
  }

  // An answer anywhere else would be the same file for all, the baseline among them.
  void check_answer_file(const CommandStudy& study) const {
    const AnswerRule& rule = study.parts().answer;
    if (rule.from != AnswerRule::From::file) return;
    const std::string where = printable(name_) + " ([answer])";
    for (const std::string& file : rule.files()) {
      check_names(file, known_names(study, study.parts().baseline), where);
      for (std::size_t i = 0; i < study.variants().size(); ++i)
        check_names(file, known_names(study, study.runnable(i)), where);
      check_inside(file, where);
    }
  }

  static void check_inside(const std::string& file, const std::string& where) {
    std::string name = file;
    if (name.rfind("@(folder)/", 0) == 0) name.erase(0, 10);
    const std::filesystem::path path = std::filesystem::path(name).lexically_normal();
    if (!path.is_absolute() && !path.empty() && *path.begin() != ".." && name.find("@(study)") == std::string::npos &&
        name.find("@(folder)") == std::string::npos)
      return;
    bad_input("sweep.key", where, "an answer outside the trial's own folder, where all would write the same file",
              "let the command write it into its folder, @(folder), and give its name there: file = \"" +
                  printable(path.filename().string(), 40) + "\"");
  }

  // That every name is known and every program is there, before anything is run.
  void check(const CommandStudy& study, const Runnable& of, const std::string& whose) const {
    const Words known = known_names(study, of);
    const std::string where = of.command.where + " (" + printable(whose, 60) + ")";
    check_names_apart(study, of, where);
    for (const std::string& word : of.launcher) check_names(word, known, where);
    Words plain{"workers", "folder", "study"};
    if (study.has_sizes()) plain.emplace_back("size");
    for (const auto& [name, unused] : study.dimensions()) plain.push_back(name);
    for (const auto& [name, words] : of.values) {
      for (const std::string& word : words) check_names(word, plain, where);
    }
    for (const auto& [name, value] : of.environment) check_names(value, known, where);
    for (const std::string* text : {&of.working_folder, &of.input}) check_names(*text, known, where);
    if (of.launcher.empty()) {
      check_command(study, of, of.command);
    } else {
      for (const std::string& word : of.command.words) check_names(word, known, where);
      check_program(of, of.launcher.front(), where);
    }
  }

  void check_command(const CommandStudy& study, const Runnable& of, const Command& command) const {
    const Words known = known_names(study, of);
    for (const std::string& word : command.words) check_names(word, known, command.where);
    if (command.shell.empty()) check_program(of, command.words.front(), command.where);
  }

  void check_program(const Runnable& of, const std::string& word, const std::string& where) const {
    const std::string path = path_of(of.environment);
    if (word.find("@(") == std::string::npos && path.find("@(") == std::string::npos)
      found_program(word, folder_, where, path);
  }

  TomlTable root_;
  std::string name_;
  std::string folder_;
  std::map<std::string, VariantHandle> by_name_;
};

}  // namespace

std::unique_ptr<CommandStudy> study_from_text(const std::string& text, const std::string& name,
                                              const std::string& folder) {
  const toml::table root = internal::toml_of(text, name, "sweep");
  return Reading(root, name, folder).study();
}

}  // namespace antcrew::sweep_layer
