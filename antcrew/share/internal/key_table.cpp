#include "antcrew/share/internal/key_table.hpp"

#include <cstring>

namespace antcrew::internal {

void* Slabs::take() {
  if (slabs_.empty() || next_ + bytes_each_ > slabs_.back().bytes()) {
    constexpr std::size_t first_bytes = 16 * 1024;
    const std::size_t bytes = slabs_.empty() ? first_bytes : 2 * slabs_.back().bytes();
    slabs_.emplace_back(std::min(bytes, ZeroedMemory::huge_page_bytes));
    next_ = 0;
  }
  void* taken = static_cast<char*>(slabs_.back().data()) + next_;
  next_ += bytes_each_;
  return taken;
}

void Slabs::begin_again() noexcept {
  while (slabs_.size() > 1) slabs_.pop_back();
  std::memset(slabs_.front().data(), 0, slabs_.front().bytes());
  next_ = 0;
}

}  // namespace antcrew::internal
