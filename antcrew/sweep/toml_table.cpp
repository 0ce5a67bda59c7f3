#include "antcrew/sweep/toml_table.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>

#include "antcrew/base/error.hpp"
#include "antcrew/base/nearest.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"

namespace antcrew::internal {
namespace {

const char* kind_of(const toml::node& node) {
  switch (node.type()) {
    case toml::node_type::table:
      return "a table";
    case toml::node_type::array:
      return "a list";
    case toml::node_type::string:
      return "a text";
    case toml::node_type::integer:
      return "a whole number";
    case toml::node_type::floating_point:
      return "a number";
    case toml::node_type::boolean:
      return "true or false";
    default:
      return "a date or time";
  }
}

}  // namespace

std::string place_of(const std::string& file, const toml::source_region& source) {
  if (source.begin.line == 0) return printable(file);
  return fmt::format("{}, line {}, column {}", printable(file), source.begin.line, source.begin.column);
}

TomlTable::TomlTable(const toml::table& table, std::string file, std::string what, std::string topic)
    : table_(&table), file_(std::move(file)), what_(std::move(what)), topic_(std::move(topic)) {}

std::string TomlTable::where() const {
  return table_->source().begin.line == 0 ? printable(file_) : place_of(file_, table_->source());
}

std::string TomlTable::where(const char* key) const {
  const toml::node* node = table_->get(key);
  return node == nullptr ? where() : place_of(file_, node->source());
}

const toml::node* TomlTable::find(const char* key) {
  asked_.emplace_back(key);
  return table_->get(key);
}

bool TomlTable::has(const char* key) {
  return find(key) != nullptr;
}

void TomlTable::wrong_type(const char* key, const toml::node& node, const char* wanted) const {
  bad_input(topic_ + ".type", place_of(file_, node.source()),
            fmt::format("'{}' of {} is {}", key, what_, kind_of(node)), std::string("give ") + wanted);
}

std::string TomlTable::text_of(const char* key, const toml::node& node, const char* wanted) const {
  if (const auto* text = node.as_string()) {
    if (text->get().find('\0') != std::string::npos)
      bad_input(topic_ + ".type", place_of(file_, node.source()), fmt::format("'{}' holds a zero byte", key),
                "leave it out: no program can be given one");
    return text->get();
  }
  wrong_type(key, node, wanted);
}

std::optional<std::string> TomlTable::text(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  return text_of(key, *node, "a text in quotes");
}

std::string TomlTable::text_needed(const char* key, const char* advice) {
  const auto found = text(key);
  if (!found || found->empty()) bad_input(topic_ + ".key", where(), fmt::format("{} has no '{}'", what_, key), advice);
  return *found;
}

std::optional<double> TomlTable::number(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  const auto value = node->value<double>();
  if (!node->is_number() || !value || !std::isfinite(*value)) wrong_type(key, *node, "a number");
  return value;
}

std::optional<bool> TomlTable::yes_or_no(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  if (!node->is_boolean()) wrong_type(key, *node, "true or false");
  return node->value<bool>();
}

std::size_t TomlTable::count_of(const char* key, const toml::node& node) const {
  if (const auto* text = node.as_string()) return parse_count(text->get(), place_of(file_, node.source()));
  const auto value = node.value<std::int64_t>();
  if (!node.is_integer() || !value) wrong_type(key, node, "a whole number, or a text such as \"64Ki\"");
  if (*value < 0)
    bad_input(topic_ + ".type", place_of(file_, node.source()), fmt::format("'{}' is {}", key, *value),
              "give zero or more");
  return static_cast<std::size_t>(*value);
}

std::optional<std::uint64_t> TomlTable::count(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  return count_of(key, *node);
}

std::vector<std::size_t> TomlTable::counts(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return {};
  const auto* list = node->as_array();
  if (list == nullptr) wrong_type(key, *node, "a list, such as [1, 2, 4]");
  std::vector<std::size_t> all;
  for (const toml::node& one : *list) all.push_back(count_of(key, one));
  if (all.empty())
    bad_input(topic_ + ".type", place_of(file_, node->source()), fmt::format("'{}' is an empty list", key),
              "give at least one, or leave it out");
  return all;
}

std::vector<std::string> TomlTable::words_of(const char* key, const toml::node& node) const {
  const auto* list = node.as_array();
  if (list == nullptr) wrong_type(key, node, "a list of words, such as [\"sort\", \"@(folder)/tides\"]");
  std::vector<std::string> words;
  for (const toml::node& one : *list)
    words.push_back(text_of(key, one, "words in quotes, numbers too: [\"head\", \"-n\", \"5\"]"));
  return words;
}

std::vector<std::string> TomlTable::words(const char* key) {
  const toml::node* node = find(key);
  return node == nullptr ? std::vector<std::string>() : words_of(key, *node);
}

std::vector<std::vector<std::string>> TomlTable::lists_of_words(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return {};
  const auto* list = node->as_array();
  if (list == nullptr || list->empty() || !list->front().is_array()) return {words_of(key, *node)};
  std::vector<std::vector<std::string>> all;
  for (const toml::node& one : *list) all.push_back(words_of(key, one));
  return all;
}

std::map<std::string, std::string> TomlTable::texts(const char* key) {
  std::map<std::string, std::string> all;
  const toml::node* node = find(key);
  if (node == nullptr) return all;
  const auto* table = node->as_table();
  if (table == nullptr) wrong_type(key, *node, "a table, such as { LC_ALL = \"C\" }");
  for (const auto& [name, value] : *table) {
    const std::string own(name.str());
    if (value.is_integer()) {
      all[own] = std::to_string(*value.value<std::int64_t>());
    } else {
      all[own] = text_of(own.c_str(), value, "a text in quotes");
    }
  }
  return all;
}

std::map<std::string, std::vector<std::string>> TomlTable::word_lists(const char* key) {
  std::map<std::string, std::vector<std::string>> all;
  const toml::node* node = find(key);
  if (node == nullptr) return all;
  const auto* table = node->as_table();
  if (table == nullptr) wrong_type(key, *node, "a table, such as { threads = \"--threads=@(workers)\" }");
  for (const auto& [name, value] : *table) {
    const std::string own(name.str());
    if (value.is_array()) {
      all[own] = words_of(own.c_str(), value);
    } else {
      all[own] = {text_of(own.c_str(), value, "a text in quotes, or a list of them")};
    }
  }
  return all;
}

std::map<std::string, std::vector<PointValue>> TomlTable::values(const char* key) {
  std::map<std::string, std::vector<PointValue>> all;
  const toml::node* node = find(key);
  if (node == nullptr) return all;
  const auto* table = node->as_table();
  if (table == nullptr) wrong_type(key, *node, "a table, such as { method = [\"plain\", \"fast\"] }");
  for (const auto& [name, value] : *table) {
    const std::string own(name.str());
    const auto* list = value.as_array();
    if (list == nullptr || list->empty()) wrong_type(own.c_str(), value, "a list of numbers or of words, not empty");
    for (const toml::node& one : *list) {
      const bool words = list->front().is_string();
      if (words != one.is_string() || (!words && !one.is_integer()))
        wrong_type(own.c_str(), one, "numbers only, or words only");
      if (words) {
        all[own].emplace_back(text_of(own.c_str(), one, "words"));
      } else {
        all[own].emplace_back(count_of(own.c_str(), one));
      }
    }
  }
  return all;
}

std::optional<TomlTable> TomlTable::table(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return std::nullopt;
  if (!node->is_table()) wrong_type(key, *node, "a table");
  return TomlTable(*node->as_table(), file_, "'" + std::string(key) + "'", topic_);
}

std::vector<TomlTable> TomlTable::tables(const char* key) {
  const toml::node* node = find(key);
  if (node == nullptr) return {};
  const auto* list = node->as_array();
  if (list == nullptr) wrong_type(key, *node, ("tables, each begun with [[" + std::string(key) + "]]").c_str());
  std::vector<TomlTable> all;
  for (const toml::node& one : *list) {
    if (!one.is_table()) wrong_type(key, one, "a table");
    all.emplace_back(*one.as_table(), file_, fmt::format("[[{}]] {}", key, all.size() + 1), topic_);
  }
  return all;
}

std::string TomlTable::choice(const char* key, const std::vector<std::string>& known) {
  const auto found = text(key);
  if (!found || std::find(known.begin(), known.end(), *found) != known.end()) return found.value_or("");
  const std::string near = nearest_word(known, *found);
  bad_input(topic_ + ".key", where(key), fmt::format("no choice '{}' for '{}'", printable(*found, 40), key),
            (near.empty() ? std::string() : "did you mean \"" + near + "\"? ") + "Choose from " + joined(known));
}

void TomlTable::finish() const {
  for (const auto& [name, value] : *table_) {
    const std::string own(name.str());
    if (std::find(asked_.begin(), asked_.end(), own) != asked_.end()) continue;
    const std::string near = nearest_word(asked_, own);
    std::vector<std::string> known = asked_;
    std::sort(known.begin(), known.end());
    known.erase(std::unique(known.begin(), known.end()), known.end());
    bad_input(topic_ + ".key", place_of(file_, name.source()),
              fmt::format("{} has no key '{}'", what_, printable(own, 40)),
              near.empty() ? "known are " + joined(known) : "did you mean '" + near + "'?");
  }
}

std::string toml_text(const std::string& path, const std::string& topic, const std::string& advice) {
  namespace fs = std::filesystem;
  constexpr std::uint64_t longest_file = 1 << 20;
  std::error_code trouble;
  if (fs::is_directory(path, trouble)) bad_input(topic + ".file", printable(path, 100), "this is a directory", advice);
  std::ifstream file(path, std::ios::binary);
  if (!file)
    bad_input(topic + ".file", printable(path, 100),
              fs::exists(path, trouble) ? "this file cannot be read" : "there is no such file", advice);
  std::string text(longest_file + 1, '\0');
  file.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(file.gcount()));
  if (text.size() > longest_file) bad_input(topic + ".file", printable(path, 100), "more than 1 MiB", advice);
  return text;
}

toml::table toml_of(const std::string& text, const std::string& name, const std::string& topic) {
  try {
    return toml::parse(text, name);
  } catch (const toml::parse_error& error) {
    bad_input(topic + ".syntax", place_of(name, error.source()), "not TOML: " + printable(error.description(), 160),
              "see https://toml.io");
  }
}

}  // namespace antcrew::internal
