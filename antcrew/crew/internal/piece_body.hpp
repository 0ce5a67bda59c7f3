// A loop's body as its crew sees it: one call through a pointer a piece, never one an item.
//
// So handing out, logging and metering are compiled once, in source files, and a body is compiled once for each loop
// that it is given to.
#pragma once

#include <cstddef>
#include <cstdint>
#include <type_traits>

#include "antcrew/base/enough.hpp"
#include "antcrew/base/range.hpp"
#include "antcrew/machine/clock.hpp"

namespace antcrew::internal {

// Refers to the body, which must outlive the call. What the body throws comes through.
struct PieceBody {
  void (*call)(void* self, Range range, const Enough& enough) = nullptr;
  void* self = nullptr;
  bool may_cut = false;        // calls for parts of a piece, one after the other, do the same as one for all of it
  bool perhaps_small = false;  // the first pieces are tried by the caller alone, see Alone
  bool only_first = false;     // and no more than these are done; all of them where one worker does all anyway
  std::uint16_t at_first = 1;  // so many of them before the clock is read: of work known to be little
  bool may_leave_out = false;  // the body looks itself whether it is enough, in the middle of a piece

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

// The first pieces of steps that may be too small to be shared: the caller does them alone.
class Alone {
 public:
  // Pieces of up to so many items are shared out at once: they may all wait for something.
  static constexpr std::size_t most_shared = 64;

  // How many of n pieces were done before it was enough, or what is left looked to be worth waking the workers for.
  static std::size_t pieces(std::size_t n, int workers, const Enough& enough, const PieceBody& body) {
    const std::int64_t worth_waking_ns = 20'000 + std::int64_t{3'000} * workers;
    const std::int64_t start_ns = now_ns();
    std::size_t done = 0;
    while (done < n && !enough()) {
      const std::size_t at_once = done == 0               ? body.at_first
                                  : enough.may_be_asked() ? 1
                                  : done < most_at_once   ? done
                                                          : most_at_once;
      const std::size_t first = done;
      done = n - done < at_once ? n : done + at_once;
      body.call(body.self, {first, done}, enough);
      const std::int64_t took_ns = now_ns() - start_ns;
      if (took_ns >= least_ns &&
          took_ns / static_cast<std::int64_t>(done) * static_cast<std::int64_t>(n - done) > worth_waking_ns)
        break;
    }
    return done;
  }

 private:
  static constexpr std::int64_t least_ns = 5'000;  // of less nothing can be foretold
  static constexpr std::size_t most_at_once = 8;   // since the clock takes as long as some pieces
};

// The rest of a body's pieces, after the first.
struct RestOfPieces {
  const PieceBody& body;
  std::size_t first;
  void operator()(Range range, const Enough& enough) const { body({first + range.first, first + range.last}, enough); }
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
PieceBody piece_body(OnPiece& on_piece, bool may_cut = false, bool may_leave_out = false) noexcept {
  PieceBody body{[](void* self, Range range, const Enough& enough) { object_at<OnPiece>(self)(range, enough); },
                 address_of(on_piece), may_cut};
  body.may_leave_out = may_leave_out;
  return body;
}

}  // namespace antcrew::internal
