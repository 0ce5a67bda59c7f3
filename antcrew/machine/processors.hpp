// Which processors a thread may use, and keeping it on some of them. The system may refuse all of it, in a sandbox for
// example: then sets are empty and calls say so.
//
// A pin belongs to whoever set it: own_processors() is what the calling thread may use without the pins of crews, and
// what threads that it starts get. Any thread may call these.
#pragma once

#include <array>
#include <bit>
#include <cstddef>
#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::internal {

class ProcessorSet {
 public:
  static constexpr int most = 4096;

  bool has(int processor) const noexcept {
    return processor >= 0 && processor < most && (word(processor) >> (processor % 64) & 1) != 0;
  }
  void add(int processor) noexcept {
    if (processor >= 0 && processor < most) word(processor) |= std::uint64_t{1} << (processor % 64);
  }
  void remove(int processor) noexcept {
    if (processor >= 0 && processor < most) word(processor) &= ~(std::uint64_t{1} << (processor % 64));
  }
  int count() const noexcept {
    int all = 0;
    for (const std::uint64_t bits : words) all += std::popcount(bits);
    return all;
  }
  bool empty() const noexcept { return count() == 0; }
  friend bool operator==(const ProcessorSet&, const ProcessorSet&) = default;

  std::array<std::uint64_t, most / 64> words{};

 private:
  std::uint64_t& word(int processor) noexcept { return words[static_cast<std::size_t>(processor / 64)]; }
  std::uint64_t word(int processor) const noexcept { return words[static_cast<std::size_t>(processor / 64)]; }
};

// thread: a kernel number (of a thread, or of a process of one thread); 0 = the calling one. False when refused.
bool read_processors(int thread, ProcessorSet& set) noexcept;
bool keep_on(int thread, const ProcessorSet& set) noexcept;

// A set that was read names only processors that are there at that time. One that names all of these is given back as
// one of all that may ever come (own_processors() sees to it where the kernel forgets); a thread whose set is still the
// one that it was given may have lost some of them since.
bool has_all_online(const ProcessorSet& set) noexcept;
bool give_back(const ProcessorSet& set, bool had_all) noexcept;  // to the calling thread
bool still(const ProcessorSet& given, const ProcessorSet& now) noexcept;

// The processor that the calling thread is on just now; -1 = unknown.
int current_processor() noexcept;

// Whether a hypervisor may take processors away; true where that is not known.
bool in_virtual_machine() noexcept;

// Empty when the system does not tell.
ProcessorSet own_processors() noexcept;

// For a thread that stays pinned: what own_processors() is to say in it. Must outlive the thread's use of it.
void remember_own_processors(const ProcessorSet* set) noexcept;

// Keeps the calling thread on one processor while it lives; then the thread has its processors back, unless somebody
// else has changed them meanwhile. Without a processor (-1) it does nothing.
class PinnedHere {
 public:
  explicit PinnedHere(int processor) noexcept {
    if (processor >= 0) [[unlikely]]
      pin(processor);
  }
  ~PinnedHere() {
    if (pinned_) [[unlikely]]
      let_go();
  }
  PinnedHere(const PinnedHere&) = delete;
  PinnedHere& operator=(const PinnedHere&) = delete;
  bool granted() const noexcept { return pinned_; }

 private:
  void pin(int processor) noexcept;
  void let_go() noexcept;

  bool pinned_ = false;
  bool outermost_ = false;
  bool had_all_ = false;
  int processor_ = -1;
  // Not touched where nothing is pinned: it would be the dearest part of an empty region.
  union {
    ProcessorSet before_;
  };
};

}  // namespace antcrew::internal
