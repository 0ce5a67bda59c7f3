// An object of a type that only a study knows: an input, a reference answer, a body. Counted, and destroyed with the
// last handle; any thread may copy and drop its own handle. (std::shared_ptr would do; but every study would compile
// <memory>, which in g++ includes <ostream>.)
#pragma once

#include <utility>

#include "antcrew/study/layer.hpp"

namespace antcrew::study_layer {

class Anything {
 public:
  Anything() = default;
  Anything(const Anything& other) noexcept : held_(other.held_) {
    if (held_ != nullptr) share();
  }
  Anything(Anything&& other) noexcept : held_(std::exchange(other.held_, nullptr)) {}
  Anything& operator=(Anything other) noexcept {
    std::swap(held_, other.held_);
    return *this;
  }
  ~Anything() {
    if (held_ != nullptr) drop();
  }

  // Takes over an object; `destroy` is called once, also when there is no memory for the handle.
  static Anything of(const void* object, void (*destroy)(const void*));

  const void* get() const noexcept;
  explicit operator bool() const noexcept { return held_ != nullptr; }
  void reset() noexcept { *this = Anything(); }

 private:
  struct Held;
  void share() noexcept;
  void drop() noexcept;
  Held* held_ = nullptr;
};

template <class T>
Anything anything(T* object) {
  return Anything::of(object, [](const void* it) { delete static_cast<const T*>(it); });
}

}  // namespace antcrew::study_layer
