// What a worker process sends its parent: ranges of indices and what was made for them.
//
// On the socket: a head, the ranges, the small values, the large blocks. A memory file may ride along. Short ones go as
// a letter on the board instead, in the same layout.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/internal/processes/memory_file.hpp"
#include "antcrew/crew/transfer.hpp"

namespace antcrew::internal {

struct ParcelHead {
  std::uint64_t ranges = 0;
  std::uint64_t small_bytes = 0;
  std::uint64_t large_bytes = 0;
  bool has_file = false;
  bool in_file = false;  // ranges and values are in the file, too
};

struct Parcel {
  std::vector<Range> ranges;
  std::vector<char> small;
  BlockSource* large = nullptr;
  Descriptor file;
};

// What is to be done with each parcel, in the parent.
class Sink {
 public:
  virtual ~Sink() = default;
  virtual void take(Parcel& parcel) = 0;
};

// Blocks that lie one after the other in memory.
class BlocksInMemory : public BlockSource {
 public:
  BlocksInMemory(const char* at, std::size_t bytes) : at_(at), left_(bytes) {}
  void read(void* to, std::size_t bytes) override;
  std::shared_ptr<CommonMemory> common(std::uint64_t serial, std::size_t bytes) override;

 private:
  const char* at_;
  std::size_t left_;
};

// Gives a sink what lies in memory in a parcel's layout.
void take_from_memory(const char* at, std::size_t bytes, Sink& sink);

[[noreturn]] void refuse_common_result();

}  // namespace antcrew::internal
