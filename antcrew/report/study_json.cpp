#include "antcrew/report/study_json.hpp"

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/log/coarse_sums.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/point_json.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/report/internal/json_values.hpp"
#include "antcrew/report/internal/scaling_json.hpp"

namespace antcrew::report_layer {
namespace {

using internal::estimate_json;
using internal::text_or_null;
using internal::whose_json;

Json cell_name(const CellFigures* f) {
  if (f == nullptr) return nullptr;
  return {{"variant", f->cell->variant},
          {"crew", f->cell->crew},
          {"workers", f->cell->workers},
          {"attempt", f->cell->attempt}};
}

// What the headline's interval is made from.
Json claim_json(const Conclusion& c) {
  if (!c.claim) return nullptr;
  const auto inputs_json = [](const std::vector<ByInput>& inputs) {
    Json all = Json::array();
    for (const ByInput& one : inputs) all.push_back({{"input", one.seed}, {"ratio", one.ratio}});
    return all;
  };
  return {{"blocks", c.claim->blocks},
          {"rounds", c.claim->rounds},
          {"correlation", c.claim->correlation},
          {"times_as_wide", c.claim->widened},
          {"spans", estimate_json(c.claim->spans)},
          {"drifts", c.claim->drifts},
          {"speedup_by_input", inputs_json(c.by_input)},
          {"over_rival_by_input", inputs_json(c.rivals_by_input)}};
}

Json conclusion_json(const Conclusion& c) {
  Json level = Json::array();
  for (const CellFigures* f : c.level) level.push_back(cell_name(f));
  return {{"answer", name_of(c.answer)},
          {"point", c.point},
          {"leader", cell_name(c.leader)},
          {"speedup", estimate_json(c.speedup)},
          {"confirmed", c.confirmed},
          {"not_told_apart", std::move(level)},
          {"better", cell_name(c.better)},
          {"matters", c.matters},
          {"of_one_input_and_process", c.of_one_block},
          {"rests_on", claim_json(c)}};
}

Json left_out_json(const Record& record) {
  Json left_out = Json::array();
  for (const LeftOut& left : record.left_out)
    left_out.push_back({{"what", name_of(left.what)},
                        {"size", record.points[left.point].size},
                        {"needed_s", left.needed_s},
                        {"cells", left.count}});
  return left_out;
}

Json phases_json(const CellFigures& f) {
  Json phases = Json::object();
  for (const auto& [name, phase] : f.phases) {
    phases[name] = {{"worker_s", phase.worker_s},
                    {"count", phase.count},
                    {"wall_s", phase.wall_s},
                    {"at_once", phase.at_once},
                    {"by_worker_s", phase.by_worker_s}};
  }
  return phases;
}

Json ladders_json(const Analysed& study) {
  Json ladders = Json::array();
  for (const auto& steps : study.ladders) {
    Json ladder = Json::array();
    for (const LadderStep& step : steps) {
      ladder.push_back({{"variant", step.cell->cell->variant},
                        {"crew", step.cell->cell->crew},
                        {"attempt", step.cell->cell->attempt},
                        {"workers", step.cell->cell->workers},
                        {"over_previous", estimate_json(step.over_previous)},
                        {"speedup", estimate_json(step.cell->speedup)},
                        {"paired", step.paired}});
    }
    ladders.push_back(std::move(ladder));
  }
  return ladders;
}

Json crowds_json(const Analysed& study) {
  Json crowds = Json::array();
  for (const CrowdFigure& crowd : study.crowds) {
    crowds.push_back({{"size", study.record->points[crowd.point].size},
                      {"dimensions", study.record->points[crowd.point].dimensions},
                      {"copies", crowd.copies},
                      {"slowdown", estimate_json(crowd.slowdown)}});
  }
  return crowds;
}

std::optional<double> as_number(const std::optional<int>& count) {
  return count ? std::optional<double>(*count) : std::nullopt;
}

Json used_json(const Cell& cell) {
  const auto counted = [&](std::optional<std::int64_t> Trial::*count) { return Json(median_a_call(cell, count)); };
  const auto known = [&](const auto& field) { return Json(median_where_known(cell, field)); };
  return {{"user_s", known([](const Trial& t) { return t.user_s; })},
          {"system_s", known([](const Trial& t) { return t.system_s; })},
          {"others_cpu_s", known([](const Trial& t) { return t.others_cpu_s; })},
          {"run_delay_s", known([](const Trial& t) { return std::optional<double>(t.run_delay_s); })},
          {"switches_voluntary", counted(&Trial::switches_voluntary)},
          {"switches_forced", counted(&Trial::switches_forced)},
          {"faults_minor", counted(&Trial::faults_minor)},
          {"faults_major", counted(&Trial::faults_major)},
          {"instructions", known([](const Trial& t) { return std::optional<double>(t.instructions); })},
          {"cycles", known([](const Trial& t) { return std::optional<double>(t.cycles); })},
          {"reported_s", known([](const Trial& t) { return t.reported_s; })},
          {"most_threads", known([](const Trial& t) { return as_number(t.most_threads); })},
          {"most_processes", known([](const Trial& t) { return as_number(t.most_processes); })},
          {"printed_bytes", known([](const Trial& t) { return std::optional<double>(t.printed_bytes); })}};
}

Json check_json(const Cell& cell) {
  if (!cell.check) return nullptr;
  return {
      {"other_size", cell.check->other_size}, {"own_input", cell.check->own_input}, {"trouble", cell.check->trouble}};
}

Json work_json(const std::optional<WorkAndSpan>& w) {
  if (!w) return nullptr;
  return {{"work_s", w->work_s},   {"span_s", w->span_s}, {"parallelism", w->parallelism},
          {"least_s", w->least_s}, {"most_s", w->most_s}, {"sure", "likely"}};
}

Json cell_json(const CellFigures& f, const Point& point) {
  const bool figures = f.verdict >= Verdict::too_few_rounds;
  const auto only = [&](const Json& value) { return figures ? value : Json(nullptr); };
  return {{"variant", f.cell->variant},
          {"crew", f.cell->crew},
          {"kind", name_of(f.cell->kind)},
          {"workers", f.cell->workers},
          {"size", point.size},
          {"dimensions", point.dimensions},
          {"pin", name_of(point.pin)},
          {"base_size", point.base_size == 0 ? point.size : point.base_size},
          {"verdict", name_of(f.verdict)},
          {"evidence", f.evidence},
          {"confirmed", f.confirmed},
          {"time_s", estimate_json(f.time_s)},
          {"speedup", only(estimate_json(f.speedup))},
          {"read_speedup", only(Json(f.read_speedup))},
          {"first_call_speedup", only(Json(f.first_speedup))},
          {"speedup_by_means", only(Json(f.speedup_by_means))},
          {"speedup_by_cpu", only(Json(f.speedup_by_cpu))},
          {"self_speedup", only(estimate_json(f.self_speedup))},
          {"efficiency", only(Json(f.efficiency))},
          {"processor_efficiency", only(Json(f.processor_efficiency))},
          {"overhead_s", only(Json(f.overhead_s))},
          {"relative_overhead", only(Json(f.relative_overhead))},
          {"one_worker_penalty", only(Json(f.one_worker_penalty))},
          {"serial_fraction", only(Json(f.serial_fraction))},
          {"serial_fraction_over", only(Json(f.serial_fraction_of_itself ? "own time with one worker" : "baseline"))},
          {"serial_fraction_interval", only(estimate_json(f.serial_fraction_bounds))},
          {"efficiency_interval", only(estimate_json(f.efficiency_bounds))},
          {"overhead_s_interval", only(estimate_json(f.overhead_bounds))},
          {"worker_s_an_item", only(Json(f.worker_s_an_item))},
          {"work_and_span", only(work_json(f.work_and_span))},
          {"cpu_s", f.time_s ? Json(median_cpu_s(*f.cell)) : Json(nullptr)},
          {"busy_processors", Json(f.busy_processors)},
          {"startup_s", Json(f.startup_s)},
          {"cold_cost_s", Json(f.cold_cost_s)},
          {"part_left_out_s", f.part_s ? Json(f.part_s->median) : Json(nullptr)},
          {"part_left_out", estimate_json(f.part_s)},
          {"peak_bytes", f.peak_bytes},
          {"peak_bytes_is_a_lower_bound", f.several_processes},
          {"attempt", f.cell->attempt},
          {"keeps", f.cell->keeps},
          {"answer", f.cell->answer},
          {"check", check_json(*f.cell)},
          {"used", used_json(*f.cell)},
          {"command", f.cell->command},
          {"folder", f.cell->folder},
          {"empty_s", f.cell->empty_s.empty() ? Json(nullptr) : Json(median(f.cell->empty_s))},
          {"no_resources", f.cell->no_resources},
          {"phases", phases_json(f)},
          {"counters", f.counters},
          {"quantities", f.quantities}};
}

Json finding_json(const Analysed& study, const FindingView& view) {
  const Finding& f = view.numbers;
  Json json = {{"id", f.id}, {"class", name_of(f.kind)}};
  json.update(whose_json(study, f.of));
  const bool loss = f.kind == Finding::Kind::loss;
  json["loss_s"] = loss ? Json(f.loss_s) : Json(nullptr);
  json["share"] = loss ? Json(f.share) : Json(nullptr);
  json["gain_speedup"] = f.gain_speedup;
  json["limit_speedup"] = f.limit_speedup;
  json["limit_by"] = text_or_null(f.limit_by);
  json["sure"] = name_of(f.sure);
  json["or_else"] = text_or_null(f.or_else);
  json["name"] = text_or_null(f.name);
  json["claim"] = view.claim;
  json["figures"] = f.figures;
  json["try"] = view.advice;
  return json;
}

Json parts_json(const LaneParts& parts) {
  Json json = Json::object();
  for (std::size_t k = 0; k < internal::lane_states; ++k) json[name_of(static_cast<LaneState>(k))] = parts.seconds[k];
  return json;
}

Json losses_json(const Ledger& ledger) {
  Json losses = Json::array();
  for (const Loss& loss : ledger.losses) losses.push_back({{"id", id_of(loss.cause)}, {"loss_s", loss.loss_s}});
  return losses;
}

// The coarse form: what it rests on, and by how much a share may be off.
Json looks_json(const internal::SampleFacts& looks) {
  return {{"moments", looks.moments},     {"lanes", looks.lanes},        {"share_error", internal::share_error(looks)},
          {"own_share", looks.own_share}, {"threads", looks.threads},    {"outside", looks.outside},
          {"refused", looks.refused},     {"blocked_s", looks.blocked_s}};
}

Json rank_json(const internal::RankFacts& ranks) {
  Json by_rank = Json::array();
  for (std::size_t rank = 0; rank < ranks.parts_s.size(); ++rank) {
    const auto host = static_cast<std::size_t>(ranks.host_of.at(rank));
    by_rank.push_back({{"rank", rank},
                       {"host", ranks.hosts.at(host)},
                       {"parts_s", parts_json(ranks.parts_s[rank])},
                       {"arithmetic_s", ranks.arithmetic_s.at(rank)},
                       {"clock_off_s", ranks.clock_off_s.at(rank)}});
  }
  Json links = Json::array();
  for (const internal::HostLink& link : ranks.links) {
    links.push_back({{"from", ranks.hosts.at(static_cast<std::size_t>(link.from))},
                     {"to", ranks.hosts.at(static_cast<std::size_t>(link.to))},
                     {"round_trip_s", link.round_trip_s},
                     {"bytes_per_s", link.bytes_per_s}});
  }
  Json sent = Json::array();
  for (const internal::SentData& one : ranks.sent)
    sent.push_back({{"from", one.from},
                    {"to", one.to},
                    {"bytes", one.bytes},
                    {"messages", one.messages},
                    {"edge_bytes", one.edge_bytes}});
  Json waits = Json::array();
  for (const internal::MessageWait& one : ranks.waits)
    waits.push_back({{"rank", one.rank}, {"awaited", one.awaited}, {"seconds", one.seconds}});
  return {{"by_rank", std::move(by_rank)},
          {"links", std::move(links)},
          {"sent", std::move(sent)},
          {"waits", std::move(waits)}};
}

Json ledger_json(const Analysed& study, const CellFigures& cell, const Ledger& ledger) {
  Json json = whose_json(study, &cell);
  json["lanes"] = ledger.lanes;
  json["wall_s"] = ledger.wall_s;
  json["parts_s"] = parts_json(ledger.parts_s);
  json["metering_s"] = ledger.metering_s;
  json["necessary_s"] = ledger.necessary_s;
  json["work_change_s"] = ledger.work_change_s;
  json["losses"] = losses_json(ledger);
  json["unattributed_s"] = ledger.unattributed_s;
  json["outside_s"] = ledger.outside_s;
  json["cpu_frames_s"] = ledger.cpu_frames_s;
  json["cpu_kernel_s"] = ledger.cpu_kernel_s > 0 ? Json(ledger.cpu_kernel_s) : Json(nullptr);
  json["metering_slowdown"] = ledger.slowdown;
  Json phases = Json::object();
  for (const auto& [name, parts] : ledger.sums->phases) phases[name] = parts_json(parts);
  json["phases"] = std::move(phases);
  json["looks"] = ledger.sums->looks ? looks_json(*ledger.sums->looks) : Json(nullptr);
  json["ranks"] = ledger.sums->ranks ? rank_json(*ledger.sums->ranks) : Json(nullptr);
  json["withheld"] = text_or_null(ledger.withheld);
  return json;
}

}  // namespace

std::string study_json(const StudyView& view) {
  const Analysed& study = view.study;
  Json cells = Json::array();
  for (const CellFigures& f : study.cells) cells.push_back(cell_json(f, study.record->points[f.cell->point]));
  Json warnings = Json::array();
  for (const FindingView& warning : view.warnings) warnings.push_back(warning.claim_with_cell());
  Json sources = Json::array();
  for (const auto& source : study.record->sources)
    sources.push_back({{"of", source.of},
                       {"file", source.file},
                       {"part", source.part},
                       {"lines", source.lines},
                       {"trouble", source.trouble}});
  const Json json = {{"title", study.record->title},
                     {"headline", view.sentence},
                     {"conclusion", conclusion_json(study.conclusion)},
                     {"left_out", left_out_json(*study.record)},
                     {"warnings", warnings},
                     {"machine", Json::parse(to_json(study.record->machine))},
                     {"crowds", crowds_json(study)},
                     {"ladders", ladders_json(study)},
                     {"sources", std::move(sources)},
                     {"cells", std::move(cells)}};
  return json.dump(2) + "\n";
}

std::string explanation_json(const StudyView& view, bool timelines) {
  const Analysed& study = view.study;
  Json findings = Json::array();
  for (const FindingView* f : view.findings()) findings.push_back(finding_json(study, *f));
  Json ledgers = Json::array();
  for (const CellFigures& cell : study.cells) {
    const std::string withheld = withheld_because(study, cell);
    for (Ledger ledger : ledgers_of(study, cell)) {
      if (ledger.withheld.empty()) ledger.withheld = withheld;
      ledgers.push_back(ledger_json(study, cell, ledger));
    }
  }
  Json json = {{"title", study.record->title}, {"findings", std::move(findings)}, {"ledgers", std::move(ledgers)}};
  internal::add_scaling(study, json);
  if (timelines) internal::add_timelines(study, json);
  return json.dump(2) + "\n";
}

}  // namespace antcrew::report_layer
