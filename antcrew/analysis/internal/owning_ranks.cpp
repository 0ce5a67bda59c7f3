// Seconds that ranks lost: to the network, to each other, to a slow host.
#include "antcrew/analysis/internal/owning.hpp"

namespace antcrew::internal {

void Owning::on_crowded_host(Loss& loss) const {
  const RankFacts& ranks = *sums_.ranks;
  loss.name = host(ranks_.crowded);
  loss.figures["processors"] = ranks.processors[static_cast<std::size_t>(ranks_.crowded)];
  loss.figures["lanes"] = static_cast<double>(std::count(ranks.host_of.begin(), ranks.host_of.end(), ranks_.crowded));
}

void Owning::slow_host(double seconds) {
  const SlowHost& slow = ranks_.slow;
  lose(Cause::slow_host, seconds, host(slow.host)).figures = {
      {"delay_share", slow.delay_share}, {"others_share", slow.others_share}, {"ratio", slow.slower}};
}

void Owning::over_network(double seconds) {
  const LinkUse& link = ranks_.busiest;
  lose(Cause::network_bandwidth, seconds, "from " + host(link.from) + " to " + host(link.to)).figures = {
      {"bytes", ranks_.busiest_host.bytes},
      {"bytes_per_s", link.bytes_per_s},
      {"link_s", ranks_.busiest_host.needs_s()}};
}

// Waits for messages; what moving data between hosts took is the link's, too.
void Owning::messages() {
  if (!(part(LaneState::message) > 0)) return;
  if (ranks_.bandwidth_s > 0) over_network(scale_ * ranks_.bandwidth_s);
  if (ranks_.latency_s > 0) {
    const LinkUse& link = ranks_.most_messages;
    lose(Cause::network_latency, scale_ * ranks_.latency_s, "between " + host(link.from) + " and " + host(link.to))
        .figures = {{"messages", ranks_.messages}, {"round_trip_s", link.round_trip_s}};
  }
  const double for_slow_s = scale_ * ranks_.slow.message_s;
  if (for_slow_s > 0) slow_host(for_slow_s);
  if (scale_ * ranks_.uneven_s - for_slow_s > 0) {
    Loss& loss = lose(Cause::uneven_pieces, scale_ * ranks_.uneven_s - for_slow_s);
    loss.figures["slowest_rank"] = ranks_.slowest_rank;
    loss.figures["message_s"] = scale_ * ranks_.uneven_s - for_slow_s;
  }
  if (ranks_.late_s > 0) {
    lose(Cause::late_message, scale_ * ranks_.late_s).figures = {{"rank", ranks_.longest.rank},
                                                                 {"awaited", ranks_.longest.awaited},
                                                                 {"wait_s", ranks_.longest.seconds},
                                                                 {"overlap_s", scale_ * ranks_.overlap_s}};
  }
}

void Owning::moving() {
  const double network_s = std::min(part(LaneState::moving_data), scale_ * ranks_.bandwidth_moving_s);
  if (network_s > 0) over_network(network_s);
  const double moving_s = part(LaneState::moving_data) - network_s;
  if (!(moving_s > 0)) return;
  Loss& loss = lose(Cause::moving_data, moving_s);
  loss.figures["bytes"] = sums_.moved_bytes;
  if (sums_.moved_bytes > 0) loss.figures["bytes_per_s"] = sums_.moved_bytes / part(LaneState::moving_data);
  if (sums_.ranks) loss.figures["ranks"] = ledger_.lanes;
}

// Orders and replies between hosts: what an empty call takes, as often as there were calls.
double Owning::over_long_way() {
  const double worth_s = std::min(left_dispatch_, sums_.regions * sums_.call_cost_s * ledger_.lanes);
  if (!(worth_s > 0)) return 0;
  left_dispatch_ -= worth_s;
  Loss& loss = lose(Cause::network_latency, worth_s);
  loss.figures["calls"] = sums_.regions;
  loss.figures["call_cost_s"] = sums_.call_cost_s;
  return 0;
}

}  // namespace antcrew::internal
