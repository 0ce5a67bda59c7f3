// How much memory this process and those below it hold together, looked at again and again while they work.
//
//   TreeMemory watch;
//   work();
//   std::uint64_t at_least = watch.peak_bytes();
//
// The sum of this process's resident memory and of what each process below it has to itself: pages that a fork made
// shared count once. A lower bound: what lies between two looks, and what children share among themselves only, is not
// seen. One look costs from 0.1 ms to some milliseconds for a gigabyte; a thread of its own takes them, so this is for
// untimed work only.
#pragma once

#include <cstdint>
#include <memory>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

class TreeMemory {
 public:
  TreeMemory();
  ~TreeMemory();
  TreeMemory(const TreeMemory&) = delete;
  TreeMemory& operator=(const TreeMemory&) = delete;

  std::uint64_t peak_bytes() const noexcept;
  // Those that met a process below this one.
  int looks() const noexcept;

 private:
  class Watcher;
  std::unique_ptr<Watcher> watcher_;
};

// As of now: resident and nobody else's. 0 = the process is gone.
std::uint64_t private_bytes_of(int process);

}  // namespace antcrew::machine_layer
