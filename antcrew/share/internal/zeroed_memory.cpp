#include "antcrew/share/internal/zeroed_memory.hpp"

#include <sys/mman.h>

#include <cstdint>
#include <new>

namespace antcrew::internal {

ZeroedMemory::ZeroedMemory(std::size_t bytes) : data_(nullptr), bytes_(bytes) {
  const bool huge = bytes >= huge_page_bytes;
  // A huge page must lie on a border of its size: map one more and give the ends back.
  const std::size_t mapped = huge ? bytes + huge_page_bytes : bytes;
  void* memory = ::mmap(nullptr, mapped, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
  if (memory == MAP_FAILED) throw std::bad_alloc();
  auto* start = static_cast<char*>(memory);
  if (huge) {
    const std::size_t past = reinterpret_cast<std::uintptr_t>(memory) % huge_page_bytes;
    const std::size_t before = past == 0 ? 0 : huge_page_bytes - past;
    const std::size_t pages = (bytes + 4095) / 4096 * 4096;
    if (before > 0) ::munmap(start, before);
    if (before + pages < mapped) ::munmap(start + before + pages, mapped - before - pages);
    start += before;
    ::madvise(start, bytes, MADV_HUGEPAGE);  // a wish: without it the table is right, only slower
  }
  data_ = start;
}

ZeroedMemory::~ZeroedMemory() {
  if (data_ != nullptr) ::munmap(data_, bytes_);
}

}  // namespace antcrew::internal
