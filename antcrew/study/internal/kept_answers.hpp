// The answers of one trial, kept so that the compiler cannot drop the work and destroyed off the clock.
#pragma once

#include <cassert>
#include <cstddef>
#include <cstdint>
#include <new>
#include <utility>

#include "antcrew/base/owned.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/study/internal/returned_child.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

// The compiler must assume that the object is read and written here.
template <class T>
inline void keep_alive(T* object) noexcept {
  asm volatile("" : : "r"(object) : "memory");
}

// A pointer the compiler knows nothing about, so that a call on it is not hoisted out of a loop.
template <class T>
inline T* unknown(T* object) noexcept {
  asm volatile("" : "+r"(object) : : "memory");
  return object;
}

// Times call(copy) for `calls` copies that lie one after the other.
template <class Work, class Call>
std::int64_t timed_copies(Work* copy, std::size_t calls, Call&& call) {
  const int depth = fork_depth();
  const std::int64_t start = now_ns();
  for (Work* end = copy + calls; copy != end; ++copy) {
    call(*unknown(copy));
    keep_alive(copy);
    end_if_returned_child(depth);
  }
  return now_ns() - start;
}

template <class Answer>
class KeptAnswers {
 public:
  // Drops what was kept; the room for the next answers is touched here, not on the clock.
  void make_room(std::size_t calls) {
    drop();
    if (calls <= room_for_) return;
    room_ = OwnedArray<Slot>(calls);  // value-initialised, so its pages are there
    room_for_ = calls;
  }

  // Times `calls` calls. Room for the answers was made.
  template <class Call>
  std::int64_t timed(std::size_t calls, Call&& call) {
    assert(calls <= room_for_);
    Answer* next = reinterpret_cast<Answer*>(room_.get());
    const int depth = fork_depth();
    const std::int64_t start = now_ns();
    for (; kept_ < calls; ++kept_) {
      Answer* made = ::new (static_cast<void*>(next + kept_)) Answer(call());
      keep_alive(made);
      end_if_returned_child(depth);
    }
    return now_ns() - start;
  }

  std::size_t size() const noexcept { return kept_; }
  const Answer& operator[](std::size_t k) const noexcept { return reinterpret_cast<const Answer*>(room_.get())[k]; }

  Answer take_last() {
    assert(kept_ > 0);
    Answer last = std::move(reinterpret_cast<Answer*>(room_.get())[kept_ - 1]);
    drop();
    return last;
  }

  void drop() noexcept {
    destroy_items(reinterpret_cast<Answer*>(room_.get()), kept_);
    kept_ = 0;
  }

  KeptAnswers() = default;
  KeptAnswers(const KeptAnswers&) = delete;
  KeptAnswers& operator=(const KeptAnswers&) = delete;
  ~KeptAnswers() { drop(); }

 private:
  struct alignas(Answer) Slot {
    unsigned char bytes[sizeof(Answer)];
  };

  OwnedArray<Slot> room_;
  std::size_t room_for_ = 0;
  std::size_t kept_ = 0;
};

}  // namespace antcrew::internal
