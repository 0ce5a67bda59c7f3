#include "antcrew/report/derived_json.hpp"

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/point_json.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/headline.hpp"

namespace antcrew::report_layer {
namespace {

// An interval has low and high; what was merely seen has other names, so that nobody takes it for one.
Json estimate_json(const std::optional<Estimate>& e) {
  if (!e) return nullptr;
  if (e->claimed)
    return {{"median", e->median}, {"low", e->low}, {"high", e->high}, {"level", 0.95}, {"rounds", e->count}};
  return {{"median", e->median}, {"least_seen", e->low}, {"most_seen", e->high}, {"rounds", e->count}};
}

Json cell_name(const CellFigures* f) {
  if (f == nullptr) return nullptr;
  return {{"variant", f->cell->variant},
          {"crew", f->cell->crew},
          {"workers", f->cell->workers},
          {"attempt", f->cell->attempt}};
}

Json conclusion_json(const Conclusion& c) {
  Json level = Json::array();
  for (const CellFigures* f : c.level) level.push_back(cell_name(f));
  return {{"answer", name_of(c.answer)},         {"point", c.point},         {"leader", cell_name(c.leader)},
          {"speedup", estimate_json(c.speedup)}, {"confirmed", c.confirmed}, {"not_told_apart", std::move(level)},
          {"better", cell_name(c.better)}};
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

Json number_json(const std::optional<double>& value) {
  return value ? Json(*value) : Json(nullptr);
}

Json phases_json(const CellFigures& f) {
  Json phases = Json::object();
  for (const auto& [name, phase] : f.phases) {
    phases[name] = {{"worker_s", phase.worker_s},
                    {"count", phase.count},
                    {"wall_s", number_json(phase.wall_s)},
                    {"at_once", phase.at_once ? Json(*phase.at_once) : Json(nullptr)},
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
  const auto counted = [&](std::optional<std::int64_t> Trial::*count) {
    return number_json(median_a_call(cell, count));
  };
  const auto known = [&](const auto& field) { return number_json(median_where_known(cell, field)); };
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
          {"read_speedup", only(number_json(f.read_speedup))},
          {"first_call_speedup", only(number_json(f.first_speedup))},
          {"speedup_by_means", only(number_json(f.speedup_by_means))},
          {"self_speedup", only(estimate_json(f.self_speedup))},
          {"efficiency", only(number_json(f.efficiency))},
          {"processor_efficiency", only(number_json(f.processor_efficiency))},
          {"overhead_s", only(number_json(f.overhead_s))},
          {"relative_overhead", only(number_json(f.relative_overhead))},
          {"one_worker_penalty", only(number_json(f.one_worker_penalty))},
          {"serial_fraction", only(number_json(f.serial_fraction))},
          {"cpu_s", f.time_s ? number_json(median_cpu_s(*f.cell)) : Json(nullptr)},
          {"busy_processors", number_json(f.busy_processors)},
          {"startup_s", number_json(f.startup_s)},
          {"cold_cost_s", number_json(f.cold_cost_s)},
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
          {"counters", f.counters}};
}

}  // namespace

std::string derived_json(const Analysed& study) {
  Json cells = Json::array();
  for (const CellFigures& f : study.cells) cells.push_back(cell_json(f, study.record->points[f.cell->point]));
  Json warnings = Json::array();
  for (const Finding& remark : study.remarks) warnings.push_back(claim_with_cell(study, remark));
  Json sources = Json::array();
  for (const auto& source : study.record->sources)
    sources.push_back({{"of", source.of},
                       {"file", source.file},
                       {"part", source.part},
                       {"lines", source.lines},
                       {"trouble", source.trouble}});
  const Json json = {{"title", study.record->title},
                     {"headline", headline(study)},
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

}  // namespace antcrew::report_layer
