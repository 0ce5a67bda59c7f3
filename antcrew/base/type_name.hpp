// Names of types for people, and of what was thrown.
#pragma once

#include <string>
#include <typeinfo>

#include "antcrew/base/layer.hpp"

namespace antcrew::base_layer {

// "std::out_of_range", not its mangled form.
std::string type_name(const std::type_info& type);
// Likewise of a type or a function, from its mangled name; what is none comes back as it is.
std::string readable_name(const char* mangled);

struct Thrown {
  std::string type;
  std::string text;  // empty when what was thrown has none
};

// Of the exception that is being handled: only inside a catch block.
Thrown current_thrown();

}  // namespace antcrew::base_layer
