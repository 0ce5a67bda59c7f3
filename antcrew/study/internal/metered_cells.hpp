// Which cells of a block are called with a log of what their workers do.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/study/internal/block_run.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// Places in `block`: the baseline first, then those that are sound so far and have no ledger yet, the cheapest first.
// What writes down nothing is looked at from outside: whether that is so of a crew of this name.
bool works_without_a_crew(const std::string& crew, int workers);
// What looking usually takes, beyond the calls themselves; four times that at most. And what launching ranks does, with
// measuring the links between their hosts.
inline constexpr double looking_s = 0.7;
inline constexpr double launching_s = 1.2;
double beside_calls_s(const std::string& crew, int workers);

std::vector<std::size_t> cells_to_meter(const Record& record, const std::vector<Running>& block, Metering which);

}  // namespace antcrew::internal
