// Where in the source an address of the running program lies.
#pragma once

#include <string>
#include <vector>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// The line of the program's own source that called, by way of the addresses that calls return to, the nearest first:
// "tides.cpp:41". Inlined functions count as called; those of the compiler's library and of this one are passed over.
// Without debug information the name of the function; empty where not even a name is known. Takes some 20 ms the first
// time.
std::string source_place(const std::vector<const void*>& return_addresses);

}  // namespace antcrew::internal
