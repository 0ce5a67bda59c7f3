// How wide texts are when they are drawn, so that a figure can leave room for them.
#pragma once

#include <string>
#include <vector>

#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// In the font of the figures, as a multiple of the font's size. Characters beyond ASCII count as wide ones.
double text_width(const std::string& text);

// Broken between words into lines that are no wider than `width` at this font size; a word that is wider than a line is
// broken where it has to be. Nothing is left out. At least one line, which may be empty.
std::vector<std::string> lines_within(const std::string& text, double width, double size);

}  // namespace antcrew::internal
