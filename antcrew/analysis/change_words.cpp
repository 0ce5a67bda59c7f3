// Words of a comparison.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <string>

#include "antcrew/analysis/compare.hpp"

namespace antcrew::analysis_layer {

const char* name_of(Change change) noexcept {
  switch (change) {
    case Change::better:
      return "better";
    case Change::worse:
      return "worse";
    case Change::better_in_time:
      return "better in time, lower in speedup";
    case Change::worse_in_time:
      return "worse in time";
    case Change::same:
      return "same";
    case Change::cannot_tell:
      break;
  }
  return "cannot tell";
}

bool Comparison::any(Change change) const noexcept {
  return std::any_of(cells.begin(), cells.end(), [&](const ComparedCell& cell) { return cell.change == change; });
}

std::string in_words(const SpeedupInterval& ratio) {
  const auto text = [](double value) {
    if (std::fabs(value - 1) < 1e-12) return std::string("1.00");
    for (int digits = 2; digits < 8; ++digits) {
      const std::string rounded = fmt::format("{:.{}f}", value, digits);
      const double read = std::stod(rounded);
      if ((read < 1) == (value < 1) && (read > 1) == (value > 1)) return rounded;
    }
    return fmt::format("{:.17g}", value);
  };
  return fmt::format("{} ({} to {})", text(ratio.median), text(ratio.low), text(ratio.high));
}

}  // namespace antcrew::analysis_layer
