// Zeroed memory straight from the system, for tables: in huge pages where it is large enough and the machine grants
// them.
#pragma once

#include <cstddef>
#include <utility>

namespace antcrew::internal {

class ZeroedMemory {
 public:
  static constexpr std::size_t huge_page_bytes = 2 * 1024 * 1024;

  // Throws std::bad_alloc.
  explicit ZeroedMemory(std::size_t bytes);
  ~ZeroedMemory();
  ZeroedMemory(ZeroedMemory&& other) noexcept
      : data_(std::exchange(other.data_, nullptr)), bytes_(std::exchange(other.bytes_, 0)) {}
  ZeroedMemory& operator=(ZeroedMemory&&) = delete;

  void* data() const noexcept { return data_; }
  std::size_t bytes() const noexcept { return bytes_; }

 private:
  void* data_;
  std::size_t bytes_;
};

}  // namespace antcrew::internal
