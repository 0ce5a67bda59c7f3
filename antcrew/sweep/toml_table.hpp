// A table of a study file, read key by key: what is of another kind than wanted, and what nobody asked for, is an error
// that names its line and column.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <toml++/toml.h>

#include "antcrew/record/point.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

class TomlTable {
 public:
  // what: the table in words, such as "[[variant]] 2".
  // topic: what ids of errors begin with.
  TomlTable(const toml::table& table, std::string file, std::string what, std::string topic = "sweep");

  bool has(const char* key);
  std::optional<std::string> text(const char* key);
  std::string text_needed(const char* key, const char* advice);
  std::optional<double> number(const char* key);
  std::optional<bool> yes_or_no(const char* key);
  std::optional<std::uint64_t> count(const char* key);  // a number, or a text such as "64Mi"
  std::vector<std::size_t> counts(const char* key);     // a list of them
  std::vector<std::string> words(const char* key);      // a list of texts
  // One command, as a list of words, or a list of such lists.
  std::vector<std::vector<std::string>> lists_of_words(const char* key);
  std::map<std::string, std::string> texts(const char* key);                    // a table of texts or numbers
  std::map<std::string, std::vector<std::string>> word_lists(const char* key);  // a table of texts or lists of them
  std::map<std::string, std::vector<PointValue>> values(const char* key);  // a table of lists of numbers or of texts
  std::optional<TomlTable> table(const char* key);
  std::vector<TomlTable> tables(const char* key);
  // One of these words. Empty when the key is not there.
  std::string choice(const char* key, const std::vector<std::string>& known);

  // Throws for a key that was not asked for.
  void finish() const;

  std::string where() const;                 // "tides.toml, line 12"
  std::string where(const char* key) const;  // with the line and column of that value
  const std::string& file() const noexcept { return file_; }

 private:
  const toml::node* find(const char* key);
  [[noreturn]] void wrong_type(const char* key, const toml::node& node, const char* wanted) const;
  std::string text_of(const char* key, const toml::node& node, const char* wanted) const;
  std::vector<std::string> words_of(const char* key, const toml::node& node) const;
  std::size_t count_of(const char* key, const toml::node& node) const;

  const toml::table* table_;
  std::string file_;
  std::string what_;
  std::string topic_;
  std::vector<std::string> asked_;
};

// "tides.toml, line 12, column 3"
std::string place_of(const std::string& file, const toml::source_region& source);

// The whole of a file. Throws Error: TOPIC.file (it cannot be read, or has more than 1 MiB), TOPIC.syntax (it is no
// TOML).
std::string toml_text(const std::string& path, const std::string& topic, const std::string& advice);
toml::table toml_of(const std::string& text, const std::string& name, const std::string& topic);

}  // namespace antcrew::internal
