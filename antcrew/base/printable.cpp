#include "antcrew/base/printable.hpp"

#include <algorithm>
#include <cstdint>

namespace antcrew::base_layer {
namespace {

struct Span {
  std::uint32_t first;
  std::uint32_t last;
};
constexpr Span wide[] = {{0x1100, 0x115F}, {0x2E80, 0xA4CF}, {0xAC00, 0xD7A3},   {0xF900, 0xFAFF},  {0xFE30, 0xFE6F},
                         {0xFF00, 0xFF60}, {0xFFE0, 0xFFE6}, {0x1F300, 0x1FAFF}, {0x20000, 0x3FFFD}};
constexpr Span no_column[] = {{0x0300, 0x036F}, {0x200B, 0x200F}, {0x20D0, 0x20FF}, {0xFE00, 0xFE0F}};
constexpr Span turning[] = {{0x200E, 0x200F}, {0x202A, 0x202E}, {0x2066, 0x2069}};
constexpr std::uint32_t not_utf8 = 0xFFFFFFFF;
constexpr const char* replacement = "\xEF\xBF\xBD";

template <std::size_t N>
bool among(const Span (&spans)[N], std::uint32_t code) {
  return std::any_of(spans, spans + N, [code](const Span& span) { return code >= span.first && code <= span.last; });
}

struct Character {
  std::uint32_t code;
  std::size_t bytes;
};

// The next character; what is cut off, overlong, a surrogate or out of range is not UTF-8, one byte of it at a time.
Character next_of(std::string_view text) {
  const auto byte = [&](std::size_t k) { return static_cast<unsigned char>(text[k]); };
  const unsigned lead = byte(0);
  if (lead < 0x80) return {lead, 1};
  const std::size_t bytes = lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : 2;
  constexpr std::uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
  if (lead < 0xC2 || lead > 0xF4 || text.size() < bytes) return {not_utf8, 1};
  std::uint32_t code = lead & (0x7Fu >> bytes);
  for (std::size_t k = 1; k < bytes; ++k) {
    if ((byte(k) & 0xC0u) != 0x80) return {not_utf8, 1};
    code = code << 6 | (byte(k) & 0x3Fu);
  }
  const bool surrogate = code >= 0xD800 && code <= 0xDFFF;
  return code < least[bytes] || code > 0x10FFFF || surrogate ? Character{not_utf8, 1} : Character{code, bytes};
}

std::size_t columns_of(std::uint32_t code) {
  if (among(no_column, code)) return 0;
  return among(wide, code) ? 2 : 1;
}

bool controls(std::uint32_t code) {
  return code < 0x20 || (code >= 0x7F && code < 0xA0) || code == 0x2028 || code == 0x2029;
}

}  // namespace

std::string printable(std::string_view text, std::size_t most_columns) {
  std::string out;
  std::size_t columns = 0;
  std::size_t cut = 0;  // where "…" would go
  while (!text.empty()) {
    const Character c = next_of(text);
    if (!among(turning, c.code)) {
      const std::size_t own = c.code == not_utf8 || controls(c.code) ? 1 : columns_of(c.code);
      if (most_columns > 0 && columns + own > most_columns) return out.substr(0, cut) + "…";
      out += c.code == not_utf8 ? replacement : controls(c.code) ? std::string_view(" ") : text.substr(0, c.bytes);
      columns += own;
      if (columns < most_columns) cut = out.size();
    }
    text.remove_prefix(c.bytes);
  }
  return out;
}

std::size_t display_width(std::string_view text) noexcept {
  std::size_t columns = 0;
  while (!text.empty()) {
    const Character c = next_of(text);
    columns += columns_of(c.code);
    text.remove_prefix(c.bytes);
  }
  return columns;
}

std::string_view last_saying_line(std::string_view text) noexcept {
  constexpr std::string_view blanks = " \t\r\n";
  const auto says = [](char c) {
    return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c & 0x80) != 0;
  };
  std::string_view last;
  while (true) {
    const std::size_t end = text.find_last_not_of(blanks);
    if (end == std::string_view::npos) return last;
    const std::size_t before = text.rfind('\n', end);
    const std::size_t begin = before == std::string_view::npos ? 0 : before + 1;
    const std::string_view line = text.substr(begin, end - begin + 1);
    for (const char c : line) {
      if (says(c)) return line;
    }
    if (last.empty()) last = line;
    text = text.substr(0, begin);
  }
}

}  // namespace antcrew::base_layer
