#include "antcrew/study/agreement.hpp"

#include <fmt/format.h>

#include "antcrew/base/error.hpp"

namespace antcrew {

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

Within within(double tolerance) {
  if (!(tolerance >= 0)) {
    bad_input("study.tolerance", "within", fmt::format("a tolerance of {}", tolerance),
              "give zero or more, such as 1e-9");
  }
  return Within(tolerance);
}

}  // namespace antcrew
