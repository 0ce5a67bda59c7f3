// Reading counts that people type, and writing times and sizes the way they read them.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "antcrew/base/layer.hpp"

namespace antcrew::base_layer {

// "250", "10k", "2M", "1G" (powers of 1000), "64Ki", "8Mi", "1Gi" (powers of 1024), "1e6", "10'000" or "10_000".
// Throws Error (units.count) naming `where` for anything else, for a fraction of one, and for more than 2^63.
std::size_t parse_count(std::string_view text, const std::string& where);

// Comma-separated counts. Throws as parse_count, and for an empty list or an empty item.
std::vector<std::size_t> parse_counts(std::string_view text, const std::string& where);

// "a, b, c"
std::string joined(const std::vector<std::string>& items, std::string_view separator = ", ");

// "1.23 ms", "45.6 µs", "12.0 s": three significant digits. Negative times keep their sign.
std::string duration_text(double seconds);
// "35.8 MiB", "unlimited" for 0.
std::string bytes_text(std::uint64_t bytes);

// The unit that a time is best written in: value = seconds × factor.
struct TimeUnit {
  double factor;
  const char* name;
};
TimeUnit time_unit_for(double seconds);
// Decimals that leave three significant digits.
int decimals_for(double value);

}  // namespace antcrew::base_layer
