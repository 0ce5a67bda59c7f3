#include "antcrew/study/internal/turns.hpp"

#include <algorithm>
#include <numeric>

#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {
namespace {

// The headline's point first, the middle one, the rest by size.
std::vector<std::size_t> order_of_points(const Record& record) {
  std::vector<std::size_t> order(record.points.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return record.points[a].size > record.points[b].size; });
  const std::size_t first = headline_point(record);
  std::stable_partition(order.begin(), order.end(), [&](std::size_t point) { return point == first; });
  if (order.size() > 2) {
    const auto middle = order.begin() + static_cast<std::ptrdiff_t>(order.size() / 2);
    std::rotate(order.begin() + 1, middle, middle + 1);
  }
  return order;
}

}  // namespace

std::vector<Turn> turns_of(const Record& record, bool least_first) {
  const std::vector<std::size_t> order = order_of_points(record);
  std::vector<Turn> turns;
  if (least_first) {
    for (std::size_t i = 1; i < order.size(); ++i) turns.push_back({order[i], true});
    std::stable_sort(turns.begin(), turns.end(), [&](const Turn& a, const Turn& b) {
      return record.points[a.point].size < record.points[b.point].size;
    });
  }
  for (const std::size_t point : order) turns.push_back({point, false});
  return turns;
}

std::size_t smaller_size(const Record& record, std::size_t point) {
  const Point& at = record.points[point];
  std::size_t best = 0;
  for (const Point& other : record.points) {
    Point same = other;
    same.size = at.size;
    same.base_size = at.base_size;
    if (same == at && other.size < at.size) best = std::max(best, other.size);
  }
  if (best > 0 || at.size < 2) return best;
  return at.size - std::max<std::size_t>(1, at.size / 8);
}

}  // namespace antcrew::internal
