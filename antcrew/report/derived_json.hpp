// An analysed study as JSON for programs: figures with their units in the field names.
#pragma once

#include <string>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// {"title", "machine", "warnings", "cells": [{"variant", "crew", "kind", "workers", "size", "verdict", "time_s", …}]}.
// A figure that does not exist for a cell is null.
std::string derived_json(const Analysed& study);

}  // namespace antcrew::report_layer
