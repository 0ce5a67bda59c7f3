#include "antcrew/sweep/command_study.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <functional>

#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/study/agreement.hpp"

namespace antcrew::sweep_layer {
namespace {

namespace fs = std::filesystem;

// Calls `plain` with each stretch of ordinary text and `name` with each name in @(…). False where a bracket is open.
bool walk(const std::string& text, const std::function<void(std::string)>& plain,
          const std::function<void(const std::string&)>& name) {
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t sign = text.find('@', at);
    if (sign == std::string::npos || sign + 1 >= text.size()) {
      plain(text.substr(at));
      return true;
    }
    plain(text.substr(at, sign - at));
    if (text[sign + 1] == '(') {
      const std::size_t end = text.find(')', sign);
      if (end == std::string::npos) return false;
      name(text.substr(sign + 2, end - sign - 2));
      at = end + 1;
    } else {  // @@ is one; alone it is itself
      plain("@");
      at = sign + (text[sign + 1] == '@' ? 2 : 1);
    }
  }
  return true;
}

class PutIn {
 public:
  PutIn(const CommandStudy& study, const Runnable& of, const Place& place) : study_(study), of_(of), place_(place) {}

  std::string text(const std::string& with_names) const {
    std::string done;
    walk(
        with_names, [&](const std::string& plain) { done += plain; },
        [&](const std::string& name) { done += value(name); });
    return done;
  }

  Words words(const Words& with_names) const {
    Words done;
    for (const std::string& word : with_names) {
      const bool whole = word.size() > 3 && word.rfind("@(", 0) == 0 && word.find(')') == word.size() - 1;
      const auto own = whole ? of_.values.find(word.substr(2, word.size() - 3)) : of_.values.end();
      if (own == of_.values.end()) {
        done.push_back(text(word));
      } else {
        for (const std::string& part : own->second) done.push_back(text(part));
      }
    }
    return done;
  }

 private:
  std::string value(const std::string& name) const {
    if (name == "workers") return std::to_string(place_.workers);
    if (name == "size") return std::to_string(place_.at.size);
    if (name == "folder") return place_.folder;
    if (name == "study") return study_.parts().folder;
    if (const auto found = place_.at.dimensions.find(name); found != place_.at.dimensions.end())
      return found->second.text();
    std::string all;
    if (const auto own = of_.values.find(name); own != of_.values.end()) {
      for (const std::string& part : own->second) all += (all.empty() ? "" : " ") + text(part);
    }
    return all;
  }

  const CommandStudy& study_;
  const Runnable& of_;
  const Place& place_;
};

std::string upper(const std::string& name) {
  std::string text;
  for (const char c : name) {
    const auto letter = static_cast<unsigned char>(c);
    text += std::isalnum(letter) != 0 ? static_cast<char>(std::toupper(letter)) : '_';
  }
  return text;
}

}  // namespace

std::string AnswerRule::in_words() const {
  if (from == From::none) return "answers are not compared";
  std::string of = from == From::file ? "the file " + file : "what was printed";
  if (!more_files.empty()) of = "the files " + joined(files());
  if (filter.given()) of += ", through " + sweep_layer::in_words(filter.words);
  of += ": ";
  switch (how) {
    case How::numbers:
      return of + "numbers " + antcrew::within(tolerance).in_words() + (absolute ? ", absolutely" : "") +
             ", whole ones and all else exactly" + (free_layout ? ", whatever the lines" : "");
    case How::lines:
      return of + "the same lines, in any order";
    case How::command:
      return of + "by a command of the study";
    case How::exactly:
      break;
  }
  return of + "exactly";
}

std::vector<std::string> AnswerRule::files() const {
  std::vector<std::string> all;
  if (from == From::file) all.push_back(file);
  all.insert(all.end(), more_files.begin(), more_files.end());
  return all;
}

CommandStudy::CommandStudy(Parts parts)
    : Outline(parts.title, parts.answer.in_words(), antcrew::within(parts.answer.tolerance).mistake()),
      parts_(std::move(parts)) {}

VariantHandle CommandStudy::variant(const std::string& name, const std::string& crew, Runnable runnable,
                                    std::vector<int> workers) {
  VariantOutline outline{name, crew};
  outline.workers = std::move(workers);
  runnables_.push_back(std::move(runnable));
  return add(std::move(outline));
}

VariantHandle CommandStudy::probe(const std::string& name, const std::string& crew, Runnable runnable, VariantHandle of,
                                  std::vector<int> workers) {
  VariantOutline outline{name, crew};
  outline.workers = std::move(workers);
  runnables_.push_back(std::move(runnable));
  return add_probe(std::move(outline), of);
}

Words known_names(const Outline& study, const Runnable& of) {
  Words known{"workers", "folder", "study"};
  if (study.has_sizes()) known.emplace_back("size");
  for (const auto& [name, unused] : study.dimensions()) known.push_back(name);
  for (const auto& [name, unused] : of.values) known.push_back(name);
  return known;
}

void check_names(const std::string& text, const Words& known, const std::string& where) {
  const bool closed = walk(
      text, [](const std::string&) {},
      [&](const std::string& name) {
        if (std::find(known.begin(), known.end(), name) != known.end()) return;
        const std::string near = nearest_word(known, name);
        bad_input("sweep.name", where, "no value '" + printable(name, 40) + "' for @(" + printable(name, 40) + ")",
                  (near.empty() ? std::string() : "did you mean @(" + near + ")? ") + "Known are " + joined(known));
      });
  if (!closed)
    bad_input("sweep.name", where, "'@(' without its ')' in '" + printable(text, 60) + "'",
              "write @(workers), or @@( for the plain signs");
}

Words words_of(const CommandStudy& study, const Runnable& of, const Command& command, const Place& place,
               bool with_launcher) {
  const PutIn put(study, of, place);
  Words words = with_launcher ? put.words(of.launcher) : Words();
  const Words own = command.shell.empty() ? put.words(command.words) : Words{"/bin/sh", "-c", command.shell};
  words.insert(words.end(), own.begin(), own.end());
  return words;
}

std::string text_of(const CommandStudy& study, const Runnable& of, const std::string& text, const Place& place) {
  return PutIn(study, of, place).text(text);
}

std::string dimension_variable(const std::string& name) {
  return "ANTCREW_DIMENSION_" + upper(name);
}
std::string value_variable(const std::string& name) {
  return "ANTCREW_VALUE_" + upper(name);
}

std::map<std::string, std::string> environment_of(const CommandStudy& study, const Runnable& of, const Place& place) {
  std::map<std::string, std::string> all{{"ANTCREW_WORKERS", std::to_string(place.workers)},
                                         {"ANTCREW_FOLDER", place.folder},
                                         {"ANTCREW_STUDY", study.parts().folder}};
  if (place.at.size > 0) all["ANTCREW_SIZE"] = std::to_string(place.at.size);
  for (const auto& [name, value] : place.at.dimensions) all[dimension_variable(name)] = value.text();
  const PutIn put(study, of, place);
  for (const auto& [name, unused] : of.values) all[value_variable(name)] = put.text("@(" + name + ")");
  for (const auto& [name, value] : of.environment) all[name] = put.text(value);
  return all;
}

std::string path_of(const std::map<std::string, std::string>& environment) {
  if (const auto own = environment.find("PATH"); own != environment.end()) return own->second;
  const char* path = std::getenv("PATH");
  return path == nullptr ? "/usr/local/bin:/usr/bin:/bin" : path;
}

std::string found_program(const std::string& word, const std::string& folder, const std::string& where,
                          const std::string& list) {
  const auto runs = [](const fs::path& path) {
    std::error_code trouble;
    return fs::is_regular_file(path, trouble) && ::access(path.c_str(), X_OK) == 0;
  };
  if (word.find('/') != std::string::npos) {
    const fs::path path = fs::path(folder) / word;
    if (runs(path)) return path.lexically_normal().string();
    std::error_code trouble;
    if (!fs::exists(path, trouble))
      bad_input("sweep.program", where, "there is no file '" + printable(word, 80) + "'",
                "names with a slash are relative to " + printable(folder, 80));
    bad_input("sweep.program", where,
              "'" + printable(word, 80) + "' cannot be run: it is no program, or not marked as one",
              "chmod +x it, or put its interpreter in front");
  }
  for (std::size_t from = 0; from <= list.size();) {
    const std::size_t end = std::min(list.find(':', from), list.size());
    const fs::path here = fs::path(folder) / (end == from ? "." : list.substr(from, end - from)) / word;
    if (!word.empty() && runs(here)) return fs::absolute(here).string();
    from = end + 1;
  }
  std::error_code trouble;
  const bool beside = !word.empty() && fs::exists(fs::path(folder) / word, trouble);
  bad_input("sweep.program", where, "no program '" + printable(word, 80) + "' in PATH",
            beside ? "there is such a file beside the study: write './" + word + "'" : "install it, or give its path");
}

std::string in_words(const Words& words) {
  std::string text;
  for (const std::string& word : words) {
    const bool plain = !word.empty() && std::all_of(word.begin(), word.end(), [](char c) {
      return std::isalnum(static_cast<unsigned char>(c)) != 0 ||
             std::string_view("_-./=:,+%@").find(c) != std::string::npos;
    });
    std::string shown = plain ? word : "'";
    if (!plain) {
      for (const char c : word) shown += c == '\'' ? std::string("'\\''") : std::string(1, c);
      shown += '\'';
    }
    text += (text.empty() ? "" : " ") + printable(shown);
  }
  return text;
}

}  // namespace antcrew::sweep_layer
