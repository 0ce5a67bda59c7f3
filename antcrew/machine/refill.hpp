// How fast this machine reads memory that is in no cache, and how long filling the caches again takes by that.
#pragma once

#include <cstdint>

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

// Bytes a second of one thread reading in order, measured at the first call of a process (some milliseconds), then
// known. Any thread may call it.
double read_speed();
// Where another start of this program has measured it, before the first call. Not thread-safe.
void know_read_speed(double bytes_per_s);

// Reading 8 MiB that are in no cache, in order: the shortest of three.
double seconds_of_stream();

// What the kernel takes for a page fault of fresh memory: by first touches of as much of it, as memory is given to
// programs here (small pages, or large ones). Measured at the first call of a process, under a millisecond; 0 where
// there is no memory for it. Any thread may call it.
double page_fault_s();

// Reading the smaller of the working set and the last-level cache: what a call pays at most for having been away. A
// virtual machine reports its host's cache, of which it may have a part only: an upper bound then.
double refill_s(std::uint64_t working_set_bytes);

}  // namespace antcrew::machine_layer
