#include "antcrew/study/answer_text.hpp"

#include <fmt/format.h>

#include "antcrew/base/printable.hpp"

namespace antcrew::internal {
namespace {

constexpr std::uint64_t values_shown = 3;
constexpr std::size_t most_columns = 60;  // of one value

std::string with_thousands(std::uint64_t value) {
  std::string digits = std::to_string(value);
  for (std::size_t place = digits.size(); place > 3;) digits.insert(place -= 3, 1, ',');
  return digits;
}

}  // namespace

void AnswerText::digest(std::string_view bytes) noexcept {
  for (const char byte : bytes) digest_ = (digest_ ^ static_cast<unsigned char>(byte)) * 0x100000001b3u;
  digest_ = (digest_ ^ bytes.size()) * 0x100000001b3u;
}

void AnswerText::add(std::string text) {
  if (count_ < values_shown) first_ += (count_ == 0 ? "" : ", ") + text;
  ++count_;
}

void AnswerText::whole(std::uint64_t size, bool negative) {
  digest(std::string_view(reinterpret_cast<const char*>(&size), sizeof size));
  digest(negative ? "-" : "+");
  add(count_ < values_shown ? (negative ? "-" : "") + with_thousands(size) : std::string());
}

void AnswerText::number(double value) {
  floating_ = true;
  sum_ += value;
  add(count_ < values_shown ? fmt::format("{:.6g}", value) : std::string());
}

void AnswerText::words(std::string_view text) {
  digest(text);
  add(count_ < values_shown ? "\"" + printable(text, most_columns) + "\"" : std::string());
}

void AnswerText::other() {
  unknown_ = true;
  ++count_;
}

std::string AnswerText::finished() const {
  if (count_ == 1 && !ranges_ && !unknown_) return first_;
  std::string text = with_thousands(count_) + (count_ == 1 ? " value" : " values");
  if (!first_.empty()) text += ": " + first_ + (count_ > values_shown ? ", …" : "");
  if (unknown_) return first_.empty() ? text + " of a type that cannot be shown" : text;
  if (count_ == 0) return text;
  return text + (floating_ ? fmt::format(" sum {:.10g}", sum_) : fmt::format(" digest {:012x}", digest_ >> 16));
}

}  // namespace antcrew::internal
