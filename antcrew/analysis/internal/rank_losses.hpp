// What messages between hosts, and a host slower than the others, took of a metered call of ranks.
//
//   RankLosses losses = rank_losses(*sums.ranks, sums.wall_s);
//
// A rank's waits for messages are given away in this order, each part capped by what is left: the time that the links
// of its host need for the edges of the call, both ways at once (bandwidth); half a round trip for each message
// (latency); what the others worked longer than it did (uneven); the rest came late though nothing of that kept it
// (late). Of moving data, the time that the links of the busiest host need for all other bytes, one after the other, is
// the network's. Pure.
#pragma once

#include <vector>

#include "antcrew/analysis/layer.hpp"
#include "antcrew/log/rank_facts.hpp"

namespace antcrew::internal {

using namespace antcrew::layers;

// Between two hosts, one way.
struct LinkUse {
  int from = -1;
  int to = -1;
  double bytes = 0;
  double edge_bytes = 0;  // of those
  double messages = 0;
  double bytes_per_s = 0;  // 0: not measured
  double round_trip_s = 0;
  double needs_s(double these_bytes) const noexcept { return bytes_per_s > 0 ? these_bytes / bytes_per_s : 0; }
};

// All links of one host.
struct HostUse {
  double bytes = 0;
  double edges_in_s = 0;
  double edges_out_s = 0;
  double others_s = 0;
  double edges_s() const noexcept { return edges_in_s > edges_out_s ? edges_in_s : edges_out_s; }
  double needs_s() const noexcept { return others_s + edges_s(); }
};

struct SlowHost {
  int host = -1;            // -1: none is
  double delay_s = 0;       // what its ranks waited for a processor, lane-seconds
  double computing_s = 0;   // what they computed longer, as their processors are slower
  double message_s = 0;     // what the others waited for its messages meanwhile
  double imbalance_s = 0;   // what they waited for it at the end
  double delay_share = 0;   // of its ranks' time
  double others_share = 0;  // likewise, of the other hosts' ranks
  double slower = 1;        // the same arithmetic takes so many times the fastest host's
  double sum() const noexcept { return delay_s + computing_s + message_s + imbalance_s; }
};

struct RankLosses {
  double bandwidth_s = 0;         // of waits for messages
  double bandwidth_moving_s = 0;  // of the state of moving data
  double latency_s = 0;           // of waits for messages
  double uneven_s = 0;            // likewise
  double late_s = 0;              // likewise
  double overlap_s = 0;           // of late_s, what its ranks had to compute in the same call
  LinkUse busiest;                // between hosts
  HostUse busiest_host;
  LinkUse most_messages;  // likewise
  double messages = 0;    // between hosts
  MessageWait longest;    // of all waits
  SlowHost slow;
  int crowded = -1;      // the host with most ranks a processor, where it has more than one; -1: none has
  int slowest_rank = 0;  // the one with most time in bodies
};
RankLosses rank_losses(const RankFacts& ranks, double wall_s);

}  // namespace antcrew::internal
