#include "antcrew/study/internal/resume_check.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "antcrew/base/error.hpp"
#include "antcrew/base/hash.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/internal/point_text.hpp"

namespace antcrew::internal {
namespace {

[[noreturn]] void changed(const std::string& what, const std::string& then, const std::string& now) {
  bad_input("study.changed", what, "the record has '" + then + "', this study '" + now + "'",
            "begin a new record, or restore what changed");
}

void same(const std::string& what, const std::string& then, const std::string& now) {
  if (then != now) changed(what, then, now);
}

std::string grid_in_words(const Record& record) {
  std::string text;
  for (const Point& point : record.points) text += (text.empty() ? "" : "; ") + point_text(point);
  return text;
}

std::string variants_in_words(const Record& record) {
  std::string text;
  std::set<std::string> seen;
  for (const Cell& cell : record.cells) {
    const std::string key = cell.variant + " (" + cell.crew + ")";
    if (seen.insert(key).second) text += (text.empty() ? "" : ", ") + key;
  }
  return text;
}

std::string workers_in_words(const Record& record) {
  std::set<int> counts;
  for (const Cell& cell : record.cells) {
    if (cell.kind != Cell::Kind::baseline) counts.insert(cell.workers);
  }
  std::string text;
  for (const int count : counts) text += (text.empty() ? "" : ",") + std::to_string(count);
  return text;
}

}  // namespace

void check_resume(const Record& begun, const Record& now, bool rebuilt) {
  same("title", begun.title, now.title);
  same("agreement", begun.agreement, now.agreement);
  same("grid", grid_in_words(begun), grid_in_words(now));
  same("worker counts", workers_in_words(begun), workers_in_words(now));
  same("machine", begun.machine.processor, now.machine.processor);
  same("machine's usable processors", std::to_string(begun.machine.usable_processors()),
       std::to_string(now.machine.usable_processors()));
  same("compiler", begun.build.compiler, now.build.compiler);
  same("compiler flags", begun.build.flags, now.build.flags);
  if (rebuilt) return;
  same("variants", variants_in_words(begun), variants_in_words(now));
  same("program file's hash (it was built again)", begun.build.program_hash, now.build.program_hash);
}

std::vector<std::string> asked_by(const Plan& plan) {
  std::vector<std::string> asked;
  if (!plan.sizes.empty()) asked.emplace_back("sizes");
  if (!plan.workers.empty()) asked.emplace_back("workers");
  if (!plan.dimensions.empty()) asked.emplace_back("dimensions");
  if (!plan.pins.empty()) asked.emplace_back("pins");
  if (!plan.variants.empty()) asked.emplace_back("variants");
  return asked;
}

Plan as_begun(Plan plan, const Record& begun) {
  const auto open = [&](const char* part) {
    const std::vector<std::string> now = asked_by(plan);
    return std::count(begun.plan.asked.begin(), begun.plan.asked.end(), part) > 0 &&
           std::count(now.begin(), now.end(), part) == 0;
  };
  const auto add = [](auto& list, const auto& value) {
    if (std::find(list.begin(), list.end(), value) == list.end()) list.push_back(value);
  };
  const bool sizes = open("sizes"), workers = open("workers"), dimensions = open("dimensions"), pins = open("pins"),
             variants = open("variants");
  for (const Point& point : begun.points) {
    if (sizes && point.size > 0) add(plan.sizes, point.base_size > 0 ? point.base_size : point.size);
    if (pins) add(plan.pins, point.pin);
    for (const auto& [name, value] : point.dimensions) {
      if (dimensions) add(plan.dimensions[name], value);
    }
  }
  for (const Cell& cell : begun.cells) {
    if (cell.kind == Cell::Kind::baseline) continue;
    if (workers) add(plan.workers, cell.workers);
    if (variants) add(plan.variants, cell.variant + " (" + cell.crew + ")");
  }
  return plan;
}

std::string program_hash() {
  return file_hash("/proc/self/exe");
}

}  // namespace antcrew::internal
