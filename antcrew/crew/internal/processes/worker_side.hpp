// A region as a worker process sees it: its pieces, and the way back for what it makes of them.
#pragma once

#include <array>
#include <cstddef>
#include <deque>
#include <memory>
#include <new>
#include <type_traits>
#include <utility>
#include <vector>

#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/piece_body.hpp"
#include "antcrew/crew/internal/processes/parcel.hpp"
#include "antcrew/crew/internal/processes/process_board.hpp"

namespace antcrew::internal {

// Ranges that are mostly few: a forked worker's first allocation costs it several page faults.
class RangeList {
 public:
  // Grows the last one where it can.
  void add(Range range);
  void clear() noexcept {
    count_ = 0;
    many_.clear();
  }
  std::size_t size() const noexcept { return many_.empty() ? count_ : many_.size(); }
  bool empty() const noexcept { return size() == 0; }
  const Range* data() const noexcept { return many_.empty() ? few_.data() : many_.data(); }

 private:
  std::array<Range, 8> few_{};
  std::size_t count_ = 0;
  std::vector<Range> many_;  // all of them, once there are more
};

class WorkerSide : private BlockSource {
 public:
  WorkerSide(BoardMemory& memory, int worker, int socket, bool standing)
      : board_(memory.board()), slot_(memory.slot(worker)), worker_(worker), socket_(socket), standing_(standing) {}

  // Does this worker's part of the region that the board orders, and notes how it went.
  void do_part() noexcept;

  const RegionOrder& order() const noexcept { return board_.order; }

  // Calls the body for this worker's pieces, until none is left or it is enough.
  void pieces(PieceBody body);
  template <class OnPiece>
  void pieces(OnPiece&& on_piece) requires(!std::is_same_v<std::decay_t<OnPiece>, PieceBody>) {
    pieces(piece_body(on_piece));
  }

  // What was put into the packer for these is complete. In ascending order within a piece.
  void did(Range range) {
    if (!range.empty()) ranges_.add(range);
  }
  Packer& packer() noexcept { return packer_; }
  // Sends what is there: between pieces when it has become much, and at the end.
  bool has_much() const noexcept { return packer_.bytes() + ranges_.size() * sizeof(Range) >= much; }
  void flush();
  void finish();
  // The same with these bytes besides.
  void finish_with(const void* elements, std::size_t bytes);
  // The same for elements in a memory file, each where it is to lie.
  void finish_with(Descriptor file, std::size_t element_bytes);

  // What a standing worker was given for this region.
  template <class Arguments>
  Arguments arguments() {
    Arguments values{};
    reading_ = true;
    std::vector<char> small = read_arguments();
    Unpacker(small.data(), small.size(), *this).get(values);
    reading_ = false;
    return values;
  }

  static constexpr std::size_t much = 256 * 1024;

 private:
  std::vector<char> read_arguments();
  void read(void* to, std::size_t bytes) override;
  std::shared_ptr<CommonMemory> common(std::uint64_t serial, std::size_t bytes) override;
  void announce() noexcept;
  void send_parcel(const ParcelHead& head, int file);
  void send_in_file();
  ParcelHead head_now() const noexcept;
  bool write_letter(const void* elements, std::size_t bytes);
  void note_exception() noexcept;

  Board& board_;
  WorkerSlot& slot_;
  int worker_;
  int socket_;
  bool standing_;
  bool sent_ = false;     // a parcel of this region
  bool reading_ = false;  // arguments, of which some may still be on their way
  RangeList ranges_;
  Packer packer_;
  std::int64_t moving_ns_ = 0;
  std::vector<std::shared_ptr<CommonMemory>> commons_;
};

// What makes plain elements one after the other, first to last - 1, at `to`, whatever their type.
struct ItemMaker {
  void (*make)(void* fn, std::size_t first, std::size_t last, void* to);
  void* fn;
  std::size_t item_bytes;
  std::size_t alignment;
};
template <class T, class Fn>
ItemMaker item_maker(Fn& fn) {
  return {[](void* its_fn, std::size_t first, std::size_t last, void* to) {
            Fn& make = object_at<Fn>(its_fn);
            for (std::size_t k = first; k < last; ++k)
              ::new (static_cast<void*>(static_cast<T*>(to) + (k - first))) T(make(k));
          },
          address_of(fn), sizeof(T), alignof(T)};
}

// The worker's elements, sent while the next ones are made.
void make_copied(WorkerSide& side, const ItemMaker& maker);
// The worker's elements where they are to lie, in a memory file of its own that is as long as the whole: only the pages
// of its own indices ever exist. Elements are made in the cache and written from there: the kernel fills pages of a
// file twice as fast as a process can by touching them one by one.
void make_in_file(WorkerSide& side, const ItemMaker& maker);

// Values that are packed one by one; each stays until it has been sent.
template <class T>
void make_packed(WorkerSide& side, T (*one)(void* fn, std::size_t i), void* fn) {
  std::deque<T> values;
  const bool in_parts = side.order().way == Way::copied;
  side.pieces([&](Range piece, const Enough& enough) {
    std::size_t first = piece.first;
    for (std::size_t i = piece.first; i < piece.last && !enough(); ++i) {
      side.packer().put(std::as_const(values.emplace_back(one(fn, i))));
      if (!in_parts || !side.has_much()) continue;
      side.did({first, i + 1});
      side.flush();
      values.clear();
      first = i + 1;
    }
    side.did({first, piece.last});
  });
  side.finish();
}

template <class T, class Fn>
void make_items(WorkerSide& side, Fn& fn) {
  if constexpr (Plain<T> && !PacksItself<T>) {
    if (side.order().way == Way::zero_copy) return make_in_file(side, item_maker<T>(fn));
    make_copied(side, item_maker<T>(fn));
  } else {
    make_packed<T>(
        side, [](void* its_fn, std::size_t i) -> T { return object_at<Fn>(its_fn)(i); }, address_of(fn));
  }
}

// fn(i) into memory that all have mapped.
template <class T, class Fn>
void fill_items(WorkerSide& side, T* all, Fn& fn) {
  side.pieces([&](Range piece, const Enough& enough) {
    in_blocks(piece, enough, [&](Range block) {
      for (std::size_t i = block.first; i < block.last; ++i) all[i] = fn(i);
    });
    side.did(piece);
  });
  side.finish();
}

}  // namespace antcrew::internal
