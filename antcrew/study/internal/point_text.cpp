#include "antcrew/study/internal/point_text.hpp"

#include "antcrew/record/point.hpp"

namespace antcrew::internal {

std::string point_text(const Point& point) {
  std::string text = point.size > 0 ? "size " + std::to_string(point.size) : std::string();
  for (const auto& [name, value] : point.dimensions) text += (text.empty() ? "" : ", ") + name + " " + value.text();
  if (point.pin != Pin::off) text += (text.empty() ? "pinned " : ", pinned ") + std::string(name_of(point.pin));
  return text.empty() ? "the only point" : text;
}

}  // namespace antcrew::internal
