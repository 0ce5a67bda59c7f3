#include "antcrew/report/internal/text_width.hpp"

#include <array>

#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

// Advance widths of DejaVu Sans, the font that figures name, for ' ' to '~', in 1/2048 of its size.
constexpr std::array<int, 95> advances = {
    651,  821,  942,  1716, 1303, 1946, 1597, 563,  799,  799,  1024, 1716, 651,  739,  651,  690,  1303, 1303, 1303,
    1303, 1303, 1303, 1303, 1303, 1303, 1303, 690,  690,  1716, 1716, 1716, 1087, 2048, 1401, 1405, 1430, 1577, 1294,
    1178, 1587, 1540, 604,  604,  1343, 1141, 1767, 1532, 1612, 1235, 1612, 1423, 1300, 1251, 1499, 1401, 2025, 1403,
    1251, 1403, 799,  690,  799,  1716, 1024, 1024, 1255, 1300, 1126, 1300, 1260, 721,  1300, 1298, 569,  569,  1186,
    569,  1995, 1298, 1253, 1300, 1300, 842,  1067, 803,  1298, 1212, 1675, 1212, 1212, 1075, 1303, 690,  1303, 1716};

bool begins_character(char c) {
  return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U;
}

std::size_t end_of_character(const std::string& text, std::size_t at) {
  ++at;
  while (at < text.size() && !begins_character(text[at])) ++at;
  return at;
}

// As many characters as fit, one at least.
std::size_t fitting(const std::string& word, double width, double size) {
  std::size_t end = end_of_character(word, 0);
  while (end < word.size()) {
    const std::size_t next = end_of_character(word, end);
    if (text_width(word.substr(0, next)) * size > width) break;
    end = next;
  }
  return end;
}

}  // namespace

double text_width(const std::string& text) {
  constexpr double one_column = 0.84;  // of "×", "±", "–" and letters with marks: at most that
  double width = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = end_of_character(text, at);
    const auto c = static_cast<unsigned char>(text[at]);
    if (c >= 0x80) {
      const std::string character = text.substr(at, end - at);
      const std::size_t columns = display_width(character);
      width += character == "…" || columns > 1 ? 1.1 : one_column * static_cast<double>(columns);
    } else if (c >= ' ' && c <= '~') {
      width += advances[c - static_cast<std::size_t>(' ')] / 2048.0;
    }
    at = end;
  }
  return width;
}

std::vector<std::string> lines_within(const std::string& text, double width, double size) {
  std::vector<std::string> lines = {""};
  for (std::size_t at = 0; at < text.size();) {
    std::size_t end = text.find(' ', at);
    if (end == std::string::npos) end = text.size();
    std::string word = text.substr(at, end - at);
    at = end + 1;
    if (word.empty()) continue;
    const std::string longer = lines.back().empty() ? word : lines.back() + " " + word;
    if (text_width(longer) * size <= width) {
      lines.back() = longer;
      continue;
    }
    if (!lines.back().empty()) lines.emplace_back();
    while (text_width(word) * size > width) {
      const std::size_t fits = fitting(word, width, size);
      if (fits == word.size()) break;
      lines.back() = word.substr(0, fits);
      lines.emplace_back();
      word.erase(0, fits);
    }
    lines.back() = word;
  }
  return lines;
}

}  // namespace antcrew::internal
