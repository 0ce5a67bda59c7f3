// What a loop over items takes.
#pragma once

#include <iterator>

namespace antcrew {

// Anything with random access and a size: vectors, spans, arrays, columns.
template <class T>
concept Items = requires(T& items) {
  requires std::random_access_iterator<decltype(std::begin(items))>;
  std::size(items);
};

}  // namespace antcrew
