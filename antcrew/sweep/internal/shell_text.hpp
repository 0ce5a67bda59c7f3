// Nothing is pasted into the text of a shell: what it needs is in its environment.
#pragma once

#include <string>
#include <vector>

#include "antcrew/sweep/layer.hpp"

namespace antcrew::internal {

// Throw Error (sweep.name), naming the variable to use: for @(…) in the text, and in the text that one of these words
// is, behind a shell and its option -c.
void refuse_names_in_shell_text(const std::string& text, const std::string& where);
void check_shell_words(const std::vector<std::string>& words, const std::string& where);

}  // namespace antcrew::internal
