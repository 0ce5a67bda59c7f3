// The fields of metered calls, as record_fields.hpp has those of all else.
#pragma once

#include <type_traits>

#include "antcrew/log/lane_sums.hpp"
#include "antcrew/record/layer.hpp"

namespace antcrew::internal {

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, ImbalanceCauses>
void fields(F&& f, R& c) {
  f.later("late_s", c.late_s);
  f.later("shared_s", c.shared_s);
  f.later("lock_s", c.lock_s);
  f.later("uneven_s", c.uneven_s);
  f.later("divisible_s", c.divisible_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, RegionFacts>
void fields(F&& f, R& r) {
  f.later("place", r.place);
  f.later("sharing", r.sharing);
  f.later("calls", r.calls);
  f.later("n", r.n);
  f.later("pieces", r.pieces);
  f.later("stolen", r.stolen);
  f.later("wall_s", r.wall_s);
  f.later("body_s", r.body_s);
  f.later("dispatch_s", r.dispatch_s);
  f.later("late_s", r.late_s);
  f.later("no_work_s", r.no_work_s);
  f.later("imbalance_s", r.imbalance_s);
  f.later("causes", r.causes);
  f.later("longest_piece_s", r.longest_piece_s);
  f.later("longest_piece_at", r.longest_piece_at);
  f.later("longest_piece_lane", r.longest_piece_lane);
  f.later("mean_piece_s", r.mean_piece_s);
  f.later("finer_s", r.finer_s);
  f.later("tapering_s", r.tapering_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, SerialFacts>
void fields(F&& f, R& s) {
  f.later("after", s.after);
  f.later("before", s.before);
  f.later("phase", s.phase);
  f.later("seconds", s.seconds);
  f.later("count", s.count);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, LockFacts>
void fields(F&& f, R& l) {
  f.later("name", l.name);
  f.later("waits", l.waits);
  f.later("wait_s", l.wait_s);
  f.later("holds", l.holds);
  f.later("hold_s", l.hold_s);
  f.later("hold_off_s", l.hold_off_s);
  f.later("place", l.place);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, LibraryCounts>
void fields(F&& f, R& l) {
  f.later("allocations", l.allocations);
  f.later("allocated_bytes", l.allocated_bytes);
  f.later("allocating_s", l.allocating_s);
  f.later("threads", l.threads);
  f.later("beginning_s", l.beginning_s);
  f.later("locks", l.locks);
  f.later("waits", l.waits);
  f.later("waited_s", l.waited_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, StageFigures>
void fields(F&& f, R& s) {
  f.later("name", s.name);
  f.later("alone", s.alone);
  f.later("busy_s", s.busy_s);
  f.later("items", s.items);
  f.later("waited_s", s.waited_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Timeline>
void fields(F&& f, R& t) {
  f("wall_s", t.wall_s);
  f("all_lanes", t.all_lanes);
  f("resolution_s", t.resolution_s);
  f("merged", t.merged);
  f.later("names", t.names);
  f("lanes", t.lanes);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, SampleFacts>
void fields(F&& f, R& l) {
  f("moments", l.moments);
  f("lanes", l.lanes);
  f.later("own_share", l.own_share);
  f.later("threads", l.threads);
  f.later("outside", l.outside);
  f.later("processors", l.processors);
  f.later("refused", l.refused);
  f.later("lock_waiters", l.lock_waiters);
  f.later("lock_kinds", l.lock_kinds);
  f.later("most_there", l.most_there);
  f.later("standing", l.standing);
  f.later("blocked_s", l.blocked_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, HostLink>
void fields(F&& f, R& l) {
  f.later("from", l.from);
  f.later("to", l.to);
  f.later("round_trip_s", l.round_trip_s);
  f.later("bytes_per_s", l.bytes_per_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, SentData>
void fields(F&& f, R& s) {
  f.later("from", s.from);
  f.later("to", s.to);
  f.later("bytes", s.bytes);
  f.later("messages", s.messages);
  f.later("edge_bytes", s.edge_bytes);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, MessageWait>
void fields(F&& f, R& w) {
  f.later("rank", w.rank);
  f.later("awaited", w.awaited);
  f.later("seconds", w.seconds);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, RankFacts>
void fields(F&& f, R& r) {
  f("hosts", r.hosts);
  f.later("processors", r.processors);
  f("host_of", r.host_of);
  f.later("arithmetic_s", r.arithmetic_s);
  f.later("clock_off_s", r.clock_off_s);
  f.later("cpu_s", r.cpu_s);
  f.later("system_s", r.system_s);
  f.later("links", r.links);
  f.later("sent", r.sent);
  f.later("waits", r.waits);
  f.later("parts_s", r.parts_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, LaneSums>
void fields(F&& f, R& s) {
  f("wall_s", s.wall_s);
  f("lanes", s.lanes);
  f("parts_s", s.parts_s);
  f.later("plain_s", s.plain_s);
  f.later("slowdown", s.slowdown);
  f.later("metering_s", s.metering_s);
  f.later("cpu_frames_s", s.cpu_frames_s);
  f.later("cpu_kernel_s", s.cpu_kernel_s);
  f.later("parent_cpu_s", s.parent_cpu_s);
  f.later("calls_outside", s.calls_outside);
  f.later("cpu_tree_s", s.cpu_tree_s);
  f.later("system_s", s.system_s);
  f.later("page_faults", s.page_faults);
  f.later("page_fault_s", s.page_fault_s);
  f.later("serial_cpu_s", s.serial_cpu_s);
  f.later("moved_bytes", s.moved_bytes);
  f.later("buffer_full_s", s.buffer_full_s);
  f.later("source_s", s.source_s);
  f.later("events", s.events);
  f.later("regions", s.regions);
  f.later("short_regions_s", s.short_regions_s);
  f.later("call_cost_s", s.call_cost_s);
  f.later("piece_cost_s", s.piece_cost_s);
  f.later("withheld", s.withheld);
  f.later("delay_known", s.delay_known);
  f.later("lane_body_s", s.lane_body_s);
  f.later("by_place", s.by_place);
  f.later("serials", s.serials);
  f.later("locks", s.locks);
  f.later("stages", s.stages);
  f.later("phases", s.phases);
  f.later("looks", s.looks);
  f.later("timeline", s.timeline);
  f.later("ranks", s.ranks);
  f.later("critical_path_s", s.critical_path_s);
  f.later("library", s.library);
  f.later("memory_counted", s.memory_counted);
  f.later("thread_cost_s", s.thread_cost_s);
  f.later("forks", s.forks);
  f.later("fork_cost_s", s.fork_cost_s);
  f.later("one_worker_s", s.one_worker_s);
  f.later("spread_cpu_s", s.spread_cpu_s);
  f.later("one_place_cpu_s", s.one_place_cpu_s);
  f.later("spinning_s", s.spinning_s);
}

}  // namespace antcrew::internal
