#include "antcrew/sweep/answers.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
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

// Numbers, and between them all else without its blanks.
struct Token {
  bool number = false;
  double value = 0;
  std::string_view text;
};

bool may_begin_a_number(const std::string& text, std::size_t at) {
  const char c = text[at];
  if (at > 0 && (std::isalnum(static_cast<unsigned char>(text[at - 1])) != 0 || text[at - 1] == '_')) return false;
  return std::isdigit(static_cast<unsigned char>(c)) != 0 || c == '-' || c == '+' || c == '.' || c == 'i' || c == 'I' ||
         c == 'n' || c == 'N';
}

std::vector<Token> tokens_of(const std::string& text) {
  std::vector<Token> tokens;
  const std::string_view all(text);
  std::size_t plain = std::string::npos;
  const auto end_plain = [&](std::size_t end) {
    if (plain != std::string::npos) tokens.push_back({false, 0, all.substr(plain, end - plain)});
    plain = std::string::npos;
  };
  for (std::size_t at = 0; at < text.size();) {
    if (std::isspace(static_cast<unsigned char>(text[at])) != 0) {
      end_plain(at++);
      continue;
    }
    char* end = nullptr;
    const double value = may_begin_a_number(text, at) ? std::strtod(text.c_str() + at, &end) : 0;
    const std::size_t length = end == nullptr ? 0 : static_cast<std::size_t>(end - (text.c_str() + at));
    const std::size_t next = at + length;
    const bool ends_word = next >= text.size() || std::isalpha(static_cast<unsigned char>(text[next])) == 0;
    if (length > 0 && ends_word) {
      end_plain(at);
      tokens.push_back({true, value, all.substr(at, length)});
      at = next;
    } else {
      if (plain == std::string::npos) plain = at;
      ++at;
    }
  }
  end_plain(text.size());
  return tokens;
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

Difference compare_numbers(double tolerance, const std::string& expected, const std::string& got) {
  const std::vector<Token> a = tokens_of(expected);
  const std::vector<Token> b = tokens_of(got);
  std::vector<double> numbers_a, numbers_b;
  for (std::size_t k = 0; k < std::min(a.size(), b.size()); ++k) {
    if (a[k].number != b[k].number || (!a[k].number && a[k].text != b[k].text))
      return differ(fmt::format("word {}: expected {}, got {}", k + 1, shown(a[k].text), shown(b[k].text)));
    if (!a[k].number) continue;
    numbers_a.push_back(a[k].value);
    numbers_b.push_back(b[k].value);
  }
  if (a.size() != b.size()) return differ(fmt::format("expected {} numbers and words, got {}", a.size(), b.size()));
  return within(tolerance)(numbers_a, numbers_b);
}

}  // namespace

Difference compare_answers(const AnswerRule& rule, const std::string& expected, const std::string& got) {
  if (rule.from == AnswerRule::From::none) return {};
  if (rule.how == AnswerRule::How::numbers) return compare_numbers(rule.tolerance, expected, got);
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
  std::vector<double> numbers;
  bool words = false;
  for (const Token& token : tokens_of(expected)) {
    if (token.number) numbers.push_back(token.value);
    words = words || !token.number;
  }
  return words && numbers.empty() ? std::string() : within(rule.tolerance).objection_to(numbers);
}

}  // namespace antcrew::sweep_layer
