#include "antcrew/store/internal/query.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace antcrew::internal {
namespace {

struct Asking {
  Asked asked;

  void add(const std::string& condition, const std::string& text) {
    if (text.empty()) return;
    asked.where += (asked.where.empty() ? " WHERE " : " AND ") + condition;
    const auto marks = std::count(condition.begin(), condition.end(), '?');
    asked.texts.insert(asked.texts.end(), static_cast<std::size_t>(marks), text);
  }
};

constexpr const char* of_run = "number=r.number AND run=r.run";

std::string has(const char* column) {
  return fmt::format("instr(lower(coalesce({},'')), lower(?)) > 0", column);
}

}  // namespace

Asked asked(const Search& s) {
  Asking all;
  all.add(fmt::format("({} OR {} OR {} OR EXISTS(SELECT 1 FROM labels WHERE {} AND {}))", has("title"), has("name"),
                      has("note"), of_run, has("label")),
          s.text);
  all.add("(" + has("title") + " OR " + has("name") + ")", s.title);
  all.add(fmt::format("EXISTS(SELECT 1 FROM cells WHERE {} AND {})", of_run, has("variant")), s.variant);
  all.add("(" + has("processor") + " OR " + has("system") + ")", s.machine);
  all.add(fmt::format("EXISTS(SELECT 1 FROM labels WHERE {} AND label=?)", of_run), s.label);
  all.add(fmt::format("(kind=? OR EXISTS(SELECT 1 FROM cells WHERE {} AND verdict=?))", of_run), s.verdict);
  all.add("created>=?", s.since);
  all.add("created<=?", s.until);
  return std::move(all.asked);
}

}  // namespace antcrew::internal
