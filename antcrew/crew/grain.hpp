// How small a TaskCrew may cut a loop: a worker does so many indices in one go before it looks whether others are idle.
//
//   crew.each(n, [&](std::size_t i) { … }, {.grain = Grain{64}});
//
// A piece of some microseconds or more is a good one. Left out, it is a 16th of an even share.
#pragma once

#include <cstddef>

namespace antcrew {

struct Grain {
  std::size_t items = 0;  // 0 = chosen from n and the number of workers

  constexpr std::size_t of(std::size_t n, int workers) const noexcept {
    if (items > 0) return items;
    const std::size_t chosen = n / (16 * static_cast<std::size_t>(workers));
    return chosen > 0 ? chosen : 1;
  }
};

}  // namespace antcrew
