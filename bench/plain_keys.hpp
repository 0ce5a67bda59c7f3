// What KeySet and KeyMap are compared with: sequential open addressing with linear probing in one array, as one would
// write it by hand. Grows when it is 0.7 full; a multiplicative hash chooses the slot.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

namespace bench {

class PlainSet {
 public:
  bool insert(std::uint64_t key) {
    if (key == 0) return !std::exchange(zero_, true);
    std::size_t i = place(key);
    for (; slots_[i] != 0; i = (i + 1) & mask()) {
      if (slots_[i] == key) return false;
    }
    slots_[i] = key;
    if (++used_ * 10 > slots_.size() * 7) grow();
    return true;
  }
  std::size_t size() const { return used_ + (zero_ ? 1 : 0); }

 private:
  std::size_t mask() const { return slots_.size() - 1; }
  std::size_t place(std::uint64_t key) const {
    return (key * 0x9E37'79B9'7F4A'7C15u) >> (64 - static_cast<unsigned>(std::countr_zero(slots_.size())));
  }
  void grow() {
    std::vector<std::uint64_t> old(2 * slots_.size());
    old.swap(slots_);
    for (const std::uint64_t key : old) {
      if (key == 0) continue;
      std::size_t i = place(key);
      while (slots_[i] != 0) i = (i + 1) & mask();
      slots_[i] = key;
    }
  }

  std::vector<std::uint64_t> slots_ = std::vector<std::uint64_t>(16);
  std::size_t used_ = 0;
  bool zero_ = false;
};

}  // namespace bench
