// `antcrew demo`: runs the shipped example as its own program.
#pragma once

#include <string>
#include <vector>

// Does not return when the example could be started. Throws Error (demo.missing).
int run_demo(const std::vector<std::string>& arguments);
