#include "antcrew/report/findings_json.hpp"

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/log/coarse_sums.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/scaling_json.hpp"

namespace antcrew::report_layer {
namespace {

Json optional_number(const std::optional<double>& value) {
  return value ? Json(*value) : Json(nullptr);
}

Json finding_json(const Analysed& study, const Finding& f) {
  Json json = {{"id", f.id}, {"class", name_of(f.kind)}};
  json.update(whose_json(study, f.of));
  const bool loss = f.kind == Finding::Kind::loss;
  json["loss_s"] = loss ? Json(f.loss_s) : Json(nullptr);
  json["share"] = loss ? Json(f.share) : Json(nullptr);
  json["gain_speedup"] = optional_number(f.gain_speedup);
  json["limit_speedup"] = optional_number(f.limit_speedup);
  json["limit_by"] = f.limit_by.empty() ? Json(nullptr) : Json(f.limit_by);
  json["sure"] = name_of(f.sure);
  json["or_else"] = f.or_else.empty() ? Json(nullptr) : Json(f.or_else);
  json["name"] = f.name.empty() ? Json(nullptr) : Json(f.name);
  json["claim"] = claim_of(f);
  json["figures"] = f.figures;
  json["try"] = advice_for(f);
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
Json looks_json(const internal::LookFacts& looks) {
  return {{"moments", looks.moments},     {"lanes", looks.lanes},        {"share_error", internal::share_error(looks)},
          {"own_share", looks.own_share}, {"threads", looks.threads},    {"outside", looks.outside},
          {"refused", looks.refused},     {"blocked_s", looks.blocked_s}};
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
  json["metering_slowdown"] = optional_number(ledger.slowdown);
  Json phases = Json::object();
  for (const auto& [name, parts] : ledger.sums->phases) phases[name] = parts_json(parts);
  json["phases"] = std::move(phases);
  json["looks"] = ledger.sums->looks ? looks_json(*ledger.sums->looks) : Json(nullptr);
  json["withheld"] = ledger.withheld.empty() ? Json(nullptr) : Json(ledger.withheld);
  return json;
}

}  // namespace

std::string explanation_json(const Analysed& study, bool timelines) {
  Json findings = Json::array();
  for (const Finding& f : findings_of(study)) findings.push_back(finding_json(study, f));
  Json ledgers = Json::array();
  for (const CellFigures& cell : study.cells) {
    const std::string withheld = withheld_because(study, cell);
    for (Ledger ledger : ledgers_of(study, cell)) {
      if (ledger.withheld.empty()) ledger.withheld = withheld;
      ledgers.push_back(ledger_json(study, cell, ledger));
    }
  }
  Json json = {{"title", study.record->title}, {"findings", std::move(findings)}, {"ledgers", std::move(ledgers)}};
  add_scaling(study, json);
  if (timelines) add_timelines(study, json);
  return json.dump(2) + "\n";
}

}  // namespace antcrew::report_layer
