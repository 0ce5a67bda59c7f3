// `antcrew show`: saved records in one of their forms.
#pragma once

#include <string>
#include <vector>

#include "antcrew/cli/forms.hpp"
#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/stored.hpp"

namespace antcrew::cli_layer {

struct ShowOptions {
  std::vector<std::string> records;
  StoreOptions store;
  FormChoice form;
  std::string details;   // of this variant, in place of a form
  std::string trial;     // what is left of trials of this variant, in place of a form
  bool answers = false;  // the same
};

struct ExplainOptions {
  std::string record;
  StoreOptions store;
  std::string form = "text";  // or "json"
  bool timeline = false;      // what each worker did when, too
  std::string to;
  bool scrub = false;
};

// Where the time of a record's cells went. Exit code 4 when the data cannot tell anything. Throws Error as below.
int explain_record(const ExplainOptions& options);

struct WorthOptions {
  std::string record;
  StoreOptions store;
  std::string variant;        // empty = the best one
  std::string to;             // file for a rule; empty = none
  std::string form = "text";  // or "json": the rule
};

// From which size on to go parallel. Exit code 1 when nothing pays. Throws Error as below.
int tell_worth(const WorthOptions& options);

// Several runs as one page, in whatever order they come.
std::string history_page_of(const std::vector<NamedRecord>& records, bool scrubbed);

// Throws Error for a record or a form that cannot be used. Writes to standard output, or to the form's file.
int show_record(const ShowOptions& options);

}  // namespace antcrew::cli_layer
