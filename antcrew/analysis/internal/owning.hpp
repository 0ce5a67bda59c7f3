// Who owns the seconds of one metered call: the losses of a ledger, given away owner by owner.
//
//   Owning(ledger, sums, basis).all();
#pragma once

#include <algorithm>
#include <cmath>
#include <string>

#include "antcrew/analysis/internal/rank_losses.hpp"
#include "antcrew/analysis/ledger.hpp"

namespace antcrew::internal {

class Owning {
 public:
  Owning(Ledger& ledger, const LaneSums& sums, const LedgerBasis& basis)
      : ledger_(ledger), sums_(sums), basis_(basis), scale_(scale_of(ledger, sums)), parts_s_(ledger.parts_s) {}

  void all() {
    threads();
    if (sums_.ranks) ranks_ = internal::rank_losses(*sums_.ranks, sums_.wall_s);
    serial();
    simple(Cause::start_up_each_call, LaneState::start_up);
    waiting_to_run();
    stages();
    moving();
    messages();
    simple(Cause::no_ready_work, LaneState::no_work);
    calls();
    dispatch();
    imbalance();
    locks();
    work_change();
    gather();
  }

 private:
  static double scale_of(const Ledger& ledger, const LaneSums& sums) {
    const double all = sums.parts_s.sum();
    return all > 0 ? ledger.parts_s.sum() / all : 1;
  }
  // What is left of it.
  double part(LaneState state) const { return parts_s_[state]; }

  Loss& lose(Cause cause, double seconds, const std::string& name = {}) {
    for (Loss& known : ledger_.losses) {
      if (known.cause != cause) continue;
      known.loss_s += seconds;
      if (known.name.empty()) known.name = name;
      return known;
    }
    ledger_.losses.push_back({cause, seconds, name, {}, 0});
    return ledger_.losses.back();
  }
  void simple(Cause cause, LaneState state) {
    if (part(state) > 0) lose(cause, part(state));
  }

  // Far more threads than workers: whoever begins them does so one after the other, and each takes processors to come
  // and to go. By their number and the price of one, out of what workers idled first, then of what they computed more.
  void threads() {
    constexpr double many = 4;  // a worker
    if (!sums_.library || sums_.library->threads < many * ledger_.lanes) return;
    const LibraryCounts& counts = *sums_.library;
    threads_s_ = ledger_.lanes * std::max(counts.beginning_s, counts.threads * sums_.thread_cost_s);
    // Those of crews that are begun in the call: it is the crews that are started again and again.
    constexpr double theirs = 0.25;
    if (!sums_.looks && part(LaneState::start_up) > theirs * threads_s_) {
      threads_s_ = 0;
      return;
    }
    double given_s = 0;
    for (const LaneState state : {LaneState::start_up, LaneState::serial_wait, LaneState::no_work, LaneState::imbalance,
                                  LaneState::dispatch, LaneState::waiting_to_run}) {
      const double seconds = std::min(parts_s_[state], threads_s_ - given_s);
      parts_s_[state] -= seconds;
      given_s += seconds;
    }
    threads_s_ -= given_s;
    lose(Cause::threads_per_item, given_s).figures = {
        {"threads", counts.threads}, {"thread_cost_s", sums_.thread_cost_s}, {"beginning_s", counts.beginning_s}};
  }

  void serial() {
    if (!(part(LaneState::serial_wait) > 0)) return;
    Loss& loss = lose(Cause::sequential_stretch, part(LaneState::serial_wait));
    loss.figures["serial_s"] = part(LaneState::serial);
    if (sums_.looks) loss.figures["standing"] = sums_.looks->standing;
    if (sums_.serials.empty()) return;
    const SerialFacts& largest = sums_.serials.front();
    loss.figures["stretch_s"] = largest.seconds;
    loss.figures["stretches"] = static_cast<double>(largest.count);
    if (!largest.phase.empty()) {
      loss.name = "phase '" + largest.phase + "'";
    } else if (!largest.after.empty() && !largest.before.empty()) {
      loss.name = "between " + largest.after + " and " + largest.before;
    } else if (!largest.after.empty()) {
      loss.name = "after " + largest.after;
    } else if (!largest.before.empty()) {
      loss.name = "before " + largest.before;
    }
  }

  void waiting_to_run() {
    const double slow_s = std::min(part(LaneState::waiting_to_run), scale_ * ranks_.slow.delay_s);
    if (slow_s > 0) slow_host(slow_s);
    if (part(LaneState::waiting_to_run) - slow_s > 0) wait_for_processor(part(LaneState::waiting_to_run) - slow_s);
  }
  void wait_for_processor(double seconds) {
    const bool crowded = ranks_.crowded >= 0;
    const bool too_many = ledger_.lanes > basis_.processors || crowded || crowds_itself(seconds);
    const Cause cause = basis_.throttled_s > 0.5 * seconds / ledger_.lanes ? Cause::quota
                        : too_many                                         ? Cause::oversubscribed
                                                                           : Cause::shared_processor;
    Loss& loss = lose(cause, seconds);
    if (crowds_itself(seconds)) loss.figures["threads"] = ledger_.lanes + sums_.looks->outside;
    loss.figures["processors"] = basis_.processors;
    loss.figures["lanes"] = ledger_.lanes;
    if (crowded) on_crowded_host(loss);
  }

  // Threads beyond the workers, such as those of crews inside bodies, were as busy as workers waited for processors,
  // and busier than other programs.
  bool crowds_itself(double waiting_s) const {
    if (!sums_.looks || !(ledger_.wall_s > 0)) return false;
    constexpr double most_of_it = 0.5;
    constexpr double noticed = 0.2;
    const double outside = sums_.looks->outside;
    return outside > noticed + basis_.taken_processors && outside > most_of_it * waiting_s / ledger_.wall_s &&
           ledger_.lanes + outside > basis_.processors;
  }

  void stages() {
    const double full = std::min(part(LaneState::stage), scale_ * sums_.buffer_full_s);
    if (full > 0) lose(Cause::small_buffer, full);
    const double slow = part(LaneState::stage) - full;
    if (!(slow > 0)) return;
    const StageFigures* slowest = nullptr;
    for (const StageFigures& stage : sums_.stages) {
      if (stage.alone && (slowest == nullptr || stage.busy_s > slowest->busy_s)) slowest = &stage;
    }
    Loss& loss = lose(Cause::slow_stage, slow);
    if (slowest == nullptr) return;
    loss.name = slowest->name;
    loss.figures["busy_s"] = slowest->busy_s;
    loss.figures["items"] = slowest->items;
  }

  // Of ranks.
  const std::string& host(int number) const { return sums_.ranks->hosts[static_cast<std::size_t>(number)]; }
  void on_crowded_host(Loss& loss) const;
  void slow_host(double seconds);
  void over_network(double seconds);
  void messages();
  void moving();
  double over_long_way();

  // What as many empty regions would cost comes off what short regions lost; of forked workers it is their start. Where
  // a place makes many short calls, all is their price that its workers do not spend in bodies: workers that were at
  // work in between take longer to come together than in empty calls back to back.
  void calls() {
    left_dispatch_ = part(LaneState::dispatch);
    left_imbalance_ = part(LaneState::imbalance);
    const double each_s = sums_.call_cost_s * ledger_.lanes;
    double worth_s = std::min(sums_.regions * each_s, ledger_.lanes * sums_.short_regions_s);
    if (!sums_.ranks) worth_s = std::max(worth_s, scale_ * price_in_place());
    if (sums_.ranks && sums_.ranks->hosts.size() > 1) worth_s = over_long_way();
    const double from_dispatch = std::min(left_dispatch_, worth_s);
    const double from_imbalance = std::min(left_imbalance_, worth_s - from_dispatch);
    if (!(worth_s > 0)) return;
    left_dispatch_ -= from_dispatch;
    left_imbalance_ -= from_imbalance;
    Loss& loss = lose(Cause::small_calls, from_dispatch + from_imbalance);
    loss.figures["calls"] = sums_.regions;
    loss.figures["call_cost_s"] = sums_.call_cost_s;
    if (sums_.regions > 0) loss.figures["in_place_s"] = loss.loss_s / ledger_.lanes / sums_.regions;
  }
  double price_in_place() const {
    constexpr double short_s = 100e-6;
    constexpr std::int64_t many = 100;
    double seconds = 0;
    for (const RegionFacts& region : sums_.by_place) {
      if (region.calls >= many && region.wall_s < short_s * static_cast<double>(region.calls))
        seconds += region.dispatch_s + region.imbalance_s - region.causes.lock_s;
    }
    return seconds;
  }

  void dispatch() {
    double late = 0;
    for (const RegionFacts& region : sums_.by_place) late += scale_ * region.late_s;
    late = std::min(late, left_dispatch_);
    if (late > 0) lose(Cause::late_start, late);
    if (left_dispatch_ - late > 0) lose(Cause::work_not_found, left_dispatch_ - late);
  }

  void imbalance() {
    if (sums_.looks) imbalance_by_looks();
    const double for_slow_s = std::min(left_imbalance_, scale_ * ranks_.slow.imbalance_s);
    if (for_slow_s > 0) slow_host(for_slow_s);
    left_imbalance_ -= for_slow_s;
    const double scale = part(LaneState::imbalance) > 0 ? left_imbalance_ / part(LaneState::imbalance) * scale_ : 0;
    double given_s = 0;
    for (const RegionFacts& region : sums_.by_place) {
      const auto& c = region.causes;
      if (c.late_s > 0) lose(Cause::late_start, scale * c.late_s, region.place);
      if (c.shared_s > 0) wait_for_processor(scale * c.shared_s);
      if (c.lock_s > 0) lock_s_ += scale * c.lock_s;
      if (c.divisible_s > 0) {
        Loss& loss = lose(Cause::not_divisible, scale * c.divisible_s, region.place);
        loss.figures["units"] +=
            (region.sharing == "pieces" || region.sharing == "rank pieces" ? region.pieces : region.n) /
            std::max(1.0, static_cast<double>(region.calls));
        loss.figures["lanes"] = ledger_.lanes;
      }
      if (c.uneven_s > 0 && region.pieces == 0 && sums_.ranks) {  // in a call that only moves data
        lose(Cause::moving_data, scale * c.uneven_s);
      } else if (c.uneven_s > 0) {
        uneven(region, scale * c.uneven_s);
      }
      given_s += scale * c.sum();
    }
    // A record keeps the places where most was lost; what the others lost is uneven there, too, as far as is known.
    constexpr std::size_t most_places = 8;
    const double rest_s = left_imbalance_ - given_s;
    if (sums_.by_place.size() >= most_places && rest_s > 0) {
      Loss& loss = lose(Cause::uneven_pieces, rest_s);
      loss.figures["other_places_s"] += rest_s;
      uneven_saved_s_ += rest_s / ledger_.lanes;
      bound_by_places(loss);
    }
  }

  // Workers that are never there have no part that could be too small.
  void imbalance_by_looks() {
    constexpr double enough_moments = 100;
    const SampleFacts& looks = *sums_.looks;
    double left = part(LaneState::imbalance);
    if (looks.most_there > 0 && looks.most_there < ledger_.lanes && looks.moments >= enough_moments) {
      const double idle_s = std::min(left, (ledger_.lanes - looks.most_there) * ledger_.wall_s);
      if (idle_s > 0)
        lose(Cause::idle_workers, idle_s).figures = {{"most_there", looks.most_there}, {"lanes", ledger_.lanes}};
      left -= idle_s;
    }
    if (left > 0) lose(Cause::uneven_pieces, left).figures["coarse"] = 1;
  }

  void uneven(const RegionFacts& region, double seconds) {
    Loss& loss = lose(Cause::uneven_pieces, seconds, region.place);
    loss.figures["places"] += 1;
    // What the same pieces would have taken, replayed, stays; where no other order of them is shorter, the longest is
    // to be split itself, and nothing does.
    const double best_s = std::min(region.finer_s, region.tapering_s);
    const bool by_order = best_s > 0 && best_s < noticeably_shorter * region.wall_s;
    LossPlace& place = loss.places.emplace_back();
    place.name = region.place;
    place.loss_s = seconds;
    place.saved_s = by_order ? region.wall_s - best_s : seconds / ledger_.lanes;
    place.figures = {{"longest_piece_s", region.longest_piece_s},
                     {"longest_piece_at", region.longest_piece_at},
                     {"longest_piece_worker", static_cast<double>(region.longest_piece_lane)},
                     {"mean_piece_s", region.mean_piece_s},
                     {"pieces", region.pieces},
                     {"region_s", region.wall_s},
                     {"finer_s", region.finer_s},
                     {"heaviest_first_s", region.tapering_s},
                     {"of_place_s", seconds}};
    uneven_saved_s_ += place.saved_s;
    replayed_ = replayed_ || best_s > 0;
    bound_by_places(loss);
    if (!(seconds >= loss.figures["of_place_s"])) return;
    loss.name = region.place;
    for (const auto& [name, value] : place.figures) loss.figures.set_made(name, value);
  }
  // All places mended together.
  void bound_by_places(Loss& loss) const {
    if (replayed_ && uneven_saved_s_ > 0) loss.limit_s = std::max(0.0, ledger_.wall_s - uneven_saved_s_);
  }

  void locks() {
    const double seconds = part(LaneState::lock) + lock_s_;
    if (!(seconds > 0)) return;
    const LockFacts* worst = nullptr;
    for (const LockFacts& lock : sums_.locks) {
      if (worst == nullptr || lock.wait_s > worst->wait_s) worst = &lock;
    }
    Loss& loss = lose(Cause::lock_wait, seconds);
    if (worst == nullptr) return;
    loss.name = worst->name;
    if (!worst->place.empty()) {
      loss.name = sums_.looks ? worst->place : worst->name + " at " + worst->place;
      loss.figures["of_library"] = 1;
    }
    if (sums_.looks) {
      loss.figures["waiters"] = sums_.looks->lock_waiters;
      loss.figures["locks"] = sums_.looks->lock_kinds;
      loss.figures["lanes"] = ledger_.lanes;
      loss.figures["wait_s"] = worst->wait_s;
      loss.figures["coarse"] = 1;
      return;
    }
    loss.figures["waits"] = worst->waits;
    loss.figures["wait_s"] = worst->wait_s;
    loss.figures["holds"] = worst->holds;
    loss.figures["hold_s"] = worst->hold_s;
    // Whoever holds it and is on no processor waits for one, or sleeps.
    constexpr double mostly = 0.5;
    if (worst->hold_off_s < mostly * worst->hold_s) return;
    const bool ready = part(LaneState::waiting_to_run) >= mostly * scale_ * worst->hold_off_s;
    loss.figures.set_made(ready ? "holder_ready_s" : "holder_asleep_s", worst->hold_off_s);
  }

  // What the work took more or less than the baseline's, each cause capped by what is left.
  void work_change();
  double more_allocations(double left);
  double shared_lines(double left);
  double slower_processors(double left, double one_s);
  void in_the_kernel(double system_s);
  void less_waiting(double less_s, double base_blocked_s, double& left);
  void as_if_all_did_all(Loss& loss) const;

  void gather() {
    std::stable_sort(ledger_.losses.begin(), ledger_.losses.end(),
                     [](const Loss& a, const Loss& b) { return a.loss_s > b.loss_s; });
    double all = 0;
    for (const Loss& loss : ledger_.losses) all += loss.loss_s;
    ledger_.unattributed_s = ledger_.lane_seconds() - basis_.baseline_s - all;
  }

  Ledger& ledger_;
  const LaneSums& sums_;
  const LedgerBasis& basis_;
  double scale_;
  LaneParts parts_s_;
  double threads_s_ = 0;  // that bodies may have spent on threads
  double left_dispatch_ = 0;
  double left_imbalance_ = 0;
  double lock_s_ = 0;
  double uneven_saved_s_ = 0;  // of a call, by all places together
  bool replayed_ = false;
  internal::RankLosses ranks_;
};

}  // namespace antcrew::internal
