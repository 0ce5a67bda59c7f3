// A loop's body as its crew sees it: one call through a pointer a piece, never one an item.
//
// So handing out, logging and metering are compiled once, in source files, and a body is compiled once for each loop
// that it is given to.
#pragma once

#include <type_traits>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"

namespace antcrew::internal {

// Refers to the body, which must outlive the call. What the body throws comes through.
struct PieceBody {
  void (*call)(void* self, Range range, const Enough& enough) = nullptr;
  void* self = nullptr;
  bool may_cut = false;  // calls for parts of a piece, one after the other, do the same as one for all of it

  // For a range that is not empty, handed out because it was not enough yet.
  void operator()(Range range, const Enough& enough) const {
    may_cut&& range.size() > 1 ? in_blocks(range, enough) : call(self, range, enough);
  }

 private:
  void in_blocks(Range range, const Enough& enough) const;
};

// The same for pieces that are not to be cut.
struct WholeBody {
  void (*call)(void* self, Range range, const Enough& enough);
  void* self;

  void operator()(Range range, const Enough& enough) const { call(self, range, enough); }
};

// A body's address for PieceBody::self, and the body again. It may be const, or a plain function.
template <class T>
void* address_of(T& body) noexcept {
  if constexpr (std::is_function_v<T>) {
    return reinterpret_cast<void*>(&body);
  } else {
    return const_cast<void*>(static_cast<const void*>(__builtin_addressof(body)));
  }
}
template <class T>
T& object_at(void* address) noexcept {
  if constexpr (std::is_function_v<T>) {
    return *reinterpret_cast<T*>(address);
  } else {
    return *static_cast<T*>(address);
  }
}

// One that is called as on_piece(range, enough).
template <class OnPiece>
PieceBody piece_body(OnPiece& on_piece, bool may_cut = false) noexcept {
  return {[](void* self, Range range, const Enough& enough) { object_at<OnPiece>(self)(range, enough); },
          address_of(on_piece), may_cut};
}

}  // namespace antcrew::internal
