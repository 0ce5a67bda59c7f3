// When two answers count as the same: within(tolerance), exactly(), or a function of one's own.
//
//   within(1e-9)                       numbers, and anything made of them: ranges, pairs, tuples
//   exactly()                          operator==, and element by element for ranges of different types
//   [](const A& expected, const A& got) { return expected.id == got.id; }
//
// An agreement is called off the clock, in the process that made both answers.
#pragma once

#include <concepts>
#include <cstddef>
#include <string>
#include <string_view>
#include <tuple>
#include <type_traits>
#include <utility>

#include "antcrew/study/layer.hpp"

namespace antcrew {

// What a comparison found. For numbers, `largest` is the largest difference and `at` the element where it is.
struct Difference {
  bool agree = true;
  bool numeric = false;
  bool whole_numbers = false;  // all that differ
  std::size_t differing = 0;
  std::size_t compared = 0;
  std::size_t at = 0;
  double largest = 0;
  double expected = 0;  // the two values at the largest difference
  double got = 0;
  std::string text;  // set when there is more to say than the numbers, such as lengths that differ

  // One line: "2 of 1000 values differ, most at [17]: expected 3, got 4 (difference 1)".
  std::string in_words() const;
};

namespace internal {

template <class T>
concept RangeLike = requires(const T& t) {
  t.begin();
  t.end();
  t.size();
};
template <class T>
concept TupleLike = requires {
  std::tuple_size<T>::value;
}
&&!RangeLike<T>;
template <class T>
concept Number = std::is_arithmetic_v<T>;
template <class T>
concept Text = std::is_convertible_v<const T&, std::string_view> && !std::is_same_v<T, std::nullptr_t>;

// The first place where two texts differ, with what stands there in both.
std::string where_texts_differ(std::string_view expected, std::string_view got);
std::string lengths_differ(std::size_t expected, std::size_t got);

// As in <cmath>, which takes long to read.
constexpr double size_of(double x) noexcept {
  return __builtin_fabs(x);
}
constexpr bool is_nan(double x) noexcept {
  return __builtin_isnan(x);
}
constexpr bool is_finite(double x) noexcept {
  return __builtin_isfinite(x);
}

template <class T>
struct is_floating_answer : std::is_floating_point<T> {};
template <RangeLike T>
requires(!Text<T>) struct is_floating_answer<T>
    : is_floating_answer<std::decay_t<decltype(*std::declval<const T&>().begin())>> {
};
template <class A, class B>
struct is_floating_answer<std::pair<A, B>>
    : std::disjunction<is_floating_answer<std::decay_t<A>>, is_floating_answer<std::decay_t<B>>> {};
template <class... Ts>
struct is_floating_answer<std::tuple<Ts...>> : std::disjunction<is_floating_answer<std::decay_t<Ts>>...> {};

// Whether Comparison can walk the two.
template <class A, class B>
constexpr bool comparable() {
  if constexpr ((Number<A> && Number<B>) || (Text<A> && Text<B>)) {
    return true;
  } else if constexpr (RangeLike<A> && RangeLike<B>) {
    return comparable<std::decay_t<decltype(*std::declval<const A&>().begin())>,
                      std::decay_t<decltype(*std::declval<const B&>().begin())>>();
  } else if constexpr (TupleLike<A> && TupleLike<B>) {
    if constexpr (std::tuple_size_v<A> == std::tuple_size_v<B>) {
      return []<std::size_t... I>(std::index_sequence<I...>) {
        return (comparable<std::decay_t<std::tuple_element_t<I, A>>, std::decay_t<std::tuple_element_t<I, B>>>() &&
                ...);
      }
      (std::make_index_sequence<std::tuple_size_v<A>>());
    } else {
      return false;
    }
  } else {
    return requires(const A& a, const B& b) {
      static_cast<bool>(a == b);
    };
  }
}

// Walks two answers of like shape; `same(a, b)` decides for numbers, operator== for everything else.
template <class Same>
class Comparison {
 public:
  Comparison(Same same, Difference& found) : same_(same), found_(found) {}

  template <class A, class B>
  void compare(const A& expected, const B& got) {
    if constexpr (Number<A> && Number<B>) {
      numbers(expected, got);
    } else if constexpr (Text<A> && Text<B>) {
      texts(expected, got);
    } else if constexpr (RangeLike<A> && RangeLike<B>) {
      ranges(expected, got);
    } else if constexpr (TupleLike<A> && TupleLike<B>) {
      tuples(expected, got, std::make_index_sequence<std::tuple_size_v<A>>());
    } else {
      note(expected == got);
    }
  }

 private:
  void note(bool same) {
    ++found_.compared;
    if (same) return;
    ++found_.differing;
    found_.agree = false;
  }

  void texts(std::string_view expected, std::string_view got) {
    note(expected == got);
    if (expected != got && found_.text.empty()) found_.text = where_texts_differ(expected, got);
  }

  template <class A, class B>
  void numbers(A expected, B got) {
    const std::size_t at = found_.compared;
    const bool same = same_(expected, got);
    note(same);
    found_.numeric = true;
    if (same) return;
    found_.whole_numbers = std::is_integral_v<A> && std::is_integral_v<B>;
    const double e = static_cast<double>(expected);
    const double g = static_cast<double>(got);
    const double difference = internal::size_of(e - g);
    const bool larger = internal::is_nan(difference) || difference > found_.largest;
    if (found_.differing == 1 || (larger && !internal::is_nan(found_.largest))) {
      found_.largest = difference;
      found_.at = at;
      found_.expected = e;
      found_.got = g;
    }
  }

  template <class A, class B>
  void ranges(const A& expected, const B& got) {
    if (expected.size() != got.size()) {
      found_.agree = false;
      ++found_.differing;
      if (found_.text.empty()) {
        found_.text = lengths_differ(expected.size(), got.size());
      }
      return;
    }
    auto e = expected.begin();
    auto g = got.begin();
    for (; e != expected.end(); ++e, ++g) compare(*e, *g);
  }

  template <class A, class B, std::size_t... I>
  void tuples(const A& expected, const B& got, std::index_sequence<I...>) {
    static_assert(std::tuple_size_v<A> == std::tuple_size_v<B>, "answers of different shape cannot be compared");
    (compare(std::get<I>(expected), std::get<I>(got)), ...);
  }

  Same same_;
  Difference& found_;
};

// The largest of an answer's numbers.
struct Scale {
  double largest = 0;
  bool any = false;  // there is a number that is not 0

  template <class A>
  void look(const A& answer) {
    if constexpr (Number<A>) {
      const double size = internal::size_of(static_cast<double>(answer));
      any = any || size > 0;
      if (size > largest || internal::is_nan(size)) largest = internal::is_nan(size) ? 1e308 : size;
    } else if constexpr (Text<A>) {
    } else if constexpr (RangeLike<A>) {
      for (const auto& one : answer) look(one);
    } else if constexpr (TupleLike<A>) {
      std::apply([this](const auto&... all) { (this->look(all), ...); }, answer);
    }
  }
};

}  // namespace internal

// |expected − got| <= tolerance · max(1, |expected|), for every number in the answer: absolute for values below 1,
// relative above. Two NaN agree, infinities of one sign agree.
class Within {
 public:
  explicit Within(double tolerance) : tolerance_(tolerance) {}
  std::string in_words() const;

  // What is wrong with it, in words: a tolerance below zero or NaN. Empty when it can be used.
  std::string mistake() const;

  // Why any answer would do, measured by this one: all its values lie below the tolerance, and some are not 0.
  template <class A>
  std::string objection_to(const A& expected) const {
    internal::Scale scale;
    scale.look(expected);
    return scale.any && scale.largest < tolerance_ ? objection_to_scale(scale.largest) : std::string();
  }

  template <class A, class B>
  Difference operator()(const A& expected, const B& got) const {
    Difference found;
    const auto same = [this](auto a, auto b) { return near(static_cast<double>(a), static_cast<double>(b)); };
    internal::Comparison(same, found).compare(expected, got);
    return found;
  }

 private:
  bool near(double expected, double got) const noexcept {
    if (expected == got || (internal::is_nan(expected) && internal::is_nan(got))) return true;
    const double scale = internal::size_of(expected) > 1 ? internal::size_of(expected) : 1;
    return internal::size_of(expected - got) <= tolerance_ * scale && internal::is_finite(expected) &&
           internal::is_finite(got);
  }
  std::string objection_to_scale(double largest) const;
  double tolerance_;
};

class Exactly {
 public:
  std::string in_words() const { return "exactly"; }

  template <class A, class B>
  Difference operator()(const A& expected, const B& got) const {
    Difference found;
    const auto same = [](auto a, auto b) {
      if constexpr (std::is_same_v<decltype(a), decltype(b)>) {
        return a == b;
      } else if constexpr (std::is_integral_v<decltype(a)> && std::is_integral_v<decltype(b)> &&
                           !std::is_same_v<decltype(a), bool> && !std::is_same_v<decltype(b), bool>) {
        return std::cmp_equal(a, b);
      } else {
        return static_cast<long double>(a) == static_cast<long double>(b);
      }
    };
    internal::Comparison(same, found).compare(expected, got);
    return found;
  }
};

// A negative tolerance or NaN is told when the study is run (Error study.tolerance).
inline Within within(double tolerance) {
  return Within(tolerance);
}
inline Exactly exactly() {
  return {};
}

namespace internal {

template <class Agreement>
std::string agreement_in_words(const Agreement& agreement) {
  if constexpr (requires { agreement.in_words(); }) {
    return agreement.in_words();
  } else {
    return "by a function of the study";
  }
}

// Whether an agreement can compare a variant's answer with the baseline's.
template <class Agreement, class Reference, class Answer>
constexpr bool can_compare() {
  constexpr bool walks = requires(const Agreement& agreement) {
    agreement.in_words();
  };
  if constexpr (walks) {
    constexpr bool same = comparable<Reference, Reference>();
    static_assert(
        same,
        "within() and exactly() compare numbers, texts, what has an operator==, and ranges, pairs and tuples of "
        "them: for an answer of a type of your own give the study a function (expected, got) -> bool");
    constexpr bool both = comparable<Reference, Answer>();
    static_assert(
        !same || both,
        "the variant answers in another type than the baseline, and the two cannot be compared: let it return "
        "the baseline's type, or give the study a function (expected, got) -> bool");
    return same && both;
  } else {
    constexpr bool callable = std::invocable<const Agreement&, const Reference&, const Answer&>;
    static_assert(callable,
                  "the study's agreement cannot be called with the baseline's answer and this variant's: it takes "
                  "(expected, got), both as const");
    return callable;
  }
}

template <class Agreement, class Reference>
std::string objection_of(const Agreement& agreement, const Reference& expected) {
  if constexpr (requires { agreement.objection_to(expected); }) {
    return agreement.objection_to(expected);
  } else {
    return {};
  }
}

template <class Agreement>
std::string mistake_of(const Agreement& agreement) {
  if constexpr (requires { agreement.mistake(); }) {
    return agreement.mistake();
  } else {
    return {};
  }
}

// A user's function may give a Difference, or plainly true or false.
template <class Agreement, class A, class B>
Difference difference_of(const Agreement& agreement, const A& expected, const B& got) {
  if constexpr (std::is_same_v<std::decay_t<decltype(agreement(expected, got))>, Difference>) {
    return agreement(expected, got);
  } else {
    Difference found;
    found.agree = static_cast<bool>(agreement(expected, got));
    if (!found.agree) found.text = "the study's own agreement says no";
    return found;
  }
}

}  // namespace internal
}  // namespace antcrew
