#include "antcrew/report/csv.hpp"

#include <fmt/format.h>

#include "antcrew/base/printable.hpp"

namespace antcrew::report_layer {
namespace {

// No spreadsheet takes it for a formula.
std::string harmless(const std::string& raw) {
  std::string text = printable(raw);
  if (!text.empty() && std::string("=+-@").find(text.front()) != std::string::npos) text.insert(0, "'");
  return text;
}

std::string value_text(const Json& value, std::string (*text_field)(const std::string&)) {
  if (value.is_null()) return {};
  if (value.is_string()) return text_field(value.text());
  return value.is_number_integer() ? value.dump() : fmt::format("{}", value.get<double>());  // the shortest that reads
}

// Tabs and line ends would be borders.
std::string tsv_field(const std::string& raw) {
  std::string text = harmless(raw);
  for (char& c : text) c = c == '\t' || c == '\n' || c == '\r' ? ' ' : c;
  return text;
}

std::string separated(const Rows& rows, const char* between, const char* end,
                      std::string (*text_field)(const std::string&)) {
  std::string text;
  for (const std::string& head : rows.heads) text += (text.empty() ? "" : between) + text_field(head);
  text += end;
  for (const std::vector<Json>& row : rows.rows) {
    for (std::size_t k = 0; k < row.size(); ++k) text += (k == 0 ? "" : between) + value_text(row[k], text_field);
    text += end;
  }
  return text;
}

}  // namespace

std::string csv_field(const std::string& raw) {
  const std::string text = harmless(raw);
  if (text.find_first_of(",\"'\r\n") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

std::string csv_text(const Rows& rows) {
  return separated(rows, ",", "\r\n", csv_field);
}

std::string tsv_text(const Rows& rows) {
  return separated(rows, "\t", "\n", tsv_field);
}

}  // namespace antcrew::report_layer
