#include "support/allocations.hpp"

#include <atomic>
#include <cstdlib>
#include <new>

namespace {
std::atomic<std::size_t> count{0};
}

std::size_t test::allocations() noexcept {
  return count;
}

void* operator new(std::size_t bytes) {
  ++count;
  if (void* memory = std::malloc(bytes == 0 ? 1 : bytes)) return memory;
  throw std::bad_alloc();
}

void operator delete(void* memory) noexcept {
  std::free(memory);
}

void operator delete(void* memory, std::size_t) noexcept {
  std::free(memory);
}

void* operator new(std::size_t bytes, const std::nothrow_t&) noexcept {
  ++count;
  return std::malloc(bytes == 0 ? 1 : bytes);
}

void operator delete(void* memory, const std::nothrow_t&) noexcept {
  std::free(memory);
}
