// A record without what tells where it was made: for results that are shared.
#pragma once

#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/record/forward.hpp"

namespace antcrew::cli_layer {

// Every string of the record, whatever it is for, without this host's name, this user's name and home, and without
// the folders of absolute paths ("/home/x/y/tides.cpp:12" becomes "…/tides.cpp:12"). Figures stay as they are.
Record scrub(const Record& record);

std::string scrub_text(const std::string& text);

}  // namespace antcrew::cli_layer
