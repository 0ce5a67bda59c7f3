// What rank 0 asks the others for around a metered call: their logs, their clocks, and, once, how fast hosts and the
// links between them are.
#include <algorithm>
#include <bit>
#include <cstring>
#include <limits>

#include "antcrew/machine/clock.hpp"
#include "antcrew/ranks/internal/letters.hpp"

namespace antcrew::internal {
namespace {

constexpr int clock_questions = 7;
constexpr double all_links_s = 0.9;  // all together
constexpr double one_link_s = 0.2;
constexpr std::size_t most_links = 64;
constexpr std::size_t most_trips = 300;
constexpr std::size_t least_trips = 5;
constexpr std::size_t first_block = 64 << 10;
constexpr std::size_t longest_block = 32 << 20;
constexpr double enough_s = 0.04;  // a block that takes so long gives the rate

// CPU time of a fixed piece of dependent arithmetic, some milliseconds of it in all.
double arithmetic_s() {
  constexpr int pieces = 16;
  constexpr int steps = 200'000;
  std::int64_t least = std::numeric_limits<std::int64_t>::max();
  volatile double result = 0.5;
  for (int k = 0; k < pieces; ++k) {
    const std::int64_t before = thread_cpu_ns();
    double x = result;
    for (int step = 0; step < steps; ++step) x = 3.6 * x * (1.0 - x);
    result = x;
    least = std::min(least, thread_cpu_ns() - before);
  }
  return static_cast<double>(least) * 1e-9;
}

double median_of(std::vector<double> times) {
  if (times.empty()) return 0;
  const auto middle = times.begin() + static_cast<std::ptrdiff_t>(times.size() / 2);
  std::nth_element(times.begin(), middle, times.end());
  return *middle;
}

struct HostPair {
  int from_host;
  int to_host;
  int from;  // ranks
  int to;
};

// The same list in all ranks: between the first ranks of any two hosts, then between two ranks of each host.
std::vector<HostPair> pairs_of(const std::vector<int>& host_of, int hosts) {
  std::vector<std::vector<int>> ranks(static_cast<std::size_t>(hosts));
  for (std::size_t rank = 0; rank < host_of.size(); ++rank) {
    ranks[static_cast<std::size_t>(host_of[rank])].push_back(static_cast<int>(rank));
  }
  std::vector<HostPair> pairs;
  for (int a = 0; a < hosts; ++a) {
    for (int b = a + 1; b < hosts; ++b) {
      const int from = ranks[static_cast<std::size_t>(a)].front();
      const int to = ranks[static_cast<std::size_t>(b)].front();
      pairs.push_back({a, b, from, to});
      pairs.push_back({b, a, to, from});
    }
  }
  for (int a = 0; a < hosts; ++a) {
    const auto& its = ranks[static_cast<std::size_t>(a)];
    if (its.size() > 1) pairs.push_back({a, a, its[0], its[1]});
  }
  if (pairs.size() > most_links) pairs.resize(most_links);
  return pairs;
}

// The one who asks says how much comes next; 0 ends it.
HostLink ask(Link& link, const HostPair& pair, double limit_s) {
  HostLink found{pair.from_host, pair.to_host, 0, 0};
  const std::int64_t begun = now_ns();
  std::uint64_t bytes = 0;
  const auto send_and_hear = [&](const std::vector<char>& block) {
    bytes = block.size() + 1;
    const std::int64_t start = now_ns();
    link.send(pair.to, clock_tag, &bytes, sizeof bytes);
    std::vector<MPI_Request> under_way;
    link.begin_block(pair.to, clock_tag, block.data(), block.size(), under_way);
    link.wait_for(under_way);
    link.receive(pair.to, clock_tag, &bytes, sizeof bytes);
    return seconds_since(start);
  };
  std::vector<double> trips;
  while (trips.size() < most_trips && (trips.size() < least_trips || seconds_since(begun) < limit_s / 4)) {
    trips.push_back(send_and_hear({}));
  }
  found.round_trip_s = median_of(trips);
  double took_s = 0;
  for (std::size_t size = first_block; size <= longest_block; size *= 2) {
    const std::vector<char> block(size);
    took_s = send_and_hear(block);
    found.bytes_per_s = static_cast<double>(size) / std::max(1e-9, took_s - found.round_trip_s);
    if (took_s > enough_s || seconds_since(begun) + 2 * took_s > limit_s) break;
  }
  bytes = 0;
  link.send(pair.to, clock_tag, &bytes, sizeof bytes);
  return found;
}

void answer(Link& link, const HostPair& pair) {
  std::vector<char> block;
  for (std::uint64_t bytes = 0; link.receive(pair.from, clock_tag, &bytes, sizeof bytes), bytes != 0;) {
    block.resize(bytes - 1);
    for (std::size_t got = 0; got < block.size();) {
      const Link::Part part = link.next_part(pair.from, clock_tag);
      link.take(part, block.data() + got);
      got += part.bytes;
    }
    link.send(pair.from, clock_tag, &bytes, sizeof bytes);
  }
}

struct HostsOfRanks {
  std::vector<std::string> hosts;
  std::vector<int> host_of;
};
HostsOfRanks hosts_of(const RankTeam& team) {
  HostsOfRanks all;
  for (int rank = 0; rank < team.ranks(); ++rank) {
    const std::string host = team.hello(rank).host;
    const auto known = std::find(all.hosts.begin(), all.hosts.end(), host);
    all.host_of.push_back(static_cast<int>(known - all.hosts.begin()));
    if (known == all.hosts.end()) all.hosts.push_back(host);
  }
  return all;
}

// This rank's part in measuring: what it found of links that it asked at, and its arithmetic.
struct Measured {
  double arithmetic = 0;
  std::vector<HostLink> links;
};
Measured measure(RankTeam& team) {
  Measured mine;
  mine.arithmetic = arithmetic_s();
  const HostsOfRanks all = hosts_of(team);
  const std::vector<HostPair> pairs = pairs_of(all.host_of, static_cast<int>(all.hosts.size()));
  const double limit_s =
      std::min(one_link_s, all_links_s / static_cast<double>(std::max<std::size_t>(1, pairs.size())));
  for (const HostPair& pair : pairs) {
    checked(MPI_Barrier(team.for_bodies()), "MPI_Barrier");  // one pair at a time, as they may share a cable
    if (pair.from == team.rank()) mine.links.push_back(ask(team.link(), pair, limit_s));
    if (pair.to == team.rank()) answer(team.link(), pair);
  }
  return mine;
}

void measure_in_rank(RankSide& side) {
  const Measured mine = measure(side.team());
  Packer made;
  made.put(mine.arithmetic);
  made.put(mine.links);
  side.reply({}, made);
}

void open_in_rank(RankSide& side) {
  Link& link = side.team().link();
  for (int k = 0; k < clock_questions; ++k) {
    char nothing = 0;
    link.receive(0, clock_tag, &nothing, 0);
    const std::int64_t now = now_ns();
    link.send(0, clock_tag, &now, sizeof now);
  }
  link.reset_sent();
  side.team().own_log().open();
}

void close_in_rank(RankSide& side) {
  RankTeam& team = side.team();
  team.own_log().close();
  std::vector<Stretch> stretches;
  const RankLane lane = team.own_log().lane(stretches);
  Packer made;
  made.put(lane);
  made.put(team.link().sent());
  made.put(stretches);
  side.reply({}, made);
}

void add_sent(RankFacts& facts, int from, const std::vector<Link::Sent>& sent) {
  for (std::size_t to = 0; to < sent.size(); ++to) {
    if (sent[to].messages == 0) continue;
    facts.sent.push_back({from, static_cast<int>(to), static_cast<double>(sent[to].bytes),
                          static_cast<double>(sent[to].messages), static_cast<double>(sent[to].edge_bytes)});
  }
}

}  // namespace

RankTeam::OfCall::OfCall(RankTeam& team, const Order& order) : team_(team) {
  if (!team.logs_ || !places_wanted()) return;
  note_place({order.name, 0});
  // What is done once in each rank has no items that could be shared out otherwise.
  const bool once = std::strcmp(order.name, "on_each") == 0;
  region_.emplace(once ? 0 : order.n, order.split.kind() == Split::Kind::even ? Sharing::ranks : Sharing::rank_pieces,
                  team.ranks(), "RankCrew");
  team.region_ = &*region_;
}

void RankTeam::measure_links() {
  HostsOfRanks all = hosts_of(*this);
  known_.hosts = std::move(all.hosts);
  known_.host_of = std::move(all.host_of);
  known_.processors.assign(known_.hosts.size(), 0);
  for (std::size_t host = 0; host < known_.hosts.size(); ++host) {
    for (std::size_t word = 0; word < std::size(hellos_.front().may_run_on); ++word) {
      std::uint64_t any = 0;
      for (int rank = 0; rank < ranks(); ++rank) {
        if (known_.host_of[static_cast<std::size_t>(rank)] == static_cast<int>(host))
          any |= hello(rank).may_run_on[word];
      }
      known_.processors[host] += std::popcount(any);
    }
  }
  known_.arithmetic_s.assign(static_cast<std::size_t>(ranks()), 0);
  Measured own;
  run(
      {&measure_in_rank}, [&](RankSide&) { own = measure(*this); },
      [&](RankReply& reply) {
        Unpacker from(reply.small.data(), reply.small.size(), *reply.large);
        std::vector<HostLink> links;
        from.get(known_.arithmetic_s[static_cast<std::size_t>(reply.rank)]);
        from.get(links);
        known_.links.insert(known_.links.end(), links.begin(), links.end());
      });
  known_.arithmetic_s[0] = own.arithmetic;
  known_.links.insert(known_.links.end(), own.links.begin(), own.links.end());
  std::sort(known_.links.begin(), known_.links.end(),
            [](const HostLink& a, const HostLink& b) { return std::pair(a.from, a.to) < std::pair(b.from, b.to); });
}

// A clock is read between a question and its answer: halfway, give or take half the time between them.
void RankTeam::compare_clocks() {
  known_.clock_off_s.assign(static_cast<std::size_t>(ranks()), 0);
  ahead_ns_.assign(static_cast<std::size_t>(ranks()), 0);
  for (int rank = 1; rank < ranks(); ++rank) {
    std::int64_t shortest = std::numeric_limits<std::int64_t>::max();
    for (int k = 0; k < clock_questions; ++k) {
      const char nothing = 0;
      std::int64_t theirs = 0;
      const std::int64_t asked = now_ns();
      link_.send(rank, clock_tag, &nothing, 0);
      link_.receive(rank, clock_tag, &theirs, sizeof theirs);
      const std::int64_t trip = now_ns() - asked;
      if (trip >= shortest) continue;
      shortest = trip;
      ahead_ns_[static_cast<std::size_t>(rank)] = theirs - (asked + trip / 2);
    }
    known_.clock_off_s[static_cast<std::size_t>(rank)] = static_cast<double>(shortest) * 0.5e-9;
    // What may be one clock is one.
    if (std::abs(ahead_ns_[static_cast<std::size_t>(rank)]) <= shortest / 2)
      ahead_ns_[static_cast<std::size_t>(rank)] = 0;
  }
}

void RankTeam::open_log() {
  if (known_.hosts.empty()) measure_links();
  run(
      {&open_in_rank}, [this](RankSide&) { compare_clocks(); }, [](RankReply&) {});
  link_.reset_sent();
  logs_ = true;
}

void RankTeam::close_log(LaneLog& log) {
  logs_ = false;
  log.ranks = known_;
  add_sent(*log.ranks, 0, link_.sent());
  run(
      {&close_in_rank}, [](RankSide&) {},
      [&](RankReply& reply) {
        Unpacker from(reply.small.data(), reply.small.size(), *reply.large);
        RankLane lane;
        std::vector<Link::Sent> sent;
        std::vector<Stretch> stretches;
        from.get(lane);
        from.get(sent);
        from.get(stretches);
        add_sent(*log.ranks, reply.rank, sent);
        log.ranks->cpu_s += lane.cpu_s;
        log.ranks->system_s += lane.system_s;
        add_rank(log, reply.rank, lane, std::move(stretches), ahead_ns_[static_cast<std::size_t>(reply.rank)]);
      });
  std::sort(log.ranks->sent.begin(), log.ranks->sent.end(),
            [](const SentData& a, const SentData& b) { return std::pair(a.from, a.to) < std::pair(b.from, b.to); });
}

double RankTeam::empty_order_s() {
  constexpr std::size_t most = 50;
  constexpr std::size_t least = 5;
  constexpr double limit_s = 20e-3;
  std::vector<double> times;
  const std::int64_t begun = now_ns();
  const Order nothing{[](RankSide&) {}};
  while (times.size() < most && (times.size() < least || seconds_since(begun) < limit_s)) {
    const std::int64_t start = now_ns();
    run(
        nothing, [](RankSide&) {}, [](RankReply&) {});
    times.push_back(seconds_since(start));
  }
  return median_of(std::move(times));
}

}  // namespace antcrew::internal
