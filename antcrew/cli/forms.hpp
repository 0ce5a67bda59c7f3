// The forms a record can be shown in, by the name that --as takes.
#pragma once

#include <string>

#include "antcrew/base/layers.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::cli_layer {

// "table, json"
std::string form_names();

// Throws Error (cli.form) when there is no form of that name.
void check_form(const std::string& form);

// `width` in terminal columns; 0 = unlimited.
std::string rendered(const Record& record, const std::string& form, std::size_t width);

}  // namespace antcrew::cli_layer
