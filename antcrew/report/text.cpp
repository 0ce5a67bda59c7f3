#include "antcrew/report/text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace antcrew {
std::string duration_text(const Estimate& seconds) {
  const TimeUnit unit = time_unit_for(seconds.median);
  const int decimals = decimals_for(seconds.median * unit.factor);
  return fmt::format("{:.{}f} {} ({:.{}f} to {:.{}f})", seconds.median * unit.factor, decimals, unit.name,
                     seconds.low * unit.factor, decimals, seconds.high * unit.factor, decimals);
}

std::string ratio_text(const Estimate& ratio) {
  const double width = ratio.high - ratio.low;
  int decimals = width >= 10 ? 0 : width >= 0.2 ? 1 : 2;
  if (ratio.median < 0.1) decimals = 3;
  return fmt::format("{:.{}f} ({:.{}f} to {:.{}f})", ratio.median, decimals, ratio.low, decimals, ratio.high, decimals);
}

std::string percent_text(double share, int decimals) {
  const double percent = share * 100;
  return fmt::format("{:.{}f} %", std::fabs(percent) < 0.5 && decimals == 0 ? 0.0 : percent, decimals);
}

std::string count_text(std::uint64_t count) {
  std::string digits = std::to_string(count);
  for (std::size_t place = digits.size(); place > 3;) digits.insert(place -= 3, 1, ',');
  return digits;
}

std::string wrapped(const std::string& text, std::size_t width) {
  if (width == 0) return text;
  std::string out;
  std::size_t column = 0;
  for (std::size_t at = 0; at < text.size();) {
    if (text[at] == '\n') {
      out += '\n';
      column = 0;
      ++at;
      continue;
    }
    const std::size_t gap_end = std::min(text.find_first_not_of(' ', at), text.size());
    const std::size_t end = std::min(text.find_first_of(" \n", gap_end), text.size());
    std::string word = text.substr(at, end - at);  // with the blanks before it
    if (column > 0 && column + display_width(word) > width) {
      out += "\n  ";
      column = 2;
      word = text.substr(gap_end, end - gap_end);
    }
    out += word;
    column += display_width(word);
    at = end;
  }
  return out;
}

std::size_t display_width(const std::string& text) {
  // Continuation bytes of UTF-8 take no column of their own.
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

}  // namespace antcrew
