// Small things the run loop is made of.
#pragma once

#include <cstdint>
#include <random>
#include <string>
#include <vector>

#include "antcrew/study/study_base.hpp"

namespace antcrew::internal {

inline constexpr std::size_t baseline_visits = 3;  // in each round, spread over it

// The cells of a round in random order, the baseline baseline_visits times among them.
std::vector<std::size_t> order_of_round(std::size_t baseline, std::vector<std::size_t> others, std::mt19937_64& random);

std::string utc_now();  // ISO 8601

// 53 bits, never 0, so that every JSON reader keeps it whole.
std::uint64_t fresh_seed();

// CPU time of this process and of all below it that has ended and was waited for.
double own_cpu_s();

Cell empty_cell(const VariantDefinition& variant, int workers, std::size_t point);

}  // namespace antcrew::internal
