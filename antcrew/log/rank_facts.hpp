// What is known of the ranks that a metered call had, and of the links between their hosts: plain data.
//
// Hosts and ranks by number, from 0. The clock of each rank is its own; times of one call are brought to rank 0's by
// messages to and fro, to within half the shortest of their round trips.
#pragma once

#include <string>
#include <vector>

#include "antcrew/log/lane_parts.hpp"

namespace antcrew::internal {

// Between a rank of one host and a rank of another, or of the same. Measured once, before the metered calls.
struct HostLink {
  int from = 0;
  int to = 0;
  double round_trip_s = 0;  // of a message of 8 bytes to and fro: the median
  double bytes_per_s = 0;   // of large messages, one way

  friend bool operator==(const HostLink&, const HostLink&) = default;
};

// In one call.
struct SentData {
  int from = 0;
  int to = 0;
  double bytes = 0;
  double messages = 0;
  double edge_bytes = 0;  // of those: edges that neighbours send each other at the same time

  friend bool operator==(const SentData&, const SentData&) = default;
};

// How long a rank waited for another's message, in one call.
struct MessageWait {
  int rank = 0;
  int awaited = 0;
  double seconds = 0;

  friend bool operator==(const MessageWait&, const MessageWait&) = default;
};

struct RankFacts {
  std::vector<std::string> hosts;
  std::vector<int> processors;       // of each host, that its ranks may use
  std::vector<int> host_of;          // of each rank
  std::vector<double> arithmetic_s;  // CPU time of each rank for the same piece of arithmetic: the least of some
  std::vector<double> clock_off_s;   // that each rank's times may be off
  double cpu_s = 0;                  // of the processes of ranks other than 0, in the call
  double system_s = 0;               // of that, in the kernel
  std::vector<HostLink> links;
  std::vector<SentData> sent;
  std::vector<MessageWait> waits;
  std::vector<LaneParts> parts_s;  // of each rank

  friend bool operator==(const RankFacts&, const RankFacts&) = default;
};

}  // namespace antcrew::internal
