// Exit codes, and turning errors into one line and a code.
#pragma once

#include <functional>
#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {

inline constexpr int exit_done = 0;
inline constexpr int exit_answer_is_no = 1;
inline constexpr int exit_bad_input = 2;
inline constexpr int exit_could_not_run = 3;
inline constexpr int exit_cannot_tell = 4;

// Of several studies: the first that occurs of could not run, bad input, no, cannot tell, done.
int exit_of_several(int one, int other);

// Runs `work`; an error becomes one line on standard error, begun with the program's name, and its exit code.
int guarded(const std::string& program, const std::function<int()>& work);

// The last part of argv[0].
std::string program_name(const char* argv0);

// The terminal on standard output; no colours when it is not one, and as wide as COLUMNS in the environment says, or
// without limit. NO_COLOR is heeded.
report_layer::Look output_look();

// Whether what a terminal shows may be UTF-8, by LC_ALL, LC_CTYPE and LANG, the first of them that is set.
bool takes_utf8();

}  // namespace antcrew::cli_layer
