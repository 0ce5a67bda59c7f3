// A value for each worker of a loop, made when the worker takes its first piece.
#pragma once

#include <cstddef>
#include <optional>

#include "antcrew/base/owned.hpp"
#include "antcrew/crew/worker.hpp"
#include "antcrew/machine/cache_line.hpp"

namespace antcrew::internal {

// By the worker's number, which is unique and below `workers` within a call.
template <class Value>
class Scratch {
 public:
  explicit Scratch(int workers) : slots_(static_cast<std::size_t>(workers)) {}

  template <class Make>
  Value& mine(Make& make) {
    std::optional<Value>& value = slots_[static_cast<std::size_t>(this_worker())].value;
    if (!value) [[unlikely]]
      value.emplace(make());
    return *value;
  }

 private:
  struct alignas(line_bytes) Slot {
    std::optional<Value> value;
  };
  OwnedArray<Slot> slots_;
};

}  // namespace antcrew::internal
