// Reading counts that people type: sizes with a suffix, worker counts, lists of them.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>
#include <vector>

namespace antcrew {

// "250", "10k", "2M", "1G" (powers of 1000), "64Ki", "8Mi", "1Gi" (powers of 1024), "1e6", "10'000" or "10_000".
// Throws Error (units.count) naming `where` for anything else, for a fraction of one, and for more than 2^63.
std::size_t parse_count(std::string_view text, const std::string& where);

// Comma-separated counts. Throws as parse_count, and for an empty list or an empty item.
std::vector<std::size_t> parse_counts(std::string_view text, const std::string& where);

// "a, b, c"
std::string joined(const std::vector<std::string>& items, std::string_view separator = ", ");

}  // namespace antcrew
