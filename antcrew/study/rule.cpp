#include "antcrew/study/rule.hpp"

#include <algorithm>
#include <fstream>
#include <iterator>

#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/machine/machine.hpp"
#include "antcrew/record/json.hpp"

namespace antcrew {

using namespace base_layer;
namespace {

constexpr int newest_version = 1;
constexpr std::size_t most_steps = 64;
constexpr std::uint64_t most_workers = 1'000'000;

[[noreturn]] void no_rule(const std::string& where, const std::string& what) {
  bad_input("rule.syntax", where, what, "give a rule that `antcrew worth RECORD --to FILE` wrote");
}

std::string text_in(const Json& json, const char* key, const std::string& where) {
  const Json* found = json.find(key);
  if (found == nullptr || !found->is_string()) no_rule(where, std::string("no text '") + key + "' in it");
  return found->get<std::string>();
}

template <class Step>
std::vector<Step> listed_in(const Json& json, const std::string& where) {
  std::vector<Step> listed;
  const Json steps = json.value("steps", Json());
  if (!steps.is_array() || steps.size() > most_steps) no_rule(where, "no list 'steps' in it");
  for (const Json& step : steps.items()) {
    const Json from = step.is_object() ? step.value("from_size", Json()) : Json();
    const Json workers = step.is_object() ? step.value("workers", Json()) : Json();
    if (!from.is_number_unsigned() || !workers.is_number_unsigned() || workers.get<std::uint64_t>() < 1 ||
        workers.get<std::uint64_t>() > most_workers)
      no_rule(where, "a step without 'from_size' and 'workers'");
    listed.push_back({from.get<std::size_t>(), workers.get<int>()});
    if (listed.size() > 1 && listed.back().from_size <= listed[listed.size() - 2].from_size)
      no_rule(where, "its steps are not in the order of sizes");
  }
  return listed;
}

// What paid with as many workers as there are processors here, at the most.
template <class Step>
std::vector<Step> steps_of(const Json& json, int usable, const std::string& where) {
  std::vector<Step> steps = listed_in<Step>(json, where);
  int largest = 1;
  for (const Step& step : steps) largest = std::max(largest, step.workers);
  const Json with_fewer = json.value("with_fewer", Json());
  if (!with_fewer.is_null()) {
    if (!with_fewer.is_array()) no_rule(where, "its 'with_fewer' is no list");
    if (largest > usable) steps.clear();
    int most_yet = 0;
    for (const Json& one : with_fewer.items()) {
      const Json most = one.is_object() ? one.value("most_workers", Json()) : Json();
      if (!most.is_number_unsigned() || most.get<std::uint64_t>() > most_workers || most.get<int>() <= most_yet)
        no_rule(where, "its 'with_fewer' are not in the order of 'most_workers'");
      most_yet = most.get<int>();
      std::vector<Step> fewer = listed_in<Step>(one, where);
      if (largest > usable && most_yet <= usable) steps = std::move(fewer);
    }
  }
  for (Step& step : steps) step.workers = std::min(usable, step.workers);  // also of rules that have no such list
  return steps;
}

}  // namespace

Rule::Rule(const std::string& path, const FileBuild& build) {
  std::string text;
  try {
    std::ifstream file(path, std::ios::binary);
    if (file) text.assign(std::istreambuf_iterator<char>(file), std::istreambuf_iterator<char>());
    if (!file) throw std::ios_base::failure("cannot be opened");
  } catch (const std::ios_base::failure&) {  // also of a folder
    bad_input("rule.file", printable(path, 100), "this file cannot be read", "give a rule's file");
  }
  const machine_layer::Machine here = machine_layer::this_machine();
  *this = from_text(text, path, build, here.processor, here.usable_processors());
}

Rule Rule::load(const std::string& path, const FileBuild& build) noexcept {
  Rule none;
  try {
    return Rule(path, build);
  } catch (const std::exception& error) {
    try {
      none.reason_ = error.what();
    } catch (...) {
      none.reason_ = "no memory";  // short enough to need none
    }
  }
  return none;
}

Rule Rule::from_text(const std::string& text, const std::string& named, const FileBuild& build,
                     const std::string& processor, int usable) {
  const std::string where = printable(named, 100);
  const Json json = Json::parsed(text).value_or(Json());
  if (!json.is_object() || !(json.value("format", Json()) == "antcrew-rule")) no_rule(where, "this is no rule");
  const Json version = json.value("version", Json());
  if (!version.is_number_integer()) no_rule(where, "no number 'version' in it");
  if (version.get<std::int64_t>() > newest_version)
    bad_input("rule.version", where, "a rule of a newer version", "use a newer Ant Crew");
  Rule rule;
  rule.variant_ = text_in(json, "variant", where) + " (" + text_in(json, "crew", where) + ")";
  rule.steps_ = steps_of<Step>(json, usable, where);
  const auto differs = [&](const char* what, const std::string& then, const std::string& now) {
    if (!rule.reason_.empty() || then == now) return;
    rule.reason_ = std::string("it was measured with another ") + what + ": '" + printable(then, 60) + "', here '" +
                   printable(now, 60) + "'";
  };
  differs("processor", text_in(json, "processor", where), processor);
  differs("compiler", text_in(json, "compiler", where), build.compiler);
  differs("set of compiler flags", text_in(json, "flags", where), build.flags);
  const Json optimised = json.value("optimised", Json());  // rules of older versions do not tell
  if (!optimised.is_null() && !optimised.is_boolean()) no_rule(where, "its 'optimised' is neither true nor false");
  if (optimised.is_boolean())
    differs("optimisation", optimised.get<bool>() ? "on" : "off", build.optimised ? "on" : "off");
  if (!rule.reason_.empty()) rule.steps_.clear();
  return rule;
}

}  // namespace antcrew
