// A queue of limited length between workers: who fills it waits while it is full, who empties it while it is empty.
//
//   BoundedQueue<Sounding> soundings(256);
//   crew.on_each([&](int worker, Barrier&) {
//     if (worker == 0) { read_into(soundings); soundings.close(); return; }   // push(item)
//     while (auto next = soundings.pop()) chart(*next);                       // no value: closed and empty
//   });
//
// Any number of threads may push and pop at once; items come out in the order in which they went in. Waiting looks for
// some 25 µs and then sleeps. It takes a thread: in a body of a crew somebody else must be there to do the other side,
// so use it where all workers run at once (ThreadCrew::on_each) or try_push() and try_pop(). close() ends waiting; what
// is in it can still be taken out. Items move without throwing. Cost: some 20 ns each way when nobody waits.
//
// Each slot has a turn (after the bounded queue of Vyukov 2010): 2 * lap when it is to be filled for the lap-th time,
// 2 * lap + 1 when it is to be emptied. Invariant: a slot belongs to the one thread that moved the count past it, until
// that thread has set the slot's next turn, a release that the next one at the slot acquires.
#pragma once

#include <atomic>
#include <cassert>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <new>
#include <optional>
#include <type_traits>
#include <utility>

#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/parking.hpp"
#include "antcrew/machine/random_delays.hpp"

namespace antcrew {

template <class T>
class BoundedQueue {
  static_assert(std::is_nothrow_move_constructible_v<T>, "BoundedQueue: its items must move without throwing");

 public:
  // For so many items; 0 counts as 1. Throws std::bad_alloc.
  explicit BoundedQueue(std::size_t items) : size_(items == 0 ? 1 : items), slots_(std::make_unique<Slot[]>(size_)) {}
  // No thread may be in a call.
  ~BoundedQueue() {
    while (try_pop()) {
    }
  }
  BoundedQueue(const BoundedQueue&) = delete;
  BoundedQueue& operator=(const BoundedQueue&) = delete;

  // Waits for room. False when the queue was closed before there was any; the item is gone then.
  bool push(T item) {
    while (!try_push(item)) {
      if (closed()) return false;
      room_.wait([this] { return has_room() || closed(); });
    }
    return true;
  }
  // Waits for an item; none when the queue is closed and empty.
  std::optional<T> pop() {
    for (;;) {
      if (std::optional<T> item = try_pop()) return item;
      if (closed()) return try_pop();  // what went in before it was closed
      items_.wait([this] { return has_item() || closed(); });
    }
  }
  // False when it is full or closed; then the item is as it was.
  bool try_push(T& item) {
    if (closed()) return false;
    const std::optional<std::uint64_t> place = claim(in_, 0);
    if (!place) return false;
    Slot& slot = slots_[*place % size_];
    ::new (static_cast<void*>(slot.item)) T(std::move(item));
    internal::at_border();
    slot.turn.store(turn_of(*place) + 1, std::memory_order_seq_cst);
    items_.tell();
    return true;
  }
  bool try_push(T&& item) { return try_push(item); }
  std::optional<T> try_pop() {
    const std::optional<std::uint64_t> place = claim(out_, 1);
    if (!place) return {};
    Slot& slot = slots_[*place % size_];
    T* at = std::launder(reinterpret_cast<T*>(slot.item));
    std::optional<T> item(std::move(*at));
    at->~T();
    internal::at_border();
    slot.turn.store(turn_of(*place) + 2, std::memory_order_seq_cst);
    room_.tell();
    return item;
  }

  // No more goes in; whoever waits is told. A push() that is under way may still succeed.
  void close() noexcept {
    closed_.store(true, std::memory_order_seq_cst);
    room_.tell_all();
    items_.tell_all();
  }
  bool closed() const noexcept { return closed_.load(std::memory_order_seq_cst); }
  // About, since others go on meanwhile; never more than there is room for: the places that are counted were filled
  // before those that were emptied are looked at.
  std::size_t size() const noexcept {
    const std::uint64_t in = in_.load(std::memory_order_seq_cst);
    const std::uint64_t out = out_.load(std::memory_order_seq_cst);
    return in > out ? static_cast<std::size_t>(in - out) : 0;
  }
  std::size_t room() const noexcept { return size_; }

 private:
  struct Slot {
    std::atomic<std::uint64_t> turn{0};
    alignas(T) unsigned char item[sizeof(T)];
  };

  // Threads that sleep until something is told. Who tells makes it visible first and looks at the count afterwards, who
  // sleeps is counted first and looks afterwards, both sequentially consistent: one of the two sees the other.
  class alignas(internal::line_bytes) Sleepers {
   public:
    template <class Done>
    void wait(Done done) {
      if (internal::looked(done)) return;
      const std::uint32_t seen = word_.load(std::memory_order_seq_cst);
      count_.fetch_add(1, std::memory_order_seq_cst);
      if (!done()) internal::sleep_while(word_, seen);
      count_.fetch_sub(1, std::memory_order_relaxed);
    }
    void tell() noexcept {
      if (count_.load(std::memory_order_seq_cst) == 0) return;
      word_.fetch_add(1, std::memory_order_seq_cst);
      internal::wake_one(word_);
    }
    void tell_all() noexcept {
      word_.fetch_add(1, std::memory_order_seq_cst);
      internal::wake_all(word_);
    }

   private:
    std::atomic<std::uint32_t> word_{0};
    std::atomic<std::uint32_t> count_{0};
  };

  std::uint64_t turn_of(std::uint64_t place) const noexcept { return place / size_ * 2; }
  // The next place whose slot is at this turn; none when the one at the front is not, and nobody moved past it.
  std::optional<std::uint64_t> claim(std::atomic<std::uint64_t>& count, std::uint64_t turn) noexcept {
    std::uint64_t place = count.load(std::memory_order_relaxed);
    for (;;) {
      const std::uint64_t at = slots_[place % size_].turn.load(std::memory_order_acquire);
      if (at == turn_of(place) + turn) {
        internal::at_border();
        if (count.compare_exchange_weak(place, place + 1, std::memory_order_relaxed)) return place;
        continue;
      }
      const std::uint64_t now = count.load(std::memory_order_relaxed);
      if (now == place) return {};
      place = now;
    }
  }
  bool has_room() const noexcept { return is_at(in_, 0); }
  bool has_item() const noexcept { return is_at(out_, 1); }
  bool is_at(const std::atomic<std::uint64_t>& count, std::uint64_t turn) const noexcept {
    const std::uint64_t place = count.load(std::memory_order_seq_cst);
    return slots_[place % size_].turn.load(std::memory_order_seq_cst) == turn_of(place) + turn;
  }

  std::size_t size_;
  std::unique_ptr<Slot[]> slots_;
  std::atomic<bool> closed_{false};
  alignas(internal::line_bytes) std::atomic<std::uint64_t> in_{0};
  alignas(internal::line_bytes) std::atomic<std::uint64_t> out_{0};
  Sleepers room_;
  Sleepers items_;
};

}  // namespace antcrew
