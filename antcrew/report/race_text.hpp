// What a search for races found, for people.
#pragma once

#include <string>

#include "antcrew/report/layer.hpp"
#include "antcrew/study/find_races.hpp"

namespace antcrew::report_layer {

std::string race_text(const RaceReport& report, std::size_t width);
std::string race_json(const RaceReport& report);

}  // namespace antcrew::report_layer
