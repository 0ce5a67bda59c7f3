#include "antcrew/report/grid.hpp"

#include <algorithm>
#include <cassert>
#include <numeric>

#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

constexpr std::size_t gap = 2;

std::string padded(const std::string& text, std::size_t width, bool right) {
  const std::size_t own = display_width(text);
  const std::string space(width > own ? width - own : 0, ' ');
  return right ? space + text : text + space;
}

std::string without_trailing_space(std::string line) {
  line.erase(line.find_last_not_of(' ') + 1);
  return line;
}

}  // namespace

void TextGrid::row(std::vector<std::string> cells) {
  assert(cells.size() == columns_.size());
  lines_.push_back({{}, std::move(cells)});
}

void TextGrid::heading(std::string text) {
  lines_.push_back({std::move(text), {}});
}

std::vector<std::size_t> TextGrid::widths() const {
  std::vector<std::size_t> widths;
  for (std::size_t c = 0; c < columns_.size(); ++c) {
    std::size_t width = display_width(columns_[c].head);
    for (const Line& line : lines_) {
      if (!line.cells.empty()) width = std::max(width, display_width(line.cells[c]));
    }
    widths.push_back(width);
  }
  return widths;
}

std::vector<bool> TextGrid::shown(std::size_t width) const {
  const std::vector<std::size_t> needed = widths();
  std::vector<bool> shown(columns_.size(), true);
  if (width == 0) return shown;
  const auto total = [&] {
    std::size_t sum = 0;
    for (std::size_t c = 0; c < columns_.size(); ++c) sum += shown[c] ? needed[c] + gap : 0;
    return sum;
  };
  for (int importance = 0; importance < 9; ++importance) {
    for (std::size_t c = 0; c < columns_.size() && total() > width; ++c) {
      if (columns_[c].importance == importance) shown[c] = false;
    }
  }
  return shown;
}

std::string TextGrid::text(std::size_t width) const {
  const std::vector<std::size_t> needed = widths();
  const std::vector<bool> show = shown(width);
  const auto line_of = [&](const auto& cell_at) {
    std::string line;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      if (show[c]) line += std::string(gap, ' ') + padded(cell_at(c), needed[c], columns_[c].right);
    }
    return without_trailing_space(std::move(line)) + "\n";
  };
  std::string text = line_of([&](std::size_t c) { return columns_[c].head; });
  for (const Line& line : lines_) {
    text += line.cells.empty() ? line.heading + "\n" : line_of([&](std::size_t c) { return line.cells[c]; });
  }
  return text;
}

std::vector<std::string> TextGrid::left_out(std::size_t width) const {
  std::vector<std::string> heads;
  const std::vector<bool> show = shown(width);
  for (std::size_t c = 0; c < columns_.size(); ++c) {
    if (!show[c]) heads.push_back(columns_[c].head);
  }
  return heads;
}

}  // namespace antcrew::report_layer
