#include "antcrew/analysis/ledger.hpp"

namespace antcrew::analysis_layer {

const char* id_of(Cause cause) noexcept {
  constexpr const char* ids[] = {"sequential-stretch",
                                 "small-pieces",
                                 "small-calls",
                                 "not-divisible",
                                 "uneven-pieces",
                                 "late-start",
                                 "shared-processor",
                                 "oversubscribed",
                                 "quota",
                                 "no-ready-work",
                                 "work-not-found",
                                 "lock-wait",
                                 "slow-stage",
                                 "small-buffer",
                                 "moving-data",
                                 "fresh-memory",
                                 "kernel-time",
                                 "work-inflation-machine",
                                 "work-inflation-own",
                                 "work-inflation-one-worker",
                                 "extra-work",
                                 "skipped-work",
                                 "blocked",
                                 "start-up-each-call",
                                 "network-bandwidth",
                                 "network-latency",
                                 "late-message",
                                 "slow-host",
                                 "allocations",
                                 "threads-per-item",
                                 "line-sharing",
                                 "slower-clocks",
                                 "hardware-threads",
                                 "spinning",
                                 "idle-workers"};
  return ids[static_cast<std::size_t>(cause)];
}

}  // namespace antcrew::analysis_layer
