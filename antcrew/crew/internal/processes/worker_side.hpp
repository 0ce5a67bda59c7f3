// A region as a worker process sees it: its pieces, and the way back for what it makes of them.
#pragma once

#include <array>
#include <cstddef>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <type_traits>
#include <vector>

#include "antcrew/crew/internal/fill.hpp"
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
  Raised enough() const noexcept { return Raised{board_.cancelled}; }

  // fn(Range) for this worker's pieces, until none is left or it is enough.
  template <class Fn>
  void pieces(Fn&& fn) {
    PieceLog log(lane_here);
    log_ = &log;
    auto units = [&](Range range) {
      held(Range{range.first * order().unit, std::min(range.last * order().unit, order().n)}, fn);
    };
    if (board_.redo_count == 0) {
      board_.handout().drain(worker_, enough(), units);
      return;
    }
    for (std::size_t k = 0; !board_.cancelled.load() && (k = board_.redo_next.fetch_add(1)) < board_.redo_count;)
      held(board_.redo[k], fn);
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
  template <class Fn>
  void held(Range range, Fn& fn) {
    slot_.first.store(range.first, std::memory_order_relaxed);
    slot_.last.store(range.last, std::memory_order_relaxed);
    fn(range);
    log_->ended(range.first, range.size());
  }
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
  PieceLog* log_ = nullptr;
  std::int64_t moving_ns_ = 0;
  std::map<std::uint64_t, std::shared_ptr<CommonMemory>> commons_;
};

// Elements on their way: T is made in place, so that it needs no default constructor. A few lie on the stack.
template <class T>
class ElementBuffer {
 public:
  explicit ElementBuffer(std::size_t room)
      : data_(room * sizeof(T) <= sizeof few_ ? reinterpret_cast<T*>(few_) : Column<T>::allocate(room)) {}
  ElementBuffer(const ElementBuffer&) = delete;
  ElementBuffer& operator=(const ElementBuffer&) = delete;
  ~ElementBuffer() {
    if (data_ != reinterpret_cast<T*>(few_)) Column<T>::release(data_);
  }
  T* data() noexcept { return data_; }

 private:
  alignas(alignof(T) < 16 ? 16 : alignof(T)) std::byte few_[512];
  T* data_;
};

// fn(i) for each of the worker's indices, sent while the next ones are made.
template <class T, class Fn>
void make_copied(WorkerSide& side, Fn& fn) {
  // More than all of them where they are few, so that those are sent at the end, in one.
  const std::size_t room = std::clamp<std::size_t>(WorkerSide::much / sizeof(T), 1, side.order().n + 1);
  ElementBuffer<T> buffer(room);
  std::size_t made = 0;
  const Raised enough = side.enough();
  side.pieces([&](Range piece) {
    for (std::size_t i = piece.first; i < piece.last && !enough();) {
      const std::size_t last = std::min(piece.last, i + (room - made));
      for (std::size_t k = i; k < last; ++k) ::new (static_cast<void*>(buffer.data() + made++)) T(fn(k));
      side.did({i, last});
      i = last;
      if (made < room && !side.has_much()) continue;
      side.packer().apart(buffer.data(), made * sizeof(T));
      side.flush();
      made = 0;
    }
  });
  side.finish_with(buffer.data(), made * sizeof(T));
}

// fn(i) where it is to lie, in a memory file of this worker's own that is as long as the whole: only the pages of its
// own indices ever exist. Elements are made in the cache and written from there: the kernel fills pages of a file twice
// as fast as a process can by touching them one by one.
template <class T, class Fn>
void make_in_file(WorkerSide& side, Fn& fn) {
  ElementBuffer<T> buffer(std::clamp<std::size_t>(WorkerSide::much / sizeof(T), 1, side.order().n));
  const std::size_t room = std::max<std::size_t>(WorkerSide::much / sizeof(T), 1);
  Descriptor file;
  const Raised enough = side.enough();
  side.pieces([&](Range piece) {
    if (!file.is_open()) file = new_memory_file(side.order().n * sizeof(T));
    for (std::size_t i = piece.first; i < piece.last && !enough();) {
      const std::size_t last = piece.last - i < room ? piece.last : i + room;
      for (std::size_t k = i; k < last; ++k) ::new (static_cast<void*>(buffer.data() + (k - i))) T(fn(k));
      write_at(file, i * sizeof(T), buffer.data(), (last - i) * sizeof(T));
      i = last;
    }
    side.did(piece);
  });
  if (file.is_open()) return side.finish_with(std::move(file), sizeof(T));
  side.finish();
}

// Values that are packed one by one; each stays until it has been sent.
template <class T, class Fn>
void make_packed(WorkerSide& side, Fn& fn) {
  std::deque<T> values;
  const bool in_parts = side.order().way == Way::copied;
  const Raised enough = side.enough();
  side.pieces([&](Range piece) {
    std::size_t first = piece.first;
    for (std::size_t i = piece.first; i < piece.last && !enough(); ++i) {
      side.packer().put(std::as_const(values.emplace_back(fn(i))));
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
    if (side.order().way == Way::handed_over) return make_in_file<T>(side, fn);
    make_copied<T>(side, fn);
  } else {
    make_packed<T>(side, fn);
  }
}

// fn(i) into memory that all have mapped.
template <class T, class Fn>
void fill_items(WorkerSide& side, T* all, Fn& fn) {
  const Raised enough = side.enough();
  side.pieces([&](Range piece) {
    in_blocks(piece, enough, [&](Range block) {
      for (std::size_t i = block.first; i < block.last; ++i) all[i] = fn(i);
    });
    side.did(piece);
  });
  side.finish();
}

}  // namespace antcrew::internal
