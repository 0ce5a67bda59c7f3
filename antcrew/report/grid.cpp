#include "antcrew/report/grid.hpp"

#include <algorithm>
#include <cassert>
#include <numeric>

#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

constexpr std::size_t gap = 2;

std::string without_trailing_space(std::string line) {
  line.erase(line.find_last_not_of(' ') + 1);
  return line;
}

}  // namespace

void TextGrid::row(std::vector<std::string> cells, std::vector<Style> styles) {
  assert(cells.size() == columns_.size() && (styles.empty() || styles.size() == cells.size()));
  lines_.push_back({{}, std::move(cells), std::move(styles)});
}

void TextGrid::heading(std::string text) {
  lines_.push_back({std::move(text), {}, {}});
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

std::string TextGrid::text(const Look& look) const {
  const std::vector<std::size_t> needed = widths();
  const std::vector<bool> show = shown(look.width);
  // Blanks stand outside of the codes, so that those at the end of a line can go.
  const auto line_of = [&](const auto& cell_at, const auto& style_at) {
    std::string line;
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      if (!show[c]) continue;
      const std::string plain = cell_at(c);
      const std::string space(needed[c] - display_width(plain), ' ');
      const std::string text = styled(plain, style_at(c), look);
      line += std::string(gap, ' ') + (columns_[c].right ? space + text : text + space);
    }
    return without_trailing_space(std::move(line)) + "\n";
  };
  std::string text = line_of([&](std::size_t c) { return columns_[c].head; }, [](std::size_t) { return Style::plain; });
  for (const Line& line : lines_) {
    if (line.cells.empty()) {
      text += styled(line.heading, Style::heading, look) + "\n";
      continue;
    }
    text += line_of([&](std::size_t c) { return line.cells[c]; },
                    [&](std::size_t c) { return line.styles.empty() ? Style::plain : line.styles[c]; });
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
