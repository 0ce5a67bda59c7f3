#include "antcrew/analysis/internal/rank_losses.hpp"

#include <doctest/doctest.h>

#include "antcrew/analysis/ledger.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using internal::LaneParts;
using internal::LaneState;
using internal::LaneSums;
using internal::RankFacts;
using internal::RankLosses;

namespace {

// Two ranks on two hosts, between which 10 MB a second go, and a message takes 2 ms to and fro.
RankFacts two_hosts() {
  RankFacts ranks;
  ranks.hosts = {"quay", "weir"};
  ranks.processors = {1, 1};
  ranks.host_of = {0, 1};
  ranks.arithmetic_s = {1e-3, 1e-3};
  ranks.clock_off_s = {0, 1e-6};
  ranks.links = {{0, 1, 2e-3, 10e6}, {1, 0, 2e-3, 10e6}};
  ranks.parts_s.resize(2);
  return ranks;
}

void at(RankFacts& ranks, std::size_t rank, std::initializer_list<std::pair<LaneState, double>> parts) {
  for (const auto& [state, seconds] : parts) ranks.parts_s[rank][state] += seconds;
}

double lost_by(const Ledger& ledger, Cause cause) {
  for (const Loss& loss : ledger.losses) {
    if (loss.cause == cause) return loss.loss_s;
  }
  return 0;
}

Ledger ledger_from(const RankFacts& ranks, double wall_s, double baseline_s) {
  static LaneSums sums;
  sums = {};
  sums.wall_s = wall_s;
  sums.lanes = static_cast<int>(ranks.parts_s.size());
  sums.ranks = ranks;
  for (const LaneParts& parts : ranks.parts_s) {
    for (std::size_t k = 0; k < internal::lane_states; ++k) sums.parts_s.seconds[k] += parts.seconds[k];
  }
  sums.cpu_frames_s = sums.cpu_kernel_s = sums.parts_s[LaneState::running];
  LedgerBasis basis;
  basis.baseline_s = baseline_s;
  basis.processors = 2;
  basis.crew = "RankCrew";
  const Ledger ledger = ledger_of(sums, basis);
  // Every second has one owner.
  double all = 0;
  for (const Loss& loss : ledger.losses) all += loss.loss_s;
  CHECK(all + ledger.unattributed_s == doctest::Approx(ledger.lane_seconds() - baseline_s));
  CHECK(std::abs(ledger.unattributed_s) < 1e-9);
  return ledger;
}

}  // namespace

TEST_CASE("edges over a slow link: as long as the link needs for them, both ways at once") {
  RankFacts ranks = two_hosts();
  // 2 MB each way in 4 messages: 200 ms of each rank; a message's way takes 1 ms; what is left came late.
  ranks.sent = {{0, 1, 2e6, 4, 2e6}, {1, 0, 2e6, 4, 2e6}};
  ranks.waits = {{0, 1, 0.25}, {1, 0, 0.25}};
  at(ranks, 0, {{LaneState::running, 0.75}, {LaneState::message, 0.25}});
  at(ranks, 1, {{LaneState::running, 0.75}, {LaneState::message, 0.25}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.bandwidth_s == doctest::Approx(0.4));
  CHECK(losses.bandwidth_moving_s == 0);
  CHECK(losses.latency_s == doctest::Approx(2 * 4 * 1e-3));
  CHECK(losses.uneven_s == 0);
  CHECK(losses.late_s == doctest::Approx(0.1 - 0.008));
  CHECK(losses.overlap_s == doctest::Approx(losses.late_s));
  CHECK(losses.busiest_host.needs_s() == doctest::Approx(0.2));
  const Ledger ledger = ledger_from(ranks, 1.0, 1.5);
  CHECK(ledger.losses.front().cause == Cause::network_bandwidth);
  CHECK(lost_by(ledger, Cause::network_bandwidth) == doctest::Approx(0.4));
  CHECK(lost_by(ledger, Cause::network_latency) == doctest::Approx(0.008));
  CHECK(lost_by(ledger, Cause::late_message) == doctest::Approx(0.092));
}

TEST_CASE("blocks over a slow link go one after the other, and whoever waits for them loses that") {
  RankFacts ranks = two_hosts();
  ranks.sent = {{0, 1, 3e6, 1, 0}, {1, 0, 1e6, 1, 0}};
  at(ranks, 0, {{LaneState::running, 0.5}, {LaneState::moving_data, 0.5}});
  at(ranks, 1, {{LaneState::running, 0.5}, {LaneState::moving_data, 0.5}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.bandwidth_moving_s == doctest::Approx(2 * 0.4));
  const Ledger ledger = ledger_from(ranks, 1.0, 1.0);
  CHECK(lost_by(ledger, Cause::network_bandwidth) == doctest::Approx(0.8));
  CHECK(lost_by(ledger, Cause::moving_data) == doctest::Approx(0.2));
}

TEST_CASE("within one host no second is the network's") {
  RankFacts ranks = two_hosts();
  ranks.hosts = {"quay"};
  ranks.host_of = {0, 0};
  ranks.links = {{0, 0, 2e-3, 10e6}};
  ranks.sent = {{0, 1, 2e6, 100, 2e6}, {1, 0, 2e6, 100, 2e6}};
  at(ranks, 0, {{LaneState::running, 0.75}, {LaneState::message, 0.25}});
  at(ranks, 1, {{LaneState::running, 0.75}, {LaneState::message, 0.25}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.bandwidth_s + losses.bandwidth_moving_s + losses.latency_s == 0);
  CHECK(losses.late_s == doctest::Approx(0.5));
  CHECK(losses.slow.host == -1);
}

TEST_CASE("who waits because another works longer, waits for uneven work, no late message") {
  RankFacts ranks = two_hosts();
  at(ranks, 0, {{LaneState::running, 0.6}, {LaneState::message, 0.4}});
  at(ranks, 1, {{LaneState::running, 0.95}, {LaneState::message, 0.05}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.uneven_s == doctest::Approx(0.35));
  CHECK(losses.late_s == doctest::Approx(0.1));
  CHECK(losses.slowest_rank == 1);
  const Ledger ledger = ledger_from(ranks, 1.0, 1.5);
  CHECK(lost_by(ledger, Cause::uneven_pieces) == doctest::Approx(0.35));
  CHECK(lost_by(ledger, Cause::late_message) == doctest::Approx(0.1));
}

TEST_CASE("a host whose processor is taken half the time is the slow one, with what the others wait for it") {
  RankFacts ranks = two_hosts();
  at(ranks, 0, {{LaneState::running, 0.5}, {LaneState::message, 0.3}, {LaneState::imbalance, 0.2}});
  at(ranks, 1, {{LaneState::running, 0.5}, {LaneState::waiting_to_run, 0.5}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.slow.host == 1);
  CHECK(losses.slow.delay_s == doctest::Approx(0.5));
  CHECK(losses.slow.message_s == doctest::Approx(0.3));
  CHECK(losses.slow.imbalance_s == doctest::Approx(0.2));
  const Ledger ledger = ledger_from(ranks, 1.0, 1.0);
  CHECK(lost_by(ledger, Cause::slow_host) == doctest::Approx(1.0));
  CHECK(ledger.losses.front().name == "weir");

  SUBCASE("both hosts are busy: then neither is the slow one") {
    at(ranks, 0, {{LaneState::waiting_to_run, 0.4}});
    CHECK(internal::rank_losses(ranks, 1.4).slow.host == -1);
  }
}

TEST_CASE("ranks that take turns on one processor of a host wait for each other, which makes it no slow host") {
  RankFacts ranks = two_hosts();
  ranks.host_of = {0, 1, 1};
  ranks.parts_s.resize(3);
  ranks.arithmetic_s = {1e-3, 1e-3, 1e-3};
  at(ranks, 0, {{LaneState::running, 1.0}});
  at(ranks, 1, {{LaneState::running, 0.5}, {LaneState::waiting_to_run, 0.5}});
  at(ranks, 2, {{LaneState::running, 0.5}, {LaneState::waiting_to_run, 0.5}});
  CHECK(internal::rank_losses(ranks, 1.0).slow.host == -1);
  CHECK(internal::rank_losses(ranks, 1.0).crowded == 1);
  const Ledger ledger = ledger_from(ranks, 1.0, 2.0);
  CHECK(ledger.losses.front().cause == Cause::oversubscribed);
  CHECK(ledger.losses.front().name == "weir");
  CHECK(ledger.losses.front().figures.get("processors") == 1);
  CHECK(ledger.losses.front().figures.get("lanes") == 2);
}

TEST_CASE("a host whose arithmetic is slower is the slow one, by as much") {
  RankFacts ranks = two_hosts();
  ranks.arithmetic_s = {1e-3, 2e-3};
  at(ranks, 0, {{LaneState::running, 0.5}, {LaneState::imbalance, 0.5}});
  at(ranks, 1, {{LaneState::running, 1.0}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.slow.host == 1);
  CHECK(losses.slow.computing_s == doctest::Approx(0.5));
  CHECK(losses.slow.slower == doctest::Approx(2));
  const Ledger ledger = ledger_from(ranks, 1.0, 1.0);
  CHECK(lost_by(ledger, Cause::slow_host) == doctest::Approx(1.0));

  SUBCASE("not where the call does not show it") {
    at(ranks, 0, {{LaneState::running, 0.5}});
    CHECK(internal::rank_losses(ranks, 1.0).slow.host == -1);
  }
  SUBCASE("a few percent are no reason") {
    ranks.arithmetic_s = {1e-3, 1.05e-3};
    CHECK(internal::rank_losses(ranks, 1.0).slow.host == -1);
  }
}

TEST_CASE("what was never measured is blamed on nobody") {
  RankFacts ranks = two_hosts();
  ranks.links.clear();
  ranks.sent = {{0, 1, 2e6, 4, 2e6}, {1, 0, 2e6, 4, 0}};
  at(ranks, 0, {{LaneState::running, 0.8}, {LaneState::message, 0.1}, {LaneState::moving_data, 0.1}});
  at(ranks, 1, {{LaneState::running, 0.9}, {LaneState::moving_data, 0.1}});
  const RankLosses losses = internal::rank_losses(ranks, 1.0);
  CHECK(losses.bandwidth_s + losses.bandwidth_moving_s + losses.latency_s == 0);
  // Nor does a record without anything in it crash.
  CHECK(internal::rank_losses({}, 1.0).late_s == 0);
}
