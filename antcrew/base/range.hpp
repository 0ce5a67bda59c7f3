// A half-open stretch of indices, first to last - 1. What a loop of a crew hands to its body.
//
//   for (std::size_t i : range) out[i] = f(in[i]);
#pragma once

#include <cstddef>
#include <cstdint>

namespace antcrew {

struct Range {
  std::size_t first = 0;
  std::size_t last = 0;  // one past the end

  constexpr std::size_t size() const noexcept { return last - first; }
  constexpr bool empty() const noexcept { return first == last; }

  struct iterator {
    std::size_t at;
    constexpr std::size_t operator*() const noexcept { return at; }
    constexpr iterator& operator++() noexcept {
      ++at;
      return *this;
    }
    constexpr bool operator!=(const iterator& other) const noexcept { return at != other.at; }
  };
  constexpr iterator begin() const noexcept { return {first}; }
  constexpr iterator end() const noexcept { return {last}; }

  friend constexpr bool operator==(const Range&, const Range&) = default;
};

// `parts` nearly equal ranges of 0 … n-1, by their numbers; the first n % parts of them are one longer.
class EvenParts {
 public:
  constexpr EvenParts(std::size_t n, std::size_t parts) noexcept : size_(0), longer_(0) {
    if (parts == 0) return;
    if ((n | parts) >> 32 == 0) {  // four times as fast on many processors
      const auto few = static_cast<std::uint32_t>(parts);
      size_ = static_cast<std::uint32_t>(n) / few;
      longer_ = static_cast<std::uint32_t>(n) % few;
    } else {
      size_ = n / parts;
      longer_ = n % parts;
    }
  }
  constexpr Range operator[](std::size_t k) const noexcept {
    const std::size_t first = k * size_ + (k < longer_ ? k : longer_);
    return {first, first + size_ + (k < longer_ ? 1 : 0)};
  }

 private:
  std::size_t size_;
  std::size_t longer_;
};
constexpr Range even_part(std::size_t n, std::size_t parts, std::size_t k) noexcept {
  return EvenParts(n, parts)[k];
}

}  // namespace antcrew
