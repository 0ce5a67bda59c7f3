#include "antcrew/machine/wake_placement.hpp"

#include "antcrew/machine/parking.hpp"

namespace antcrew::internal {

void WakePlacement::take_out(const ProcessorSet& taken) noexcept {
  Room seen = Room::free;
  if (!room_.compare_exchange_strong(seen, Room::taking, std::memory_order_seq_cst)) return;
  // Whoever lies there now, and cannot leave before this is over.
  const bool lies = slept_on_.load(std::memory_order_seq_cst) >= 0;
  const int thread = thread_.load(std::memory_order_relaxed);
  bool done = lies && read_processors(thread, before_);
  if (done) {
    had_all_ = has_all_online(before_);
    narrowed_ = before_;
    for (std::size_t k = 0; k < narrowed_.words.size(); ++k) narrowed_.words[k] &= ~taken.words[k];
    done = narrowed_ != before_ && !narrowed_.empty() && keep_on(thread, narrowed_);
  }
  room_.store(done ? Room::taken : Room::free, std::memory_order_release);
}

// A waker in another process may have been killed in the middle: after a while nobody is waited for.
void WakePlacement::put_back() noexcept {
  for (int look = 0; room_.load(std::memory_order_acquire) == Room::taking && look < 100'000; ++look) {
    relax();
    if (look % 64 == 63) give_way();
  }
  if (room_.load(std::memory_order_acquire) != Room::taken) return;
  ProcessorSet now;
  if (read_processors(0, now) && still(narrowed_, now)) give_back(before_, had_all_);
  room_.store(Room::free, std::memory_order_release);
}

}  // namespace antcrew::internal
