// A hash of a text or a file, to tell whether it is still what it was.
#pragma once

#include <string>
#include <string_view>

#include "antcrew/base/layer.hpp"

namespace antcrew::base_layer {

// 64 bits by Fowler, Noll and Vo (FNV-1a), as 16 hexadecimal digits. Of a file: empty when it cannot be read.
std::string text_hash(std::string_view text);
std::string file_hash(const std::string& path);

}  // namespace antcrew::base_layer
