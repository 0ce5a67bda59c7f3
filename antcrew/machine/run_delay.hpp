// How long the calling thread was ready to run and not running, as the kernel counts it.
#pragma once

#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

// Nanoseconds since the thread began; -1 where the kernel does not tell. Some 4 µs. Nothing stays open between calls,
// so that a program that closes all files is none the worse.
std::int64_t run_delay_ns() noexcept;
// Of another thread of this process, by the kernel's number.
std::int64_t run_delay_ns(std::uint32_t thread) noexcept;

// How often the calling thread has given up its processor of its own will. Some 0.3 µs.
std::int64_t own_switches() noexcept;

}  // namespace antcrew::internal
