// The forms a record can be shown in, by the name that --as takes.
#pragma once

#include <string>

#include "antcrew/base/layers.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {

// "table, json"
std::string form_names();

// Throws Error (cli.form) when there is no form of that name.
void check_form(const std::string& form);

std::string rendered(const Record& record, const std::string& form, const Look& look);

}  // namespace antcrew::cli_layer
