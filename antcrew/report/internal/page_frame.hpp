// What every page has around what it says: one file with its scripts in it, which asks nothing of a network.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// From the document's first line to the end of its head.
std::string page_head(const std::string& title);
// What was found stands large; whom it could not be told from, below.
std::string page_headline(const std::string& sentences);
// made_from: "one record".
std::string page_footer(const std::string& made_from, const std::string& version);
// Its data, made fit for a script element, and what draws them; to the end of the document.
std::string page_scripts(const std::string& data);

}  // namespace antcrew::internal
