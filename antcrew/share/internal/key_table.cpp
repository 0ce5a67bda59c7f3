#include "antcrew/share/internal/key_table.hpp"

#include <cstring>

namespace antcrew::internal {

void* Slabs::take() {
  if (slabs_.empty() || next_ + bytes_each_ > slabs_.back().bytes()) {
    constexpr std::size_t first_bytes = 16 * 1024;
    constexpr std::size_t page_bytes = 4096;
    // A quarter more each time, so that no more than that lies idle; then huge pages, one by one.
    const std::size_t more = std::max(first_bytes, bytes_ / 4 / page_bytes * page_bytes);
    slabs_.emplace_back(bytes_ < ZeroedMemory::huge_page_bytes ? more : ZeroedMemory::huge_page_bytes);
    bytes_ += slabs_.back().bytes();
    next_ = 0;
  }
  void* taken = static_cast<char*>(slabs_.back().data()) + next_;
  next_ += bytes_each_;
  return taken;
}

void Slabs::begin_again() noexcept {
  while (slabs_.size() > 1) slabs_.pop_back();
  std::memset(slabs_.front().data(), 0, slabs_.front().bytes());
  bytes_ = slabs_.front().bytes();
  next_ = 0;
}

}  // namespace antcrew::internal
