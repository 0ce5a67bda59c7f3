// What a loop over items takes.
#pragma once

#include <iterator>
#include <type_traits>

namespace antcrew::internal {

// Anything with random access and a size: vectors, spans, arrays, columns.
template <class T>
concept Items = requires(T& items) {
  requires std::random_access_iterator<decltype(std::begin(items))>;
  std::size(items);
};

// What can only be gone through one after the other, as often as wanted: lists, maps, sets.
template <class T>
concept ForwardItems = !Items<T> && requires(T & items) {
  requires std::forward_iterator<decltype(std::begin(items))>;
  std::end(items);
};

// Items that lie where a reference can name them. Those of std::vector<bool> do not: neighbours share a word, and two
// workers that write neighbours would lose one of the two.
template <class At>
concept HasPlaces = std::is_reference_v<std::iter_reference_t<At>> ||
    std::is_same_v<std::remove_cvref_t<std::iter_reference_t<At>>, std::iter_value_t<At>>;

}  // namespace antcrew::internal
