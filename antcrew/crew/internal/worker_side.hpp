// A region as a worker process sees it: its pieces, and the way back for what it makes of them.
#pragma once

#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <type_traits>
#include <vector>

#include "antcrew/crew/internal/fill.hpp"
#include "antcrew/crew/internal/parcel.hpp"
#include "antcrew/crew/internal/process_board.hpp"

namespace antcrew::internal {

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
  void did(Range range);
  Packer& packer() noexcept { return packer_; }
  // Sends what is there: between pieces when it has become much, and at the end.
  bool has_much() const noexcept { return packer_.bytes() + ranges_.size() * sizeof(Range) >= much; }
  void flush();
  void finish();
  // The same for elements in a memory file, each where it is to lie.
  void finish_with(Mapping elements, Descriptor file);

  // What a standing worker was given for this region.
  template <class Arguments>
  Arguments arguments() {
    Arguments values{};
    std::vector<char> small = read_arguments();
    Unpacker(small.data(), small.size(), *this).get(values);
    return values;
  }

  static constexpr std::size_t much = 256 * 1024;

 private:
  template <class Fn>
  void held(Range range, Fn& fn) {
    slot_.first.store(range.first, std::memory_order_relaxed);
    slot_.last.store(range.last, std::memory_order_relaxed);
    fn(range);
  }
  std::vector<char> read_arguments();
  void read(void* to, std::size_t bytes) override;
  std::shared_ptr<CommonMemory> common(std::uint64_t serial, std::size_t bytes) override;
  void announce() noexcept;
  void send_parcel(const ParcelHead& head, int file);
  void send_in_file();
  bool write_letter(const ParcelHead& head);
  void note_exception() noexcept;

  Board& board_;
  WorkerSlot& slot_;
  int worker_;
  int socket_;
  bool standing_;
  bool sent_ = false;  // a parcel of this region
  std::vector<Range> ranges_;
  Packer packer_;
  std::int64_t moving_ns_ = 0;
  std::map<std::uint64_t, std::shared_ptr<CommonMemory>> commons_;
};

// Elements on their way: T is made in place, so that it needs no default constructor.
template <class T>
class ElementBuffer {
 public:
  explicit ElementBuffer(std::size_t room) : data_(Column<T>::allocate(room)) {}
  ElementBuffer(const ElementBuffer&) = delete;
  ElementBuffer& operator=(const ElementBuffer&) = delete;
  ~ElementBuffer() { Column<T>::release(data_); }
  T* data() noexcept { return data_; }

 private:
  T* data_;
};

// fn(i) for each of the worker's indices, sent while the next ones are made.
template <class T, class Fn>
void make_copied(WorkerSide& side, Fn& fn) {
  const std::size_t room = std::clamp<std::size_t>(WorkerSide::much / sizeof(T), 1, side.order().n);
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
  if (made > 0) side.packer().apart(buffer.data(), made * sizeof(T));
  side.finish();
}

// fn(i) where it is to lie, in a memory file of this worker's own that is as long as the whole: only the pages of its
// own indices are ever touched.
template <class T, class Fn>
void make_in_file(WorkerSide& side, Fn& fn) {
  const std::size_t bytes = side.order().n * sizeof(T);
  const bool even = side.order().split.kind() == Split::Kind::even;
  std::optional<Descriptor> file;
  Mapping elements;
  const Raised enough = side.enough();
  side.pieces([&](Range piece) {
    if (!file) {
      file.emplace(new_memory_file(bytes));
      elements = Mapping(*file, bytes, even ? Pages::large : Pages::small);
    }
    T* all = static_cast<T*>(elements.address());
    in_blocks(piece, enough, [&](Range block) {
      for (std::size_t i = block.first; i < block.last; ++i) ::new (static_cast<void*>(all + i)) T(fn(i));
    });
    side.did(piece);
  });
  if (file) return side.finish_with(std::move(elements), std::move(*file));
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
