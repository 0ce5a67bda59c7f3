// An analysed study as JSON for programs: figures with their units in the field names.
#pragma once

#include <string>

#include "antcrew/analysis/analysed.hpp"

namespace antcrew {

// {"title", "machine", "warnings", "cells": [{"variant", "crew", "kind", "workers", "size", "verdict", "time_s", …}]}.
// A figure that does not exist for a cell is null.
std::string derived_json(const Analysed& study);

}  // namespace antcrew
