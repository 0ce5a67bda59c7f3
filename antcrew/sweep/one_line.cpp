#include "antcrew/sweep/one_line.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/sweep/internal/shell_text.hpp"
#include "antcrew/sweep/study_file.hpp"

namespace antcrew::sweep_layer {
namespace {

constexpr const char* in_words_of_command = "the command";
constexpr const char* takes_workers = "@(workers)";
constexpr const char* variable = "ANTCREW_WORKERS";

bool any_has(const Words& words, const std::string& what) {
  return std::any_of(words.begin(), words.end(),
                     [&](const std::string& word) { return word.find(what) != std::string::npos; });
}

// Of a script or a program: whether it asks for the variable.
bool file_has(const std::filesystem::path& path, const std::string& what) {
  constexpr std::uintmax_t longest = std::uintmax_t{64} << 20;
  std::error_code trouble;
  if (!std::filesystem::is_regular_file(path, trouble) || std::filesystem::file_size(path, trouble) > longest)
    return false;
  std::ifstream in(path, std::ios::binary);
  const std::string text{std::istreambuf_iterator<char>(in), {}};
  return text.find(what) != std::string::npos;
}

// The worker count reaches it by its words, or by its environment.
bool gets_workers(const Words& words, const std::string& folder) {
  if (any_has(words, takes_workers) || any_has(words, variable)) return true;
  return std::any_of(words.begin(), words.end(), [&](const std::string& word) {
    return word.find('/') != std::string::npos || word.find('.') != std::string::npos
               ? file_has(std::filesystem::path(folder) / word, variable)
               : false;
  });
}

void check_workers_arrive(const Words& words, const std::string& folder, const std::string& where) {
  if (gets_workers(words, folder)) return;
  bad_input("sweep.name", where, "no @(workers) in it: every worker count would be the same",
            "put it where the program takes its number of workers: antcrew sweep --workers 1,2,4 -- sort "
            "'--parallel=@(workers)' tides.txt; or let a script of yours read $ANTCREW_WORKERS");
}

Words with_one_worker(Words words) {
  const std::string name = takes_workers;
  for (std::string& word : words) {
    for (std::size_t at = word.find(name); at != std::string::npos; at = word.find(name, at))
      word.replace(at, name.size(), "1");
  }
  return words;
}

Words checked_words(Words words, const std::string& where) {
  if (words.empty() || words.front().empty()) bad_input("cli.option", where, "no command", "say what is to be run");
  internal::check_shell_words(words, where);
  return words;
}

AnswerRule rule_of(const OneLine& line) {
  AnswerRule rule;
  const auto is = [&](const char* word) {
    return std::find(line.answer.begin(), line.answer.end(), word) != line.answer.end();
  };
  if (line.answer.size() > 1 && (is("none") || is("output")))
    bad_input("cli.option", "--answer", "two kinds of answers", "give output, none, or names of files");
  if (is("none")) {
    rule.from = AnswerRule::From::none;
  } else if (!line.answer.empty() && !is("output")) {
    rule.from = AnswerRule::From::file;
    rule.file = line.answer.front();
    rule.more_files.assign(line.answer.begin() + 1, line.answer.end());
  }
  if (!line.filter.empty())
    rule.filter = {checked_words(split_words(line.filter, "--filter"), "--filter"), {}, "--filter"};
  const std::string how = !line.compare.empty() ? line.compare : line.tolerance ? "numbers" : "exactly";
  if (how != "exactly" && how != "lines" && how != "numbers")
    bad_input("cli.option", "--compare", "no way '" + printable(how, 40) + "' to compare answers",
              "choose from exactly, lines, numbers");
  if (rule.from == AnswerRule::From::none && (!line.compare.empty() || line.tolerance || !line.filter.empty()))
    bad_input("cli.option", "--answer none", "answers that are not looked at cannot be compared",
              "leave --compare, --tolerance and --filter out");
  if (how == "numbers" && !line.tolerance)
    bad_input("cli.option", "--compare numbers", "no tolerance", "add --tolerance 1e-9");
  if (how != "numbers" && line.tolerance)
    bad_input("cli.option", "--tolerance", "a tolerance is for numbers", "add --compare numbers");
  if (line.tolerance && !(*line.tolerance >= 0 && *line.tolerance < 1))
    bad_input("cli.option", "--tolerance", "a tolerance that cannot be used", "give 0 to below 1, such as 1e-9");
  rule.how = how == "numbers" ? AnswerRule::How::numbers
             : how == "lines" ? AnswerRule::How::lines
                              : AnswerRule::How::exactly;
  rule.tolerance = line.tolerance.value_or(0);
  return rule;
}

void check_answer_file(const AnswerRule& rule, const std::vector<Words>& commands) {
  if (rule.from != AnswerRule::From::file) return;
  for (const std::string& file : rule.files()) {
    const std::filesystem::path path = std::filesystem::path(file).lexically_normal();
    if (!path.is_absolute() && *path.begin() != ".." && file.find("@(") == std::string::npos) continue;
    bad_input("cli.option", "--answer " + printable(file, 60),
              "an answer outside the trial's own folder, where all would write the same file",
              "give its name in there, and let the command write it to '@(folder)/" +
                  printable(path.filename().string(), 40) + "'");
  }
  for (const Words& words : commands) {
    if (any_has(words, "@(folder)") || any_has(words, "ANTCREW_FOLDER")) continue;
    bad_input("cli.option", "--answer " + printable(rule.file, 60),
              "a command writes nothing into the trial's folder: " + printable(in_words(words), 60),
              "let it write the answer to '@(folder)/" + printable(rule.file, 40) + "'");
  }
}

}  // namespace

Words split_words(const std::string& text, const std::string& where) {
  Words words;
  bool inside = false;  // a word, perhaps an empty one
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    if (c == ' ' || c == '\t' || c == '\n') {
      inside = false;
      continue;
    }
    if (!inside) words.emplace_back();
    inside = true;
    if (c == '\\' && at + 1 < text.size()) {
      words.back() += text[++at];
    } else if (c == '\'' || c == '"') {
      for (++at; at < text.size() && text[at] != c; ++at) {
        if (c == '"' && text[at] == '\\' && at + 1 < text.size()) ++at;
        words.back() += text[at];
      }
      if (at == text.size()) bad_input("cli.option", where, "a quote that is not closed", "close it");
    } else {
      words.back() += c;
    }
  }
  return words;
}

std::unique_ptr<CommandStudy> study_of(const OneLine& line) {
  struct Try {
    std::string name;
    Words words;
    std::string where;
  };
  std::vector<Try> tries;
  if (!line.command.empty())
    tries.push_back({std::filesystem::path(line.command.front()).filename().string(),
                     checked_words(line.command, in_words_of_command), in_words_of_command});
  for (const std::string& given : line.tries) {
    const std::size_t equals = given.find('=');
    const std::string name = given.substr(0, equals);
    const std::string where = "--try " + printable(name, 40);
    if (equals == std::string::npos || name.empty())
      bad_input("cli.option", where, "no NAME= in front of the command", "write --try NAME='COMMAND …'");
    if (std::any_of(tries.begin(), tries.end(), [&](const Try& other) { return other.name == name; }))
      bad_input("cli.option", where, "two variants of this name", "give one of them another name");
    tries.push_back({name, checked_words(split_words(given.substr(equals + 1), where), where), where});
  }
  if (tries.empty())
    bad_input("cli.option", in_words_of_command, "nothing to try", "add -- COMMAND, or --try NAME='…'");
  for (const Try& one : tries) check_workers_arrive(one.words, line.folder, one.where);

  CommandStudy::Parts parts;
  parts.title = printable(line.title.empty() ? in_words(tries.front().words) : line.title, 80);
  parts.folder = line.folder;
  parts.answer = rule_of(line);
  parts.baseline.command =
      line.baseline.empty()
          ? Command{with_one_worker(tries.front().words), {}, tries.front().where}
          : Command{checked_words(split_words(line.baseline, "--baseline"), "--baseline"), {}, "--baseline"};
  parts.baseline.input = line.input;
  std::vector<Words> commands{parts.baseline.command.words};
  for (const Try& one : tries) commands.push_back(one.words);
  check_answer_file(parts.answer, commands);

  auto study = std::make_unique<CommandStudy>(std::move(parts));
  if (line.sizes.empty()) {
    study->without_sizes();
  } else {
    study->sizes(line.sizes);
  }
  for (const auto& [name, values] : line.dimensions) study->dimension(name, values);
  for (const Try& one : tries) {
    Runnable variant;
    variant.command = {one.words, {}, one.where};
    variant.launcher = split_words(line.launcher, "--launcher");
    variant.input = line.input;
    study->variant(one.name, "command", variant, {});
  }
  if (const Command& filter = study->parts().answer.filter; filter.given()) {
    const Words known = known_names(*study, study->parts().baseline);
    for (const std::string& word : filter.words) check_names(word, known, filter.where);
    found_program(filter.words.front(), line.folder, filter.where);
  }
  const auto check = [&](const Runnable& of) {
    const Words known = known_names(*study, of);
    for (const Words* words : {&of.launcher, &of.command.words}) {
      for (const std::string& word : *words) check_names(word, known, of.command.where);
    }
    const std::string& first = of.launcher.empty() ? of.command.words.front() : of.launcher.front();
    if (first.find("@(") == std::string::npos) found_program(first, line.folder, of.command.where);
    if (!of.input.empty()) check_names(of.input, known, "--input");
  };
  check(study->parts().baseline);
  for (std::size_t k = 0; k < study->variants().size(); ++k) check(study->runnable(k));
  return study;
}

}  // namespace antcrew::sweep_layer
