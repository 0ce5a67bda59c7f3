// An answer in short, for people: how many values, the first of them, and one figure for all the others.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "antcrew/study/agreement.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// "4,130,071" · "1,000 values: 3.1, 2.7, 1.4, … sum 1,812.5" · "12 values: 1, 2, 3, … digest 5f0c". Two answers of
// whole numbers or texts that have the same digest are the same; of others the sum is told, as rounding differs.
class AnswerText {
 public:
  template <class Answer>
  static std::string of(const Answer& answer) {
    AnswerText text;
    text.look(answer);
    return text.finished();
  }

 private:
  template <class A>
  void look(const A& answer) {
    if constexpr (std::is_same_v<A, bool> || (Number<A> && std::is_unsigned_v<A>)) {
      whole(static_cast<std::uint64_t>(answer), false);
    } else if constexpr (Number<A> && std::is_integral_v<A>) {
      const auto value = static_cast<std::int64_t>(answer);
      whole(value < 0 ? 0 - static_cast<std::uint64_t>(value) : static_cast<std::uint64_t>(value), value < 0);
    } else if constexpr (Number<A>) {
      number(static_cast<double>(answer));
    } else if constexpr (Text<A>) {
      words(answer);
    } else if constexpr (RangeLike<A>) {
      for (const auto& one : answer) look(one);
      ranges_ = true;
    } else if constexpr (TupleLike<A>) {
      std::apply([this](const auto&... all) { (this->look(all), ...); }, answer);
    } else {
      other();
    }
  }

  void whole(std::uint64_t size, bool negative);
  void number(double value);
  void words(std::string_view text);
  void other();
  void add(std::string text);
  void digest(std::string_view bytes) noexcept;
  std::string finished() const;

  std::uint64_t count_ = 0;
  std::uint64_t digest_ = 0xcbf29ce484222325u;  // Fowler, Noll and Vo
  double sum_ = 0;
  bool floating_ = false;
  bool unknown_ = false;  // some values cannot be told
  bool ranges_ = false;
  std::string first_;
};

}  // namespace antcrew::internal
