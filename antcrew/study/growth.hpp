// How a size grows with the workers under weak scaling: a user's function, whatever its type.
#pragma once

#include <cstddef>
#include <utility>

#include "antcrew/study/anything.hpp"
#include "antcrew/study/layer.hpp"

namespace antcrew::study_layer {

class Growth {
 public:
  Growth() = default;
  template <class Grow>
  explicit Growth(Grow grow)
      : grow_(anything(new Grow(std::move(grow)))), call_([](const void* its, std::size_t size, int workers) {
          return static_cast<std::size_t>((*static_cast<const Grow*>(its))(size, workers));
        }) {}

  explicit operator bool() const noexcept { return call_ != nullptr; }
  std::size_t operator()(std::size_t size, int workers) const { return call_(grow_.get(), size, workers); }

 private:
  Anything grow_;
  std::size_t (*call_)(const void* grow, std::size_t size, int workers) = nullptr;
};

}  // namespace antcrew::study_layer
