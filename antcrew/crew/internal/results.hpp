// What loops that give results agree on.
#pragma once

#include <cstddef>

#include "antcrew/base/enough.hpp"

namespace antcrew::internal {

// Half a result is none: throws Error (crew.stopped) when the stop was asked for, also when that came after the last
// piece, which nobody could tell. `loop` names the call.
void refuse_half(const AnyStopToken& stop, const char* loop);
// The same where it is known how many of n were done.
void refuse_half(std::size_t done, std::size_t n, const char* loop);

}  // namespace antcrew::internal
