// Small things the run loop is made of.
#pragma once

#include <cstdint>
#include <random>
#include <string>
#include <vector>

#include "antcrew/record/forward.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/outline.hpp"

namespace antcrew::internal {

// How often a round visits the baseline: once for six cells, three times at most.
std::size_t baseline_visits(std::size_t cells) noexcept;

// The cells of a round in random order, the baselines among them, spread over it.
std::vector<std::size_t> order_of_round(const std::vector<std::size_t>& baselines, std::vector<std::size_t> others,
                                        std::mt19937_64& random);

std::string utc_now();  // ISO 8601
// Between two of those; 0 where one cannot be read, or the clock was set back.
double seconds_from_to(const std::string& earlier, const std::string& later);

// 53 bits, never 0, so that every JSON reader keeps it whole.
std::uint64_t fresh_seed();
std::string fresh_run();  // for Record::run

// CPU time of this process and of all below it that has ended and was waited for.
double own_cpu_s();

Cell empty_cell(const VariantOutline& variant, int workers, std::size_t point);

}  // namespace antcrew::internal
