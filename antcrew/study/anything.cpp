#include "antcrew/study/anything.hpp"

#include <atomic>

namespace antcrew::study_layer {

struct Anything::Held {
  const void* object;
  void (*destroy)(const void*);
  std::atomic<long> handles{1};
};

Anything Anything::of(const void* object, void (*destroy)(const void*)) {
  Anything made;
  try {
    made.held_ = new Held{object, destroy};
  } catch (...) {
    destroy(object);
    throw;
  }
  return made;
}

const void* Anything::get() const noexcept {
  return held_ == nullptr ? nullptr : held_->object;
}

void Anything::share() noexcept {
  held_->handles.fetch_add(1, std::memory_order_relaxed);
}

// Release and acquire: what was done through the other handles comes before the destruction.
void Anything::drop() noexcept {
  if (held_->handles.fetch_sub(1, std::memory_order_acq_rel) != 1) return;
  held_->destroy(held_->object);
  delete held_;
}

}  // namespace antcrew::study_layer
