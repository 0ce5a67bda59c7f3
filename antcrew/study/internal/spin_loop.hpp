// Whether a piece of machine code is a loop that only waits.
//
//   only_waits(code, 24)   // the instruction at code[24], with what stands around it
//
// Such a loop reads memory, compares, and jumps back: what it reads from stays the same, and it writes nothing that it
// reads again, so that only another thread can end it. Instructions beyond those few make it one that works. Pure.
#pragma once

#include <cstddef>
#include <span>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

bool only_waits_x86_64(std::span<const unsigned char> code, std::size_t at);
bool only_waits_aarch64(std::span<const unsigned char> code, std::size_t at);
// Of this machine's own instructions; false where they are not known.
bool only_waits(std::span<const unsigned char> code, std::size_t at);

}  // namespace antcrew::internal
