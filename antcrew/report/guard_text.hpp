// What a guard found: in words, as JSON, and as JUnit XML for systems that read it.
#pragma once

#include <string>
#include <vector>

#include "antcrew/analysis/guard.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

// against: the comparison that was used; null = none.
std::string guard_text(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs,
                       const Comparison* against);
std::string guard_json(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs);
std::string guard_junit(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs);

}  // namespace antcrew::report_layer
