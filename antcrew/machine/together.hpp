// What this machine does when several workers do the same at once, each on a processor of its own: how fast they
// compute (clocks may fall, and two hardware threads share a core), and how much they read from memory, all together.
//
//   TogetherTimes two = times_together(2);   // against times_together(1)
//
// Starts so many threads and joins them; memory as of four times the largest cache, 64 MiB at least and 256 MiB at
// most, which comes and goes. Some 30 ms each. Where the system refuses threads or memory, all is 0.
#pragma once

#include "antcrew/machine/layer.hpp"

namespace antcrew::machine_layer {

struct TogetherTimes {
  double arithmetic_s =
      0;                   // of a fixed piece of multiplications, each of which needs the one before: the middle worker
  double bytes_per_s = 0;  // read from memory that no cache holds, by all of them
  double line_move_s = 0;  // of two or more: a line of the cache that two of them write in turn, one move
};
TogetherTimes times_together(int workers);

}  // namespace antcrew::machine_layer
