#include "antcrew/report/text.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/report/section.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <iterator>
#include <string_view>
#include <utility>

namespace antcrew::report_layer {
namespace {

// So many that the width shows, and two digits of a small value.
int decimals_of(double width, double value) {
  const auto place = [](double x) { return x > 0 ? -static_cast<int>(std::floor(std::log10(x))) : 0; };
  const double size = std::fabs(value);
  return std::clamp(std::max(place(width / 2 * 1.001), size < 0.1 ? place(size) + 1 : 0), 0, 6);
}

// "2.9 (2.7 to 3.1)" is an interval. What was merely seen, in too few rounds for one, looks different.
std::string with_bounds(const Estimate& e, double factor, int decimals, const std::string& unit) {
  const auto number = [&](double x) { return fmt::format("{:.{}f}", x * factor, decimals); };
  const std::string value = number(e.median) + unit;
  if (e.claimed) return value + " (" + number(e.low) + " to " + number(e.high) + ")";
  if (e.count < 2) return value + ", seen once";
  return value + ", seen " + number(e.low) + "–" + number(e.high);
}

int decimals_of(const Estimate& e, double factor, int usual) {
  if (e.count < 2) return usual;
  return decimals_of((e.high - e.low) * factor, e.median * factor);
}

}  // namespace

std::string duration_text(const Estimate& seconds) {
  const TimeUnit unit = time_unit_for(seconds.median);
  const int decimals = decimals_of(seconds, unit.factor, decimals_for(seconds.median * unit.factor));
  return with_bounds(seconds, unit.factor, decimals, std::string(" ") + unit.name);
}

std::string duration_median_text(const Estimate& seconds) {
  const TimeUnit unit = time_unit_for(seconds.median);
  const int decimals = decimals_of(seconds, unit.factor, decimals_for(seconds.median * unit.factor));
  return fmt::format("{:.{}f} {}", seconds.median * unit.factor, decimals, unit.name);
}

std::string duration_bounds_text(const Estimate& seconds) {
  const std::string text = duration_text(seconds);
  const std::size_t at = text.find_first_of(seconds.claimed ? "(" : ",");
  return at == std::string::npos ? std::string() : text.substr(at + (seconds.claimed ? 0 : 2));
}

std::string ratio_text(const Estimate& ratio) {
  const int least = ratio.median < 10 ? 1 : 0;
  return with_bounds(ratio, 1, std::max(least, decimals_of(ratio, 1, ratio.median < 0.1 ? 2 : 1)), "");
}

std::string plain_signs(const std::string& text) {
  constexpr std::pair<std::string_view, std::string_view> signs[] = {
      {"≥ ", ">="}, {"≥", ">"}, {"≤", "<"}, {"µ", "u"}, {"×", "x"}, {"–", "-"}, {"—", "-"},
      {"−", "-"},   {"…", "~"}, {"±", "~"}, {"σ", "s"}, {"κ", "k"}, {"·", "*"}};
  std::string out;
  for (std::size_t k = 0; k < text.size();) {
    const auto* sign = std::find_if(std::begin(signs), std::end(signs), [&](const auto& pair) {
      return text.compare(k, pair.first.size(), pair.first) == 0;
    });
    if (sign != std::end(signs)) {
      out += sign->second;
      k += sign->first.size();
      continue;
    }
    std::size_t next = k + 1;
    while (next < text.size() && (static_cast<unsigned char>(text[next]) & 0xc0u) == 0x80u) ++next;
    if (next == k + 1) {
      out += text[k];
    } else {
      out.append(display_width(std::string_view(text).substr(k, next - k)), '?');
    }
    k = next;
  }
  return out;
}

std::string styled(const std::string& text, Style style, const Look& look) {
  if (!look.colour || style == Style::plain || text.empty()) return text;
  const char* code = style == Style::good ? "32" : style == Style::bad ? "31" : style == Style::open ? "33" : "1";
  return std::string("\033[") + code + "m" + text + "\033[0m";
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

std::string text_of(const std::vector<Section>& sections) {
  std::string text;
  for (const Section& section : sections) {
    if (section.text.empty()) continue;
    text += "\n" + (section.heading.empty() ? "" : section.heading + ":\n") + section.text;
  }
  return text;
}

}  // namespace antcrew::report_layer
