// The states of a worker in words.
#pragma once

#include <string>

#include "antcrew/analysis/ledger.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

const char* words_for(LaneState state) noexcept;

// Lines of a ledger, the largest part first.
std::string parts_text(const LaneParts& parts, double lane_seconds, bool crew);

// The same as one bar of signs, work first, and what the signs of 5 % and more are.
std::string ledger_bar(const LaneParts& parts, double lane_seconds);

// "89 % running, 10 % idle at the join", of 5 % and more.
std::string ledger_shares(const LaneParts& parts, double lane_seconds);

}  // namespace antcrew::report_layer
