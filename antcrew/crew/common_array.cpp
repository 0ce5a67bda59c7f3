#include "antcrew/crew/common_array.hpp"

namespace antcrew::internal {
namespace {

constinit std::atomic<std::uint64_t> newest{0};
constexpr std::size_t worth_large_pages = 8u << 20;

Pages pages_for(std::size_t bytes) noexcept {
  return bytes >= worth_large_pages ? Pages::large : Pages::small;
}

}  // namespace

CommonMemory::CommonMemory(std::size_t bytes)
    : serial(newest.fetch_add(1) + 1), file(new_memory_file(bytes)), mapping(file, bytes, pages_for(bytes)) {}

CommonMemory::CommonMemory(Descriptor from, std::size_t bytes, std::uint64_t number)
    : serial(number), file(std::move(from)), mapping(file, bytes, pages_for(bytes)) {}

std::uint64_t newest_common_serial() noexcept {
  return newest.load();
}

}  // namespace antcrew::internal
