// Whether what a record says of ranks fits together: a record may come from anywhere, and its numbers are used as
// places.
#pragma once

#include <algorithm>
#include <cstddef>

#include "antcrew/log/rank_facts.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::internal {

inline bool fits_together(const RankFacts& facts) {
  const std::size_t ranks = facts.host_of.size();
  const std::size_t hosts = facts.hosts.size();
  const auto below = [](int number, std::size_t count) {
    return number >= 0 && static_cast<std::size_t>(number) < count;
  };
  return facts.processors.size() == hosts && facts.arithmetic_s.size() == ranks && facts.clock_off_s.size() == ranks &&
         facts.parts_s.size() == ranks &&
         std::all_of(facts.host_of.begin(), facts.host_of.end(), [&](int host) { return below(host, hosts); }) &&
         std::all_of(facts.links.begin(), facts.links.end(),
                     [&](const HostLink& link) { return below(link.from, hosts) && below(link.to, hosts); }) &&
         std::all_of(facts.sent.begin(), facts.sent.end(),
                     [&](const SentData& sent) { return below(sent.from, ranks) && below(sent.to, ranks); }) &&
         std::all_of(facts.waits.begin(), facts.waits.end(),
                     [&](const MessageWait& wait) { return below(wait.rank, ranks) && below(wait.awaited, ranks); });
}

}  // namespace antcrew::internal
