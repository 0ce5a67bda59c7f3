// What the parent and its worker processes both see: memory mapped before the fork.
//
// Invariants. A slot's facts are written by its worker only, and read by the parent when it has seen that the worker
// has ended its part (`ended`, acquire) or that its process is gone. The order is written by the parent before a region
// begins (the fork, or `region`, release) and by nobody during one, but for its counters.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <new>

#include "antcrew/base/range.hpp"
#include "antcrew/crew/crew_options.hpp"
#include "antcrew/crew/internal/handout.hpp"
#include "antcrew/crew/internal/processes/memory_file.hpp"
#include "antcrew/crew/transfer.hpp"
#include "antcrew/log/journal.hpp"
#include "antcrew/log/lanes.hpp"
#include "antcrew/machine/cache_line.hpp"
#include "antcrew/machine/wake_placement.hpp"

namespace antcrew::internal {

class WorkerSide;

constexpr std::size_t letter_room = 3072;

enum class Part { none, at_work, done, threw };

// A page each: one page fault in a forked worker.
struct alignas(page_bytes) WorkerSlot {
  std::atomic<std::uint32_t> ended{0};    // standing: the number of the last region whose part has ended
  std::atomic<std::uint32_t> parcels{0};  // standing: parcels begun to be sent, over all regions
  std::atomic<Part> part{Part::none};
  std::atomic<std::size_t> first{0};  // the range it holds
  std::atomic<std::size_t> last{0};
  std::atomic<bool> used_scratch{false};
  std::int64_t moved_ns = 0;  // since the crew began
  std::uint64_t moved_bytes = 0;
  std::size_t letter_bytes = 0;  // what it brings when that is short; 0 = nothing
  std::array<char, letter_room> letter{};
  std::array<char, 96> type{};  // of what it threw
  std::array<char, 640> text{};
};
static_assert(sizeof(WorkerSlot) == page_bytes);

// One region.
struct RegionOrder {
  void (*work)(WorkerSide& side) = nullptr;
  const void* closure = nullptr;  // of forked workers: in the parent's memory as it was
  std::size_t n = 0;
  std::size_t unit = 1;  // borders of pieces are at multiples of it
  Split split = Split::even();
  Way way = Way::copied;
  Journal* journal = nullptr;
  LaneBook* lanes = nullptr;
  std::uint32_t region = 0;           // by the number that the book has for it
  const Packer* arguments = nullptr;  // in the parent
  std::size_t argument_bytes = 0;     // of standing workers, in Board::arguments unless they came through the socket
  bool arguments_sent = false;
  bool only_letters = false;  // whatever comes back, it is short
};

constexpr std::size_t most_redone = 64;
constexpr std::size_t argument_room = 4096;

// What a worker needs in any case comes first: one page fault.
struct Board {
  alignas(line_bytes) std::atomic<std::uint32_t> region{0};
  RegionOrder order;
  std::atomic<bool> leaving{false};
  std::size_t redo_count = 0;
  alignas(line_bytes) std::atomic<std::uint32_t> events{0};  // goes up whenever a standing worker has news
  std::atomic<bool> parent_sleeps{false};
  alignas(line_bytes) std::atomic<bool> cancelled{false};
  alignas(line_bytes) std::atomic<std::size_t> redo_next{0};
  alignas(alignof(Handout)) std::array<std::byte, sizeof(Handout)> handout_room;
  std::array<Range, most_redone> redo{};
  std::array<char, argument_room> arguments{};

  Handout& handout() noexcept { return *std::launder(reinterpret_cast<Handout*>(handout_room.data())); }
};

// Board, slots and shares in one mapping.
class BoardMemory {
 public:
  explicit BoardMemory(int workers)
      : workers_(workers),
        slots_at_(whole_pages(sizeof(Board))),
        shares_at_(slots_at_ + sizeof(WorkerSlot) * count()),
        placements_at_(shares_at_ + sizeof(Share) * count()),
        mapping_(whole_pages(placements_at_ + sizeof(WakePlacement) * count())) {
    ::new (mapping_.address()) Board();
    for (std::size_t k = 0; k < count(); ++k) {
      ::new (at(slots_at_ + k * sizeof(WorkerSlot))) WorkerSlot();
      ::new (at(shares_at_ + k * sizeof(Share))) Share();
      ::new (at(placements_at_ + k * sizeof(WakePlacement))) WakePlacement();
    }
  }

  Board& board() noexcept { return *static_cast<Board*>(mapping_.address()); }
  WorkerSlot& slot(int worker) noexcept {
    return *std::launder(
        reinterpret_cast<WorkerSlot*>(at(slots_at_) + static_cast<std::size_t>(worker) * sizeof(WorkerSlot)));
  }
  Share* shares() noexcept { return std::launder(reinterpret_cast<Share*>(at(shares_at_))); }
  WakePlacement& placement(int worker) noexcept {
    return *std::launder(reinterpret_cast<WakePlacement*>(at(placements_at_) +
                                                          static_cast<std::size_t>(worker) * sizeof(WakePlacement)));
  }
  int workers() const noexcept { return workers_; }

 private:
  std::size_t count() const noexcept { return static_cast<std::size_t>(workers_); }
  char* at(std::size_t offset) noexcept { return static_cast<char*>(mapping_.address()) + offset; }

  int workers_;
  std::size_t slots_at_;
  std::size_t shares_at_;
  std::size_t placements_at_;
  Mapping mapping_;
};

}  // namespace antcrew::internal
