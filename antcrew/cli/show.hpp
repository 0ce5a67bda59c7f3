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

struct ExplainOptions {
  std::string record;
  std::string form = "text";  // or "json"
  bool timeline = false;      // what each worker did when, too
  std::string to;
};

// Where the time of a record's cells went. Exit code 4 when the data cannot tell anything. Throws Error as below.
int explain_record(const ExplainOptions& options);

// Throws Error for a record or a form that cannot be used. Writes to standard output, or to the file `to`.
int show_record(const ShowOptions& options);

}  // namespace antcrew::cli_layer
