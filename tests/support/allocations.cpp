#include "support/allocations.hpp"

#include <sched.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdint>
#include <cstdlib>
#include <new>

namespace {

std::atomic<std::size_t> count{0};
constexpr std::int64_t never = INT64_MAX;
std::atomic<std::int64_t> until_refusal{never};

// Blocks of the recycler: in storage of their own, so that whose a block is can be told by its address.
constexpr std::size_t block_bytes = 256;
constexpr std::size_t most_blocks = 4096;
alignas(std::max_align_t) unsigned char blocks[most_blocks * block_bytes];
std::atomic<bool> recycling{false};
std::atomic_flag blocks_held;
std::size_t blocks_used = 0;
std::size_t freed_count = 0;
void* freed[most_blocks];

struct BlocksHeld {
  BlocksHeld() noexcept {
    while (blocks_held.test_and_set(std::memory_order_acquire)) sched_yield();
  }
  ~BlocksHeld() { blocks_held.clear(std::memory_order_release); }
};

void* recycled(std::size_t bytes) noexcept {
  if (bytes > block_bytes || !recycling.load(std::memory_order_relaxed)) return nullptr;
  const BlocksHeld held;
  if (freed_count > 0) return freed[--freed_count];
  return blocks_used < most_blocks ? blocks + block_bytes * blocks_used++ : nullptr;
}

void release(void* memory) noexcept {
  const auto offset = reinterpret_cast<std::uintptr_t>(memory) - reinterpret_cast<std::uintptr_t>(blocks);
  if (offset >= sizeof blocks) return std::free(memory);
  const BlocksHeld held;
  freed[freed_count++] = memory;
}

bool refused_now() noexcept {
  return until_refusal.load(std::memory_order_relaxed) != never && until_refusal.fetch_sub(1) == 0;
}

void* allocated(std::size_t bytes, std::size_t alignment) noexcept {
  ++count;
  if (refused_now()) return nullptr;
  if (void* again = alignment == 0 ? recycled(bytes) : nullptr) return again;
  if (alignment <= alignof(std::max_align_t)) return std::malloc(bytes == 0 ? 1 : bytes);
  return std::aligned_alloc(alignment, (bytes + alignment - 1) / alignment * alignment);
}
void* or_throw(void* memory) {
  if (memory == nullptr) throw std::bad_alloc();
  return memory;
}

}  // namespace

std::size_t test::allocations() noexcept {
  return count;
}

test::Refusing::Refusing(std::size_t k) noexcept {
  until_refusal = static_cast<std::int64_t>(k);
}
test::Refusing::~Refusing() {
  until_refusal = never;
}
bool test::Refusing::refused() const noexcept {
  return until_refusal < 0;
}

test::Recycling::Recycling() noexcept {
  recycling = true;
}
test::Recycling::~Recycling() {
  recycling = false;
}

void* operator new(std::size_t bytes) {
  return or_throw(allocated(bytes, 0));
}
void* operator new(std::size_t bytes, std::align_val_t alignment) {
  return or_throw(allocated(bytes, static_cast<std::size_t>(alignment)));
}
void* operator new(std::size_t bytes, const std::nothrow_t&) noexcept {
  return allocated(bytes, 0);
}
void operator delete(void* memory) noexcept {
  release(memory);
}
void operator delete(void* memory, std::size_t) noexcept {
  release(memory);
}
void operator delete(void* memory, std::align_val_t) noexcept {
  release(memory);
}
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept {
  release(memory);
}
void operator delete(void* memory, const std::nothrow_t&) noexcept {
  release(memory);
}

// Memory straight from the system is refused like any other. Sanitizers have a mapping of their own, which must stay.
#if !defined(ANTCREW_SANITIZED) && defined(SYS_mmap)
extern "C" void* mmap(void* address, std::size_t bytes, int may, int kind, int file, off_t offset) noexcept {
  if (refused_now()) {
    errno = ENOMEM;
    return reinterpret_cast<void*>(-1);
  }
  return reinterpret_cast<void*>(::syscall(SYS_mmap, address, bytes, may, kind, file, offset));
}
#endif
