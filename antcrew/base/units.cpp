#include "antcrew/base/units.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <charconv>
#include <cmath>
#include <iterator>

#include "antcrew/base/error.hpp"

namespace antcrew::base_layer {
namespace {

struct Suffix {
  std::string_view text;
  double factor;
};
constexpr Suffix suffixes[] = {
    {"", 1}, {"k", 1e3}, {"K", 1e3}, {"M", 1e6}, {"G", 1e9}, {"Ki", 1024.0}, {"Mi", 1048576.0}, {"Gi", 1073741824.0},
};

[[noreturn]] void refuse(std::string_view text, const std::string& where, const std::string& why) {
  bad_input("units.count", where, "'" + std::string(text) + "' " + why,
            "write a whole number such as 5000, 10k, 2M, 64Ki or 1e6");
}

std::string without_separators(std::string_view text) {
  std::string plain;
  std::copy_if(text.begin(), text.end(), std::back_inserter(plain), [](char c) { return c != '\'' && c != '_'; });
  return plain;
}

}  // namespace

std::size_t parse_count(std::string_view text, const std::string& where) {
  const std::string plain = without_separators(text);
  double number = 0;
  const auto [end, fault] = std::from_chars(plain.data(), plain.data() + plain.size(), number);
  if (fault == std::errc::result_out_of_range) refuse(text, where, "is too large");
  if (fault != std::errc()) refuse(text, where, "is not a number");
  if (!std::isfinite(number)) refuse(text, where, "is not a whole number");
  const std::string_view rest(end, static_cast<std::size_t>(plain.data() + plain.size() - end));
  const auto* suffix =
      std::find_if(std::begin(suffixes), std::end(suffixes), [&](const Suffix& known) { return known.text == rest; });
  if (suffix == std::end(suffixes)) refuse(text, where, "has the unknown suffix '" + std::string(rest) + "'");
  const double value = number * suffix->factor;
  if (value < 0) refuse(text, where, "is negative");
  if (value != std::floor(value)) refuse(text, where, "is not a whole number");
  if (value > 9.2e18) refuse(text, where, "is too large");
  return static_cast<std::size_t>(value);
}

std::vector<std::size_t> parse_counts(std::string_view text, const std::string& where) {
  std::vector<std::size_t> counts;
  std::size_t from = 0;
  while (from <= text.size()) {
    const std::size_t comma = std::min(text.find(',', from), text.size());
    std::string_view item = text.substr(from, comma - from);
    while (!item.empty() && item.front() == ' ') item.remove_prefix(1);
    while (!item.empty() && item.back() == ' ') item.remove_suffix(1);
    if (item.empty()) refuse(text, where, text.empty() ? "is an empty list" : "has an empty item");
    counts.push_back(parse_count(item, where));
    from = comma + 1;
  }
  return counts;
}

std::string joined(const std::vector<std::string>& items, std::string_view separator) {
  std::string text;
  for (const std::string& item : items) {
    if (!text.empty()) text += separator;
    text += item;
  }
  return text;
}

TimeUnit time_unit_for(double seconds) {
  const double size = std::fabs(seconds);
  if (size >= 0.9995) return {1, "s"};
  if (size >= 0.9995e-3) return {1e3, "ms"};
  if (size >= 0.9995e-6) return {1e6, "µs"};
  return {1e9, "ns"};
}

// Decimals that leave three significant digits.
int decimals_for(double value) {
  const double size = std::fabs(value);
  if (size >= 99.95) return 0;
  if (size >= 9.995) return 1;
  return 2;
}

std::string duration_text(double seconds) {
  const TimeUnit unit = time_unit_for(seconds);
  const double value = seconds * unit.factor;
  return fmt::format("{:.{}f} {}", value, decimals_for(value), unit.name);
}

std::string bytes_text(std::uint64_t bytes) {
  if (bytes == 0) return "unlimited";
  const char* const names[] = {"B", "KiB", "MiB", "GiB", "TiB"};
  double value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1024 && unit + 1 < std::size(names)) {
    value /= 1024;
    ++unit;
  }
  return fmt::format("{:.{}f} {}", value, value == std::floor(value) ? 0 : 1, names[unit]);
}

}  // namespace antcrew::base_layer
