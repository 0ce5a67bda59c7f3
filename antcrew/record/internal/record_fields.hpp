// The fields of everything in a record, one list a type, used for writing and for reading.
//
// f(name, field) is one that every record has had from the first on; f.later(name, field) came later, or may be absent:
// then it keeps its default. R is the type, const when it is written.
#pragma once

#include <type_traits>

#include "antcrew/record/internal/lane_fields.hpp"
#include "antcrew/record/layer.hpp"
#include "antcrew/record/record.hpp"

namespace antcrew::internal {

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Cache>
void fields(F&& f, R& c) {
  f("level", c.level);
  f("size_bytes", c.bytes);
  f("count", c.count);
  f("line_bytes", c.line_bytes);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, ProcessorKind>
void fields(F&& f, R& k) {
  f("speed", k.speed);
  f("processors", k.processors);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Machine>
void fields(F&& f, R& m) {
  f("processor", m.processor);
  f("system", m.system);
  f("logical_processors", m.topology.logical_processors);
  f("physical_cores", m.topology.physical_cores);
  f("packages", m.topology.packages);
  f("numa_nodes", m.topology.numa_nodes);
  f("caches", m.topology.caches);
  f("online_processors", m.limits.online_processors);
  f("affinity_processors", m.limits.affinity_processors);
  f("quota_cpus", m.limits.quota_cpus);
  f("stack_limit_bytes", m.limits.stack_bytes);
  f("memory_bytes", m.limits.memory_bytes);
  f("available_bytes", m.limits.available_bytes);
  f("memory_limit_bytes", m.limits.memory_limit_bytes);
  f("clock_resolution_ns", m.clock.resolution_ns);
  f("clock_read_ns", m.clock.read_ns);
  f("load_1min", m.load_1min);
  f.later("processor_kinds", m.topology.kinds);
  f.later("frequency_governor", m.settings.governor);
  f.later("boost", m.settings.boost);
  f.later("siblings_in_use", m.settings.siblings);
  f.later("large_pages", m.settings.large_pages);
  f.later("hardware_counters", m.settings.counters);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, BuildFacts>
void fields(F&& f, R& b) {
  f("compiler", b.compiler);
  f("flags", b.flags);
  f("build_type", b.build_type);
  f("optimised", b.optimised);
  f("library_optimised", b.library_optimised);
  f.later("program_hash", b.program_hash);
  f.later("sanitizers", b.sanitizers);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, PlanFacts>
void fields(F&& f, R& p) {
  f.later("least_rounds", p.least_rounds);
  f.later("most_rounds", p.most_rounds);
  f.later("width", p.width);
  f("budget_s", p.budget_s);
  f("seed", p.seed);
  f.later("stands", p.stands);
  f.later("weak_scaling", p.weak_scaling);
  f.later("confirm", p.confirm);
  f.later("matters", p.matters);
  f.later("launches", p.launches);
  f.later("inputs", p.inputs);
  f.later("asked", p.asked);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Point>
void fields(F&& f, R& p) {
  f("size", p.size);
  f("dimensions", p.dimensions);
  f.later("pin", p.pin);
  f.later("base_size", p.base_size);
  f.later("grown_for", p.grown_for);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Fault>
void fields(F&& f, R& fault) {
  f("kind", fault.kind);
  f("round", fault.round);
  f("text", fault.text);
  f("evidence", fault.evidence);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, SourceFacts>
void fields(F&& f, R& s) {
  f("of", s.of);
  f("file", s.file);
  f("part", s.part);
  f("lines", s.lines);
  f.later("trouble", s.trouble);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, FileFacts>
void fields(F&& f, R& file) {
  f("name", file.name);
  f("hash", file.hash);
  f("changed", file.changed);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, PhaseFacts>
void fields(F&& f, R& p) {
  f("worker_s", p.worker_s);
  f("count", p.count);
  f.later("wall_s", p.wall_s);
  f.later("at_once", p.at_once);
  f.later("by_worker_s", p.by_worker_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Trial>
void fields(F&& f, R& t) {
  f("round", t.round);
  f.later("generation", t.generation);
  f.later("confirming", t.confirming);
  f.later("block", t.block);
  f.later("stand", t.stand);
  f.later("start_s", t.start_s);
  f.later("order", t.order);
  f("wall_s", t.wall_s);
  f("calls", t.calls);
  f.later("times_s", t.times_s);
  f.later("first", t.first);
  f("visited_s", t.visited_s);
  f("settling_calls", t.settling_calls);
  f("settling_s", t.settling_s);
  f.later("user_s", t.user_s);
  f.later("system_s", t.system_s);
  f.later("others_cpu_s", t.others_cpu_s);
  f.later("run_delay_s", t.run_delay_s);
  f.later("switches_voluntary", t.switches_voluntary);
  f.later("switches_forced", t.switches_forced);
  f.later("faults_minor", t.faults_minor);
  f.later("faults_major", t.faults_major);
  f.later("peak_bytes", t.peak_bytes);
  f.later("compare_s", t.compare_s);
  f.later("tail_s", t.tail_s);
  f.later("tail_cpu_s", t.tail_cpu_s);
  f("agreed", t.agreed);
  f.later("processor", t.processor);
  f.later("processors", t.processors);
  f.later("throttled_s", t.throttled_s);
  f.later("instructions", t.instructions);
  f.later("cycles", t.cycles);
  f.later("printed_bytes", t.printed_bytes);
  f.later("phases", t.phases);
  f.later("counters", t.counters);
  f.later("quantities", t.quantities);
  f.later("reported_s", t.reported_s);
  f.later("most_threads", t.most_threads);
  f.later("most_processes", t.most_processes);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, CheckFacts>
void fields(F&& f, R& c) {
  f("other_size", c.other_size);
  f("own_input", c.own_input);
  f("trouble", c.trouble);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Cell>
void fields(F&& f, R& c) {
  f("variant", c.variant);
  f("crew", c.crew);
  f("kind", c.kind);
  f("workers", c.workers);
  f("point", c.point);
  f.later("attempt", c.attempt);
  f.later("baseline_for", c.baseline_for);
  f.later("probe_of", c.probe_of);
  f.later("keeps", c.keeps);
  f.later("chooses_workers", c.chooses_workers);
  f("startup_s", c.startup_s);
  f("cold_s", c.cold_s);
  f.later("cold_cpu_s", c.cold_cpu_s);
  f.later("tree_bytes", c.tree_bytes);
  f("asked_processors", c.asked_processors);
  f("granted_processors", c.granted_processors);
  f.later("printed", c.printed);
  f.later("answer", c.answer);
  f.later("command", c.command);
  f.later("folder", c.folder);
  f.later("empty_s", c.empty_s);
  f.later("no_resources", c.no_resources);
  f.later("check", c.check);
  f.later("metered", c.metered);
  f("faults", c.faults);
  f("trials", c.trials);
  f.later("came_through", c.came_through);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, CrowdFacts>
void fields(F&& f, R& c) {
  f("point", c.point);
  f("copies", c.copies);
  f("time_s", c.time_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, BlockFacts>
void fields(F&& f, R& b) {
  f("point", b.point);
  f("make_input_s", b.make_input_s);
  f("reference_s", b.reference_s);
  f("input_bytes", b.input_bytes);
  f("own_inputs", b.own_inputs);
  f("wall_s", b.wall_s);
  f("own_cpu_s", b.own_cpu_s);
  f("other_cpu_s", b.other_cpu_s);
  f("steal_s", b.steal_s);
  f("throttled_s", b.throttled_s);
  f.later("confirming", b.confirming);
  f.later("refill_s", b.refill_s);
  f.later("neighbours_cpu_s", b.neighbours_cpu_s);
  f.later("block", b.block);
  f.later("input_seed", b.input_seed);
  f.later("afresh", b.afresh);
  f.later("not_afresh", b.not_afresh);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, ConfirmationFacts>
void fields(F&& f, R& c) {
  f("point", c.point);
  f("leader", c.leader);
  f("rivals", c.rivals);
  f("rounds", c.rounds);
  f.later("blocks", c.blocks);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, YardstickFacts>
void fields(F&& f, R& y) {
  f("edition", y.edition);
  f("arithmetic_s", y.arithmetic_s);
  f("wake_s", y.wake_s);
  f("stream_s", y.stream_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, TogetherFacts>
void fields(F&& f, R& t) {
  f("workers", t.workers);
  f("arithmetic_s", t.arithmetic_s);
  f("bytes_per_s", t.bytes_per_s);
  f("line_move_s", t.line_move_s);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, LeftOut>
void fields(F&& f, R& l) {
  f("what", l.what);
  f("point", l.point);
  f("needed_s", l.needed_s);
  f.later("count", l.count);
}

template <class F, class R>
requires std::is_same_v<std::remove_const_t<R>, Record>
void fields(F&& f, R& r) {
  f("version", r.version);
  f("library_version", r.library_version);
  f("created", r.created);
  f.later("run", r.run);
  f("title", r.title);
  f("agreement", r.agreement);
  f("measured_s", r.measured_s);
  f("complete", r.complete);
  f.later("load_before", r.load_before);
  f.later("another_study", r.another_study);
  f.later("dropped_asleep", r.dropped_asleep);
  f.later("dropped_paused", r.dropped_paused);
  f("machine", r.machine);
  f("build", r.build);
  f("plan", r.plan);
  f("points", r.points);
  f.later("blocks", r.blocks);
  f.later("crowds", r.crowds);
  f.later("yardstick", r.yardstick);
  f.later("together", r.together);
  f.later("waited_idle_s", r.waited_idle_s);
  f.later("confirmations", r.confirmations);
  f.later("left_out", r.left_out);
  f.later("ladders", r.ladders);
  f.later("sources", r.sources);
  f.later("commands", r.commands);
  f.later("files", r.files);
  f.later("environment", r.environment);
  f("cells", r.cells);
}

}  // namespace antcrew::internal
