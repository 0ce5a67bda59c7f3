// The smaller and the larger of two numbers, for headers that every program reads: <algorithm> takes long to compile.
#pragma once

namespace antcrew::internal {

template <class T>
constexpr T smaller_of(T a, T b) noexcept {
  return b < a ? b : a;
}
template <class T>
constexpr T larger_of(T a, T b) noexcept {
  return a < b ? b : a;
}

}  // namespace antcrew::internal
