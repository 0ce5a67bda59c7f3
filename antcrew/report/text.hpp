// Numbers as people read them: units, intervals, thousands.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

using base_layer::duration_text;  // of plain seconds

// Where a text goes to.
struct Look {
  Look(std::size_t columns = 0, bool colours = false) : width(columns), colour(colours) {}
  std::size_t width;  // in columns; 0 = as wide as it likes, for pipes and files
  bool colour;        // by terminal codes; what a colour says is said in words, too
};
enum class Style { plain, good, bad, open, heading };
// The text between the codes of a style; as it is where there are no colours.
std::string styled(const std::string& text, Style style, const Look& look);

// "1.23 ms (1.21 to 1.26)", the unit once; as many decimals as the width of the interval deserves. What is no interval,
// only the range of too few rounds, reads "1.23 ms, seen 1.21–1.26", and of a single one "1.23 ms, seen once".
std::string duration_text(const Estimate& seconds);
// Its two parts: "1.23 ms", and "(1.21 to 1.26)", "seen 1.21–1.26" or "seen once".
std::string duration_median_text(const Estimate& seconds);
std::string duration_bounds_text(const Estimate& seconds);
// "1.93 (1.90 to 1.95)", "1.93, seen 1.90–1.95", "1.93, seen once".
std::string ratio_text(const Estimate& ratio);
// "96 %"; "97.3 %" below that for `decimals` 1.
std::string percent_text(double share, int decimals = 0);
// "1,000,000"
std::string count_text(std::uint64_t count);

// For terminals that do not take UTF-8: signs of our own become ASCII of the same width, other characters "?".
std::string plain_signs(const std::string& text);

// Breaks lines between words so that none is wider than `width` columns (0 = no limit); lines that go on are indented.
std::string wrapped(const std::string& text, std::size_t width);

}  // namespace antcrew::report_layer
