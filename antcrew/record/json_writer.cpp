#include <algorithm>
#include <charconv>
#include <cmath>

#include "antcrew/record/json.hpp"

namespace antcrew::json {
namespace {

class Writer {
 public:
  Writer(std::string& to, int indent, bool ascii) : to_(to), indent_(indent), ascii_(ascii) {}

  void write(const Value& value, int depth) {
    switch (value.kind()) {
      case Value::Kind::null:
        to_ += "null";
        return;
      case Value::Kind::boolean:
        to_ += value.get<bool>() ? "true" : "false";
        return;
      case Value::Kind::negative:
        return write_whole(value.get<std::int64_t>());
      case Value::Kind::natural:
        return write_whole(value.get<std::uint64_t>());
      case Value::Kind::number:
        return write_number(value.get<double>());
      case Value::Kind::text:
        return write_text(value.text());
      case Value::Kind::array:
        return write_list('[', ']', value.items(), depth, [&](const Value& one) { write(one, depth + 1); });
      case Value::Kind::object:
        return write_list('{', '}', value.members(), depth, [&](const Member& one) {
          write_text(one.name);
          to_ += indent_ < 0 ? ":" : ": ";
          write(one.value, depth + 1);
        });
    }
  }

 private:
  template <class List, class WriteOne>
  void write_list(char begin, char end, const List& list, int depth, const WriteOne& write_one) {
    to_ += begin;
    bool first = true;
    for (const auto& one : list) {
      if (!first) to_ += ',';
      first = false;
      new_line(depth + 1);
      write_one(one);
    }
    if (!list.empty()) new_line(depth);
    to_ += end;
  }
  void new_line(int depth) {
    if (indent_ < 0) return;
    to_ += '\n';
    to_.append(static_cast<std::size_t>(indent_) * static_cast<std::size_t>(depth), ' ');
  }

  template <class Whole>
  void write_whole(Whole value) {
    char text[24];
    to_.append(text, std::to_chars(text, text + sizeof text, value).ptr);
  }

  // The fewest digits that give the same number again; with a point or an exponent, so that it is read as a number.
  void write_number(double value) {
    if (!std::isfinite(value)) return static_cast<void>(to_ += "null");
    if (std::signbit(value)) to_ += '-';
    if (value == 0) return static_cast<void>(to_ += "0.0");
    char text[40];
    const char* end = std::to_chars(text, text + sizeof text, std::fabs(value), std::chars_format::scientific).ptr;
    const char* e = std::find(static_cast<const char*>(text), end, 'e');
    std::string digits(static_cast<const char*>(text), e);
    if (digits.size() > 1) digits.erase(1, 1);
    const char* exponent_at = e + 1 + (e[1] == '+' ? 1 : 0);
    int exponent = 0;
    std::from_chars(exponent_at, end, exponent);
    const int point = exponent + 1;  // digits before the point
    const int count = static_cast<int>(digits.size());
    if (count <= point && point <= 15) {
      to_ += digits;
      to_.append(static_cast<std::size_t>(point - count), '0');
      to_ += ".0";
    } else if (0 < point && point <= 15) {
      to_.append(digits, 0, static_cast<std::size_t>(point));
      to_ += '.';
      to_.append(digits, static_cast<std::size_t>(point));
    } else if (-4 < point && point <= 0) {
      to_ += "0.";
      to_.append(static_cast<std::size_t>(-point), '0');
      to_ += digits;
    } else {
      to_ += digits[0];
      if (count > 1) to_.append(".").append(digits, 1);
      to_ += exponent < 0 ? "e-" : "e+";
      if (std::abs(exponent) < 10) to_ += '0';
      write_whole(std::abs(exponent));
    }
  }

  void write_text(const std::string& text) {
    to_ += '"';
    for (std::size_t at = 0; at < text.size();) at += write_character(text, at);
    to_ += '"';
  }
  // How many bytes it took.
  std::size_t write_character(const std::string& text, std::size_t at) {
    const auto first = static_cast<unsigned char>(text[at]);
    if (first >= 0x80) return write_beyond_ascii(text, at);
    switch (first) {
      case '"':
        to_ += "\\\"";
        break;
      case '\\':
        to_ += "\\\\";
        break;
      case '\b':
        to_ += "\\b";
        break;
      case '\f':
        to_ += "\\f";
        break;
      case '\n':
        to_ += "\\n";
        break;
      case '\r':
        to_ += "\\r";
        break;
      case '\t':
        to_ += "\\t";
        break;
      default:
        if (first < 0x20 || (ascii_ && first == 0x7F)) {
          write_escaped(first);
        } else {
          to_ += text[at];
        }
    }
    return 1;
  }
  // (Unicode Standard, table 3-7: well-formed byte sequences.) What is none is replaced as far as it went.
  std::size_t write_beyond_ascii(const std::string& text, std::size_t at) {
    const auto byte = [&](std::size_t k) { return k < text.size() ? static_cast<unsigned char>(text[k]) : 0u; };
    const unsigned first = byte(at);
    std::size_t length = 0;
    unsigned low = 0x80, high = 0xBF;
    if (first >= 0xC2 && first <= 0xDF) length = 2;
    if (first >= 0xE0 && first <= 0xEF) length = 3;
    if (first >= 0xF0 && first <= 0xF4) length = 4;
    if (first == 0xE0) low = 0xA0;
    if (first == 0xED) high = 0x9F;
    if (first == 0xF0) low = 0x90;
    if (first == 0xF4) high = 0x8F;
    std::uint32_t code = length == 2 ? first & 0x1F : length == 3 ? first & 0x0F : first & 0x07;
    std::size_t good = 1;
    for (; good < length; ++good, low = 0x80, high = 0xBF) {
      const unsigned next = byte(at + good);
      if (next < low || next > high) break;
      code = code << 6 | (next & 0x3F);
    }
    if (length == 0 || good < length) {
      to_ += ascii_ ? "\\ufffd" : "\xEF\xBF\xBD";
      return good;
    }
    if (!ascii_) {
      to_.append(text, at, length);
    } else if (code < 0x10000) {
      write_escaped(code);
    } else {
      write_escaped(0xD800 + ((code - 0x10000) >> 10));
      write_escaped(0xDC00 + ((code - 0x10000) & 0x3FF));
    }
    return length;
  }
  void write_escaped(std::uint32_t code) {
    constexpr char digits[] = "0123456789abcdef";
    to_ += "\\u";
    for (int shift = 12; shift >= 0; shift -= 4) to_ += digits[code >> shift & 0xF];
  }

  std::string& to_;
  int indent_;
  bool ascii_;
};

}  // namespace

std::string Value::dump(int indent, bool ascii) const {
  std::string text;
  Writer(text, indent, ascii).write(*this, 0);
  return text;
}

}  // namespace antcrew::json
