// How far apart two things must lie so that writing one does not take the other away from whoever reads it.
#pragma once

#include <cstddef>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

// Processors of this kind are built with lines of 64 bytes and of 128 bytes.
#if defined(__aarch64__)
inline constexpr std::size_t line_bytes = 128;
#else
inline constexpr std::size_t line_bytes = 64;
#endif

}  // namespace antcrew::internal
