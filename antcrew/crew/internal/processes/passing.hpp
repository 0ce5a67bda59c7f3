// Blocks of bytes, and descriptors beside them, through a connected socket.
#pragma once

#include <cstdint>
#include <utility>
#include <vector>

#include "antcrew/crew/internal/processes/memory_file.hpp"
#include "antcrew/crew/transfer.hpp"

namespace antcrew::internal {

// Before a standing worker's arguments: arrays that it has not seen yet, arrays that are gone, then the values.
struct ArgumentHead {
  std::uint64_t arrays = 0;
  std::uint64_t gone = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
};
struct PassedArray {
  std::uint64_t serial = 0;
  std::uint64_t bytes = 0;
};

// Two connected ends. Throws Error (crew.start).
std::pair<Descriptor, Descriptor> socket_pair();

// Waits for room at a socket, and says whether to go on.
class Patience {
 public:
  virtual bool for_room(int socket) noexcept = 0;

 protected:
  ~Patience() = default;
};

// False when the other end is gone, or patience has an end. file: rides on the first byte; -1 = none.
bool send_blocks(int socket, const std::vector<Packer::Block>& blocks, int file = -1,
                 Patience* patience = nullptr) noexcept;
bool write_blocks(int file, const std::vector<Packer::Block>& blocks) noexcept;

// Waits for all of it; false when the other end is gone.
bool receive_blocking(int socket, void* to, std::size_t bytes, Descriptor* file) noexcept;
// What is there now: how much, 0 when nothing is, -1 when the other end is gone.
std::ptrdiff_t receive_some(int socket, void* to, std::size_t bytes, Descriptor* file) noexcept;

}  // namespace antcrew::internal
