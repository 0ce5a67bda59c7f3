// Memory that has a descriptor, so that several processes can map it: what goes between them without being copied.
#pragma once

#include <cstddef>
#include <utility>

namespace antcrew::internal {

// A descriptor that is closed at the end.
class Descriptor {
 public:
  Descriptor() = default;
  explicit Descriptor(int number) noexcept : number_(number) {}
  Descriptor(Descriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    std::swap(number_, other.number_);
    return *this;
  }
  ~Descriptor() { close(); }

  int get() const noexcept { return number_; }
  bool is_open() const noexcept { return number_ >= 0; }
  void close() noexcept;

 private:
  int number_ = -1;
};

// Whether the pages of a mapping may be large ones: faster to fill, but a large page is taken as a whole.
enum class Pages { small, large };
enum class Access { read, write };

inline constexpr std::size_t page_bytes = 4096;
inline constexpr std::size_t whole_pages(std::size_t bytes) noexcept {
  return (bytes + page_bytes - 1) / page_bytes * page_bytes;
}

// Whether this system grants files in memory that can be sealed.
bool files_can_be_sealed() noexcept;
// A new file of zeroes in memory; where the system refuses that, one without a name. Throws Error (crew.memory).
Descriptor new_memory_file(std::size_t bytes);
// Throws std::bad_alloc when there is no memory left for it.
void write_at(const Descriptor& file, std::size_t offset, const void* from, std::size_t bytes);
// From here on nobody can change it: neither its length nor, as no shared mapping may be left, its content.
bool seal(const Descriptor& file) noexcept;

// A mapping, undone at the end. Throws Error (crew.memory).
class Mapping {
 public:
  Mapping() = default;
  // Shared with all that map the file.
  Mapping(const Descriptor& file, std::size_t bytes, Pages pages, Access access = Access::write);
  // Shared with processes forked from now on.
  explicit Mapping(std::size_t bytes);
  Mapping(Mapping&& other) noexcept
      : address_(std::exchange(other.address_, nullptr)), bytes_(std::exchange(other.bytes_, 0)) {}
  Mapping& operator=(Mapping&& other) noexcept {
    std::swap(address_, other.address_);
    std::swap(bytes_, other.bytes_);
    return *this;
  }
  ~Mapping();

  void* address() const noexcept { return address_; }
  std::size_t bytes() const noexcept { return bytes_; }

 private:
  void* address_ = nullptr;
  std::size_t bytes_ = 0;
};

// One stretch of addresses that parts of several sealed files are put into. Whoever writes there changes a copy.
class Assembly {
 public:
  explicit Assembly(std::size_t bytes);
  Assembly(const Assembly&) = delete;
  Assembly& operator=(const Assembly&) = delete;
  ~Assembly();

  // first: a multiple of page_bytes; the part lies in the file where it is to lie here.
  void put(const Descriptor& file, std::size_t first, std::size_t last);
  // The stretch is the caller's from now on, to be given to unmap().
  void* release() noexcept { return std::exchange(address_, nullptr); }

 private:
  void* address_;
  std::size_t bytes_;
};
void unmap(void* address, std::size_t bytes) noexcept;

}  // namespace antcrew::internal
