// Text from outside, made fit for a terminal, a table, a file: titles, names, what was thrown, what was printed.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

#include "antcrew/base/layer.hpp"

namespace antcrew::base_layer {

// One line of valid UTF-8 without control characters: line ends and other controls become blanks, what is not UTF-8
// becomes U+FFFD, marks that turn the direction of writing are left out. Cut with "…" where it takes more than
// `most_columns` columns; 0 = not cut.
std::string printable(std::string_view text, std::size_t most_columns = 0);

// Columns that valid UTF-8 takes on a terminal: two for wide characters of East Asia and pictures, none for combining
// marks.
std::size_t display_width(std::string_view text) noexcept;

// The last line that says something: has a letter or a digit. Where none has, the last that is not blank.
std::string_view last_saying_line(std::string_view text) noexcept;

}  // namespace antcrew::base_layer
