#include "antcrew/study/internal/budget.hpp"

#include <algorithm>

namespace antcrew::internal {

double Budget::point_ends_s(double now_s, std::size_t points_to_come) const noexcept {
  const double left = std::max(0.0, exploring_ends_s() - now_s);
  return now_s + left / static_cast<double>(std::max<std::size_t>(points_to_come, 1));
}

double Budget::at_least(double ends_s, double now_s, double needed_s) const noexcept {
  return std::max(ends_s, std::min(now_s + needed_s, exploring_ends_s()));
}

bool Budget::keep_back(double now_s, double visit_s, double opening_s, double exploring_needs_s) noexcept {
  if (!limited() || !confirms_ || reserve_s_ <= 0) return confirms_;
  const double rounds_s = reserved_rounds * reserved_cells * visit_s;
  const double blocks_s = std::min(rounds_s + reserved_blocks * opening_s, most_reserved_share * total_s_);
  reserve_s_ = std::max({reserve_s_, rounds_s, blocks_s});
  if (now_s + exploring_needs_s > exploring_ends_s()) give_up_confirming();
  return confirms_;
}

void Budget::give_up_confirming() noexcept {
  confirms_ = false;
  reserve_s_ = 0;
}

}  // namespace antcrew::internal
