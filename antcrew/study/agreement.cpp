#include "antcrew/study/agreement.hpp"

#include <fmt/format.h>

#include "antcrew/base/printable.hpp"

namespace antcrew {

using namespace base_layer;

std::string Difference::in_words() const {
  if (agree) return "the same";
  if (!text.empty()) return text;
  if (!numeric) return fmt::format("{} of {} values differ", differing, compared);
  if (compared == 1) return fmt::format("expected {:.10g}, got {:.10g} (difference {:.3g})", expected, got, largest);
  return fmt::format("{} of {} values differ, most at [{}]: expected {:.10g}, got {:.10g} (difference {:.3g})",
                     differing, compared, at, expected, got, largest);
}

std::string Within::in_words() const {
  return fmt::format("within {:g}", tolerance_);
}

std::string Within::mistake() const {
  return tolerance_ >= 0 ? std::string() : fmt::format("a tolerance of {}", tolerance_);
}

std::string Within::objection_to_scale(double largest) const {
  return fmt::format(
      "every value of the expected answer lies below the tolerance: the largest is {:.2g}, and within({:g}) is "
      "absolute "
      "for values below 1, so any small answer would pass; compare with within({:.0e}), or scale the answers",
      largest, tolerance_, largest * 1e-9);
}

namespace internal {

std::string lengths_differ(std::size_t expected, std::size_t got) {
  return fmt::format("expected {} elements, got {}", expected, got);
}

std::string where_texts_differ(std::string_view expected, std::string_view got) {
  constexpr std::size_t before = 10;
  constexpr std::size_t shown = 40;
  std::size_t at = 0;
  while (at < expected.size() && at < got.size() && expected[at] == got[at]) ++at;
  const std::size_t from = at > before ? at - before : 0;
  const auto part = [&](std::string_view text) {
    const std::string lead = from > 0 ? "…" : "";
    return from >= text.size() && from > 0 ? std::string("its end")
                                           : "\"" + lead + printable(text.substr(from, 4 * shown), shown) + "\"";
  };
  return fmt::format("the texts differ from byte {} on (of {} and {}): expected {}, got {}", at, expected.size(),
                     got.size(), part(expected), part(got));
}

}  // namespace internal

}  // namespace antcrew
