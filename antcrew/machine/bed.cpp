#include "antcrew/machine/bed.hpp"

namespace antcrew::internal {

void Bed::take_out(const ProcessorSet& taken) noexcept {
  Room seen = Room::free;
  if (!room_.compare_exchange_strong(seen, Room::taking, std::memory_order_acquire)) return;
  const int thread = thread_.load(std::memory_order_relaxed);
  bool done = read_processors(thread, before_);
  if (done) {
    narrowed_ = before_;
    for (std::size_t k = 0; k < narrowed_.words.size(); ++k) narrowed_.words[k] &= ~taken.words[k];
    done = narrowed_ != before_ && !narrowed_.empty() && keep_on(thread, narrowed_);
  }
  room_.store(done ? Room::taken : Room::free, std::memory_order_release);
}

void Bed::restore() noexcept {
  ProcessorSet now;
  if (read_processors(0, now) && now == narrowed_) keep_on(0, before_);
  room_.store(Room::free, std::memory_order_release);
}

}  // namespace antcrew::internal
