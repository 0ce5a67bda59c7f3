// `antcrew show`: a saved record in one of its forms.
#pragma once

#include <string>

#include "antcrew/base/layers.hpp"

namespace antcrew::cli_layer {

struct ShowOptions {
  std::string record;
  std::string form = "table";
  std::string to;
  std::string details;   // of this variant, in place of a form
  bool answers = false;  // the same
};

// Throws Error for a record or a form that cannot be used. Writes to standard output, or to the file `to`.
int show_record(const ShowOptions& options);

}  // namespace antcrew::cli_layer
