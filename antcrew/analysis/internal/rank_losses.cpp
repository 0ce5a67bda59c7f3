#include "antcrew/analysis/internal/rank_losses.hpp"

#include <algorithm>
#include <cstddef>
#include <limits>

namespace antcrew::internal {
namespace {

std::size_t index(int number) noexcept {
  return static_cast<std::size_t>(number);
}

// In bodies, whatever kept them there.
double at_work(const LaneParts& parts) noexcept {
  return parts[LaneState::running] + parts[LaneState::blocked] + parts[LaneState::waiting_to_run];
}

std::vector<LinkUse> uses_of(const RankFacts& ranks) {
  std::vector<LinkUse> uses;
  for (const SentData& sent : ranks.sent) {
    const int from = ranks.host_of[index(sent.from)];
    const int to = ranks.host_of[index(sent.to)];
    if (from == to) continue;
    auto use = std::find_if(uses.begin(), uses.end(), [&](const LinkUse& u) { return u.from == from && u.to == to; });
    if (use == uses.end()) use = uses.insert(uses.end(), LinkUse{from, to});
    use->bytes += sent.bytes;
    use->edge_bytes += sent.edge_bytes;
    use->messages += sent.messages;
  }
  for (LinkUse& use : uses) {
    for (const HostLink& link : ranks.links) {
      if (link.from != use.from || link.to != use.to) continue;
      use.bytes_per_s = link.bytes_per_s;
      use.round_trip_s = link.round_trip_s;
    }
  }
  return uses;
}

std::vector<HostUse> hosts_of(const std::vector<LinkUse>& uses, std::size_t count) {
  std::vector<HostUse> hosts(count);
  for (const LinkUse& use : uses) {
    for (const int end : {use.from, use.to}) {
      HostUse& host = hosts[index(end)];
      host.bytes += use.bytes;
      host.others_s += use.needs_s(use.bytes - use.edge_bytes);
      (end == use.from ? host.edges_out_s : host.edges_in_s) += use.needs_s(use.edge_bytes);
    }
  }
  return hosts;
}

double ranks_on(const RankFacts& ranks, std::size_t host) {
  return static_cast<double>(std::count(ranks.host_of.begin(), ranks.host_of.end(), static_cast<int>(host)));
}

int crowded_host(const RankFacts& ranks) {
  int most = -1;
  double most_each = 1;
  for (std::size_t host = 0; host < ranks.hosts.size() && host < ranks.processors.size(); ++host) {
    const double each = ranks_on(ranks, host) / std::max(1, ranks.processors[host]);
    if (each <= most_each) continue;
    most_each = each;
    most = static_cast<int>(host);
  }
  return most;
}

SlowHost slow_host(const RankFacts& ranks, double wall_s) {
  constexpr double noticed = 0.05;  // of its ranks' time
  constexpr double times_others = 2;
  constexpr double slower_noticed = 1.15;
  SlowHost slow;
  const std::size_t hosts = ranks.hosts.size();
  if (hosts < 2) return slow;
  std::vector<double> delay(hosts);
  std::vector<double> running(hosts);
  std::vector<double> arithmetic(hosts);
  std::vector<double> count(hosts);
  for (std::size_t rank = 0; rank < ranks.host_of.size() && rank < ranks.parts_s.size(); ++rank) {
    const std::size_t host = index(ranks.host_of[rank]);
    // Ranks that take turns wait for each other, and not for what else the host has to do.
    const bool turns = host < ranks.processors.size() && ranks_on(ranks, host) > ranks.processors[host];
    if (!turns) delay[host] += ranks.parts_s[rank][LaneState::waiting_to_run];
    running[host] += ranks.parts_s[rank][LaneState::running];
    if (rank < ranks.arithmetic_s.size()) arithmetic[host] = std::max(arithmetic[host], ranks.arithmetic_s[rank]);
    ++count[host];
  }
  const double fastest = *std::min_element(arithmetic.begin(), arithmetic.end());
  std::vector<double> extra(hosts);  // of a rank
  double least_running = std::numeric_limits<double>::max();
  for (std::size_t h = 0; h < hosts; ++h) {
    if (count[h] > 0) least_running = std::min(least_running, running[h] / count[h]);
  }
  // A piece of arithmetic may have met a bad moment: the call itself must show at least half of it.
  const auto slower_of = [&](std::size_t h) {
    const double times = fastest > 0 ? arithmetic[h] / fastest : 1;
    const bool shown = count[h] > 0 && running[h] / count[h] >= (1 + (times - 1) / 2) * least_running;
    return times > slower_noticed && shown ? times : 1;
  };
  for (std::size_t h = 0; h < hosts; ++h) {
    if (count[h] > 0) extra[h] = (delay[h] + running[h] * (1 - 1 / slower_of(h))) / count[h];
  }
  const auto most = static_cast<std::size_t>(std::max_element(extra.begin(), extra.end()) - extra.begin());
  double others = 0;
  for (std::size_t h = 0; h < hosts; ++h) {
    if (h != most) others = std::max(others, extra[h]);
  }
  if (extra[most] < noticed * wall_s || extra[most] < times_others * others) return slow;
  slow.host = static_cast<int>(most);
  slow.delay_s = delay[most];
  slow.slower = slower_of(most);
  slow.computing_s = running[most] * (1 - 1 / slow.slower);
  slow.delay_share = delay[most] / (count[most] * wall_s);
  slow.others_share = others / wall_s;
  return slow;
}

}  // namespace

RankLosses rank_losses(const RankFacts& ranks, double wall_s) {
  RankLosses losses;
  if (!(wall_s > 0)) return losses;
  const std::vector<LinkUse> uses = uses_of(ranks);
  const std::vector<HostUse> hosts = hosts_of(uses, ranks.hosts.size());
  for (const LinkUse& use : uses) {
    losses.messages += use.messages;
    if (use.needs_s(use.bytes) > losses.busiest.needs_s(losses.busiest.bytes)) losses.busiest = use;
    if (use.messages * use.round_trip_s > losses.most_messages.messages * losses.most_messages.round_trip_s)
      losses.most_messages = use;
  }
  for (const HostUse& host : hosts) {
    if (host.needs_s() > losses.busiest_host.needs_s()) losses.busiest_host = host;
  }
  for (const MessageWait& wait : ranks.waits) {
    if (wait.seconds > losses.longest.seconds) losses.longest = wait;
  }
  losses.slow = slow_host(ranks, wall_s);
  losses.crowded = crowded_host(ranks);
  double most_work_s = 0;
  for (std::size_t rank = 0; rank < ranks.parts_s.size(); ++rank) {
    const double work_s = at_work(ranks.parts_s[rank]);
    if (work_s > most_work_s) losses.slowest_rank = static_cast<int>(rank);
    most_work_s = std::max(most_work_s, work_s);
  }
  for (std::size_t rank = 0; rank < ranks.parts_s.size() && rank < ranks.host_of.size(); ++rank) {
    const LaneParts& parts = ranks.parts_s[rank];
    const int host = ranks.host_of[rank];
    double trips_s = 0;
    for (const SentData& sent : ranks.sent) {
      const int from = ranks.host_of[index(sent.from)];
      if (index(sent.to) != rank || from == host) continue;
      for (const LinkUse& use : uses) {
        if (use.from == from && use.to == host) trips_s += sent.messages * use.round_trip_s / 2;
      }
    }
    double left = parts[LaneState::message];
    const auto take = [&](double wanted) {
      const double taken = std::clamp(wanted, 0.0, left);
      left -= taken;
      return taken;
    };
    const double edges_s = take(hosts[index(host)].edges_s());
    losses.bandwidth_s += edges_s;
    losses.bandwidth_moving_s += std::min(parts[LaneState::moving_data], losses.busiest_host.needs_s() - edges_s);
    losses.latency_s += take(trips_s);
    const double behind_s = most_work_s - at_work(parts);  // what it worked less than the one that worked most
    const double uneven_s = take(behind_s);
    losses.uneven_s += uneven_s;
    if (losses.slow.host >= 0 && host != losses.slow.host) {
      losses.slow.message_s += uneven_s;
      losses.slow.imbalance_s += std::min(parts[LaneState::imbalance], behind_s - uneven_s);
    }
    losses.late_s += left;
    losses.overlap_s += std::min(left, at_work(parts));
  }
  return losses;
}

}  // namespace antcrew::internal
