#include "antcrew/sweep/answers.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <limits>
#include <vector>

#include "antcrew/base/printable.hpp"
#include "antcrew/study/answer_text.hpp"

namespace antcrew::sweep_layer {
namespace {

std::vector<std::string_view> lines_of(const std::string& text) {
  std::vector<std::string_view> lines;
  const std::string_view all(text);
  for (std::size_t from = 0; from < all.size();) {
    const std::size_t end = std::min(all.find('\n', from), all.size());
    lines.push_back(all.substr(from, end - from));
    from = end + 1;
  }
  return lines;
}

std::string shown(std::string_view text) {
  return "\"" + printable(text, 60) + "\"";
}

Difference differ(std::string text) {
  Difference found;
  found.agree = false;
  found.text = std::move(text);
  return found;
}

// With the line in which it is, which people look for.
Difference compare_exactly(const std::string& expected, const std::string& got) {
  if (expected == got) return {};
  const auto a = lines_of(expected);
  const auto b = lines_of(got);
  for (std::size_t k = 0; k < std::min(a.size(), b.size()); ++k) {
    if (a[k] != b[k]) return differ(fmt::format("line {}: expected {}, got {}", k + 1, shown(a[k]), shown(b[k])));
  }
  if (a.size() == b.size()) return differ("the end of the last line differs");
  return differ(fmt::format("expected {} line{}, got {}", a.size(), a.size() == 1 ? "" : "s", b.size()));
}

Difference compare_lines(const std::string& expected, const std::string& got) {
  auto a = lines_of(expected);
  auto b = lines_of(got);
  std::sort(a.begin(), a.end());
  std::sort(b.begin(), b.end());
  if (a == b) return {};
  std::vector<std::string_view> missing, extra;
  std::set_difference(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(missing));
  std::set_difference(b.begin(), b.end(), a.begin(), a.end(), std::back_inserter(extra));
  std::string text = fmt::format("of {} lines {} are missing and {} are new", a.size(), missing.size(), extra.size());
  if (!missing.empty()) text += ", missing " + shown(missing.front());
  if (!extra.empty()) text += ", new " + shown(extra.front());
  return differ(text);
}

// The answer a token at a time, however long it is. In numbers, one that has a point or an exponent, and fits, is taken
// as a double; whole ones are taken digit by digit.
class Tokens {
 public:
  enum class Kind { end, line, whole, floating, word };
  struct Token {
    Kind kind = Kind::end;
    std::string_view text;
    double value = 0;
    std::size_t line = 1;
    std::size_t at = 0;
  };

  Tokens(std::string_view text, bool lines) : text_(text.substr(0, end_of(text))), lines_(lines) {}

  Token next() {
    for (; at_ < text_.size() && is_space(text_[at_]); ++at_) {
      if (text_[at_] != '\n') continue;
      ++line_;
      if (lines_) return made(Kind::line, at_++, 1);
    }
    if (at_ == text_.size()) return made(Kind::end, at_, 0);
    Token token = number(at_);
    if (token.kind == Kind::word) {
      std::size_t end = at_ + 1;
      while (end < text_.size() && !is_space(text_[end]) && number(end).kind == Kind::word) ++end;
      token = made(Kind::word, at_, end - at_);
    }
    at_ += token.text.size();
    return token;
  }

 private:
  static bool is_space(char c) { return c == ' ' || (c >= '\t' && c <= '\r'); }
  static bool is_digit(char c) { return c >= '0' && c <= '9'; }
  static bool is_word(char c) { return is_digit(c) || (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; }
  static std::size_t end_of(std::string_view text) {
    std::size_t end = text.size();
    while (end > 0 && is_space(text[end - 1])) --end;
    return end;
  }
  Token made(Kind kind, std::size_t begin, std::size_t length) const {
    return {kind, text_.substr(begin, length), 0, line_, begin};
  }
  std::size_t digits_from(std::size_t at) const {
    while (at < text_.size() && is_digit(text_[at])) ++at;
    return at;
  }

  // The one that begins here, or a word of no length.
  Token number(const std::size_t begin) const {
    const Token none = made(Kind::word, begin, 0);
    if (begin > 0 && is_word(text_[begin - 1])) return none;
    std::size_t at = begin;
    if (text_[at] == '-' || text_[at] == '+') ++at;
    const std::size_t mantissa = at;
    for (const std::string_view name : {"infinity", "inf", "nan"}) {
      const std::string_view here = text_.substr(mantissa, name.size());
      const bool same = std::equal(here.begin(), here.end(), name.begin(), name.end(),
                                   [](char a, char b) { return (a >= 'A' && a <= 'Z' ? a + 32 : a) == b; });
      if (same && ends_word(mantissa + name.size())) return floating(begin, mantissa + name.size());
    }
    at = digits_from(at);
    std::size_t digits = at - mantissa;
    bool whole = true;
    if (at < text_.size() && text_[at] == '.') {
      const std::size_t end = digits_from(at + 1);
      digits += end - at - 1;
      if (digits > 0) at = end;
      whole = digits == 0;
    }
    if (digits == 0) return none;
    const bool zero = text_.substr(mantissa, at - mantissa).find_first_not_of("0.") == std::string_view::npos;
    if (at < text_.size() && (text_[at] == 'e' || text_[at] == 'E')) {
      const bool sign = at + 1 < text_.size() && (text_[at + 1] == '-' || text_[at + 1] == '+');
      const std::size_t exponent = at + 1 + (sign ? 1 : 0);
      const std::size_t end = digits_from(exponent);
      const bool none_there = text_.substr(exponent, end - exponent).find_first_not_of('0') == std::string_view::npos;
      // No program writes a nought as 0e12345: that is part of a word, such as a checksum.
      if (end == exponent || (zero && !none_there)) return none;
      at = end;
      whole = false;
    }
    if (!ends_word(at)) return none;
    if (!whole) return floating(begin, at);
    Token token = made(Kind::whole, begin, at - begin);
    token.value = value_of(token.text);
    return token;
  }
  bool ends_word(std::size_t at) const { return at >= text_.size() || !is_word(text_[at]); }
  Token floating(std::size_t begin, std::size_t end) const {
    Token token = made(Kind::floating, begin, end - begin);
    token.value = value_of(token.text);
    if (std::isnan(token.value) && token.text.find_first_of("nN") == std::string_view::npos)
      return made(Kind::word, begin, 0);  // it does not fit: taken letter by letter
    return token;
  }
  static double value_of(std::string_view text) {
    if (text.front() == '+') text.remove_prefix(1);
    double value = 0;
    const auto read = std::from_chars(text.data(), text.data() + text.size(), value);
    return read.ec == std::errc() ? value : std::numeric_limits<double>::quiet_NaN();
  }

  std::string_view text_;
  bool lines_;
  std::size_t at_ = 0;
  std::size_t line_ = 1;
};

using Token = Tokens::Token;
using TokenKind = Tokens::Kind;

// Without what does not count: a plus, noughts in front, the sign of nought.
std::pair<bool, std::string_view> digits_of(std::string_view whole) {
  const bool negative = whole.front() == '-';
  if (negative || whole.front() == '+') whole.remove_prefix(1);
  whole.remove_prefix(std::min(whole.find_first_not_of('0'), whole.size()));
  return {negative && !whole.empty(), whole};
}

// That a double has exactly.
bool fits(const Token& token) {
  return token.kind == TokenKind::floating || std::fabs(token.value) < 9007199254740992.0;
}

std::string named(const Token& token) {
  return token.kind == TokenKind::end    ? "its end"
         : token.kind == TokenKind::line ? "the end of the line"
                                         : shown(token.text);
}

bool near(const AnswerRule& rule, double expected, double got) {
  if (expected == got || (std::isnan(expected) && std::isnan(got))) return true;
  if (!std::isfinite(expected) || !std::isfinite(got)) return false;
  return std::fabs(expected - got) <= rule.tolerance * (rule.absolute ? 1 : std::max(1.0, std::fabs(expected)));
}

Difference compare_numbers(const AnswerRule& rule, const std::string& expected, const std::string& got) {
  Tokens of_expected(expected, !rule.free_layout);
  Tokens of_got(got, !rule.free_layout);
  Difference found;
  found.numeric = true;
  while (true) {
    const Token a = of_expected.next();
    const Token b = of_got.next();
    const auto here = [&] {
      std::string text = fmt::format("line {}: expected {}, got {}", b.line, named(a), named(b));
      const auto about_lines = [](const Token& token) {
        return token.kind == TokenKind::line || token.kind == TokenKind::end;
      };
      if (about_lines(a) != about_lines(b)) text += " (layout = \"free\" would ignore where lines end)";
      return differ(text);
    };
    const auto number = [](const Token& token) {
      return token.kind == TokenKind::whole || token.kind == TokenKind::floating;
    };
    if (!number(a) || !number(b)) {
      if (a.kind != b.kind || (a.kind == TokenKind::word && a.text != b.text)) return here();
      if (a.kind == TokenKind::end) break;
      continue;
    }
    const std::size_t place = found.compared++;
    if (a.kind == TokenKind::whole && b.kind == TokenKind::whole) {
      if (digits_of(a.text) != digits_of(b.text)) return here();
      continue;
    }
    if (!fits(a) || !fits(b)) return here();
    if (near(rule, a.value, b.value)) continue;
    const double apart = std::fabs(a.value - b.value);
    if (found.differing++ == 0 || apart > found.largest) {
      found.at = place;
      found.largest = apart;
      found.expected = a.value;
      found.got = b.value;
    }
  }
  found.agree = found.differing == 0;
  return found;
}

}  // namespace

Difference compare_answers(const AnswerRule& rule, const std::string& expected, const std::string& got) {
  if (rule.from == AnswerRule::From::none) return {};
  if (rule.how == AnswerRule::How::numbers) return compare_numbers(rule, expected, got);
  return rule.how == AnswerRule::How::lines ? compare_lines(expected, got) : compare_exactly(expected, got);
}

std::string answer_in_short(const std::string& answer) {
  constexpr std::size_t short_enough = 60;
  const auto lines = lines_of(answer);
  if (lines.empty()) return "nothing";
  if (lines.size() == 1 && lines.front().size() <= short_enough) return printable(lines.front());
  return printable(lines.front(), short_enough) +
         fmt::format(" ({} line{}, {})", lines.size(), lines.size() == 1 ? "" : "s", internal::AnswerText::of(answer));
}

std::string objection_to(const AnswerRule& rule, const std::string& expected) {
  if (rule.from == AnswerRule::From::none || rule.how == AnswerRule::How::command) return {};
  if (expected.empty())
    return std::string("the baseline ") +
           (rule.from == AnswerRule::From::file ? "left its answer's file empty" : "printed nothing") +
           ", so any variant that does would count as right: say where the answer is ([answer] from = …), or from = "
           "\"none\"";
  if (rule.how != AnswerRule::How::numbers) return {};
  // Whole numbers are compared exactly: one that is there is enough.
  std::vector<double> numbers;
  Tokens tokens(expected, false);
  for (Token token = tokens.next(); token.kind != TokenKind::end; token = tokens.next()) {
    if (token.kind != TokenKind::floating) return {};
    numbers.push_back(token.value);
  }
  return within(rule.tolerance).objection_to(numbers);
}

}  // namespace antcrew::sweep_layer
