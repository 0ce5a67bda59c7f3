// Merging up to four sorted sequences at once: one pass over the memory where merging in pairs needs two.
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <iterator>
#include <type_traits>
#include <utility>

namespace antcrew::internal {

inline constexpr std::size_t most_ways = 4;
// How many elements of each sequence.
using Ways = std::array<std::size_t, most_ways>;

template <class At>
struct Source {
  At first;
  At last;
  bool empty() const { return first == last; }
};
template <class At>
using Sources = std::array<Source<At>, most_ways>;

// How many elements of each sequence make up the first `rank` of the merge; equal ones of earlier sequences go first.
// Sequence k lies between borders[k] and borders[k + 1]. An element is among them when fewer than `rank` go before it,
// which is bisected for in each sequence.
template <class From, class Less>
Ways cut_ways(From from, const std::array<std::size_t, most_ways + 1>& borders, std::size_t rank, Less& less) {
  using Step = std::iter_difference_t<From>;
  const auto at = [&](std::size_t i) { return from + static_cast<Step>(i); };
  const auto before = [&](std::size_t way, std::size_t i) {
    std::size_t count = i - borders[way];
    for (std::size_t other = 0; other < most_ways; ++other) {
      if (other == way) continue;
      const auto first = at(borders[other]);
      const auto last = at(borders[other + 1]);
      const auto& element = *at(i);
      const auto place =
          other < way ? std::upper_bound(first, last, element, less) : std::lower_bound(first, last, element, less);
      count += static_cast<std::size_t>(place - first);
    }
    return count;
  };
  Ways cut{};
  for (std::size_t way = 0; way < most_ways; ++way) {
    std::size_t low = borders[way];
    std::size_t high = borders[way + 1];
    while (low < high) {
      const std::size_t middle = low + (high - low) / 2;
      if (before(way, middle) < rank) {
        low = middle + 1;
      } else {
        high = middle;
      }
    }
    cut[way] = low - borders[way];
  }
  return cut;
}

// Merges two to out, all of them moved; out holds objects already (or plain bytes). Returns the end of the output.
template <class In, class Out, class Less>
Out merge_two(Source<In> a, Source<In> b, Out out, Less& less) {
  while (!a.empty() && !b.empty()) {
    Source<In>& next = less(*b.first, *a.first) ? b : a;
    *out = std::move(*next.first);
    ++next.first;
    ++out;
  }
  return std::move(b.first, b.last, std::move(a.first, a.last, out));
}

// Small plain elements: without a branch on the comparison, which would be guessed wrong every other time on random
// data. Stops when one of the sequences or the room is at its end.
template <class T, class A, class B, class Out, class Less>
void merge_branchless(A& a, A a_end, B& b, B b_end, Out& out, Out out_end, Less& less) {
  while (a != a_end && b != b_end && out != out_end) {
    const T from_a = *a;
    const T from_b = *b;
    const bool second = less(from_b, from_a);
    *out = second ? from_b : from_a;
    b += second ? 1 : 0;
    a += second ? 0 : 1;
    ++out;
  }
}

// The merge of two, some hundred elements at a time, in the nearest cache.
template <class In, class Less>
class MergedPair {
  using T = std::iter_value_t<In>;

 public:
  MergedPair(Source<In> a, Source<In> b, Less& less) : a_(a), b_(b), less_(less) {}

  bool empty() {
    if (at == end) fill();
    return at == end;
  }
  T* at = nullptr;
  T* end = nullptr;

 private:
  void fill() {
    T* out = room_.data();
    T* const out_end = out + room_.size();
    merge_branchless<T>(a_.first, a_.last, b_.first, b_.last, out, out_end, less_);
    if (b_.empty()) copy(a_, out, out_end);
    if (a_.empty()) copy(b_, out, out_end);
    at = room_.data();
    end = out;
  }
  static void copy(Source<In>& from, T*& out, const T* out_end) {
    const auto count = std::min<std::ptrdiff_t>(from.last - from.first, out_end - out);
    out = std::copy_n(from.first, count, out);
    from.first += count;
  }

  Source<In> a_;
  Source<In> b_;
  Less& less_;
  std::array<T, 512> room_;
};

template <class In, class Out, class Less>
void merge_small(const Sources<In>& in, Out out, Less& less) {
  using T = std::iter_value_t<In>;
  MergedPair<In, Less> lower(in[0], in[1], less);
  MergedPair<In, Less> upper(in[2], in[3], less);
  const auto step = [](std::ptrdiff_t n) { return static_cast<std::iter_difference_t<Out>>(n); };
  while (!lower.empty() && !upper.empty()) {
    // As many as both have at hand: the output's end is out of reach until then.
    const Out far = out + step((lower.end - lower.at) + (upper.end - upper.at));
    merge_branchless<T>(lower.at, lower.end, upper.at, upper.end, out, far, less);
  }
  for (MergedPair<In, Less>* rest : {&lower, &upper}) {
    while (!rest->empty()) {
      out = std::copy(rest->at, rest->end, out);
      rest->at = rest->end;
    }
  }
}

// Larger elements: each is moved once. The head of each pair is known; two comparisons an element.
template <class In, class Out, class Less>
void merge_large(Sources<In> in, Out out, Less& less) {
  const auto head_of = [&](std::size_t a, std::size_t b) {
    if (in[a].empty()) return b;
    return !in[b].empty() && less(*in[b].first, *in[a].first) ? b : a;
  };
  std::size_t lower = head_of(0, 1);
  std::size_t upper = head_of(2, 3);
  while (!in[lower].empty() && !in[upper].empty()) {
    const bool second = less(*in[upper].first, *in[lower].first);
    Source<In>& next = in[second ? upper : lower];
    *out = std::move(*next.first);
    ++next.first;
    ++out;
    (second ? upper : lower) = second ? head_of(2, 3) : head_of(0, 1);
  }
  out = merge_two(in[0], in[1], out, less);
  merge_two(in[2], in[3], out, less);
}

template <class In, class Out, class Less>
void merge_ways(const Sources<In>& in, Out out, Less& less) {
  using T = std::iter_value_t<In>;
  if constexpr (std::is_trivially_copyable_v<T> && std::is_default_constructible_v<T> && sizeof(T) <= 16) {
    merge_small(in, out, less);
  } else if (in[2].empty() && in[3].empty()) {
    merge_two(in[0], in[1], out, less);
  } else {
    merge_large(in, out, less);
  }
}

}  // namespace antcrew::internal
