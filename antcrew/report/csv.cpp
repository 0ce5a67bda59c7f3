#include "antcrew/report/csv.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"

namespace antcrew::report_layer {
namespace {

std::string number(double value) {
  return fmt::format("{}", value);  // the shortest that reads back the same
}
template <class T>
std::string number(const std::optional<T>& value) {
  return value ? fmt::format("{}", *value) : std::string();
}

class Rows {
 public:
  Rows& field(const std::string& text) {
    text_ += (first_ ? "" : ",") + csv_field(text);
    first_ = false;
    return *this;
  }
  Rows& plain(const std::string& number) {
    text_ += (first_ ? "" : ",") + number;
    first_ = false;
    return *this;
  }
  void end() {
    text_ += "\r\n";
    first_ = true;
  }
  std::string text() && { return std::move(text_); }

 private:
  std::string text_;
  bool first_ = true;
};

std::set<std::string> dimensions_of(const std::vector<NamedStudy>& studies) {
  std::set<std::string> names;
  for (const NamedStudy& named : studies) {
    for (const Point& point : named.study->record->points) {
      for (const auto& [name, value] : point.dimensions) names.insert(name);
    }
  }
  return names;
}

void add_point_heads(Rows& rows, const std::set<std::string>& dimensions) {
  rows.field("size");
  for (const std::string& name : dimensions) rows.field("dimension " + name);
  rows.field("pin");
}

void add_point(Rows& rows, const Point& point, const std::set<std::string>& dimensions) {
  rows.plain(point.size > 0 ? fmt::format("{}", point.size) : std::string());
  for (const std::string& name : dimensions) {
    const auto found = point.dimensions.find(name);
    if (found != point.dimensions.end() && found->second.is_word()) {
      rows.field(found->second.word());
    } else {
      rows.plain(found == point.dimensions.end() ? "" : found->second.text());
    }
  }
  rows.field(name_of(point.pin));
}

void add_estimate(Rows& rows, const std::optional<Estimate>& e) {
  for (const double value : {e ? e->median : 0, e ? e->low : 0, e ? e->high : 0}) rows.plain(e ? number(value) : "");
}

const char* bounds_are(const std::optional<Estimate>& e) {
  return !e ? "" : e->claimed ? "95 % interval" : "range seen";
}

}  // namespace

std::string csv_field(const std::string& raw) {
  std::string text = printable(raw);
  if (!text.empty() && std::string("=+-@").find(text.front()) != std::string::npos) text.insert(0, "'");
  if (text.find_first_of(",\"'") == std::string::npos && text == printable(text)) return text;
  std::string quoted = "\"";
  for (const char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

std::string cells_csv(const std::vector<NamedStudy>& studies) {
  Rows rows;
  const std::set<std::string> dimensions = dimensions_of(studies);
  for (const char* head : {"record", "variant", "crew", "kind", "attempt", "workers"}) rows.field(head);
  add_point_heads(rows, dimensions);
  for (const char* head : {"verdict",
                           "rounds",
                           "time_s",
                           "time_low_s",
                           "time_high_s",
                           "speedup",
                           "speedup_low",
                           "speedup_high",
                           "bounds_are",
                           "confirmed",
                           "efficiency",
                           "overhead_s",
                           "relative_overhead",
                           "one_worker_penalty",
                           "serial_fraction",
                           "busy_processors",
                           "startup_s",
                           "cold_cost_s",
                           "peak_bytes",
                           "evidence"})
    rows.field(head);
  rows.end();
  for (const NamedStudy& named : studies) {
    for (const CellFigures& f : named.study->cells) {
      rows.field(named.name).field(f.cell->variant).field(f.cell->crew).field(name_of(f.cell->kind));
      rows.plain(fmt::format("{}", f.cell->attempt)).plain(fmt::format("{}", f.cell->workers));
      add_point(rows, named.study->record->points[f.cell->point], dimensions);
      rows.field(name_of(f.verdict)).plain(f.time_s ? fmt::format("{}", f.time_s->count) : "");
      add_estimate(rows, f.time_s);
      const bool baseline = f.cell->kind == Cell::Kind::baseline;
      const std::optional<Estimate> speedup = baseline ? std::nullopt : f.speedup;
      add_estimate(rows, speedup);
      rows.field(bounds_are(baseline ? f.time_s : speedup)).field(f.confirmed ? "yes" : "no");
      for (const auto& value :
           {f.efficiency, f.overhead_s, f.relative_overhead, f.one_worker_penalty, f.serial_fraction})
        rows.plain(baseline ? "" : number(value));
      for (const auto& value : {f.busy_processors, f.startup_s, f.cold_cost_s}) rows.plain(number(value));
      rows.plain(f.peak_bytes > 0 ? number(f.peak_bytes) : "").field(f.evidence);
      rows.end();
    }
  }
  return std::move(rows).text();
}

std::string trials_csv(const std::vector<NamedStudy>& studies) {
  Rows rows;
  const std::set<std::string> dimensions = dimensions_of(studies);
  for (const char* head : {"record", "variant", "crew", "kind", "attempt", "workers"}) rows.field(head);
  add_point_heads(rows, dimensions);
  for (const char* head : {"round", "generation", "confirming", "stand", "order", "start_s", "wall_s", "calls",
                           "user_s", "system_s", "run_delay_s", "switches_voluntary", "switches_forced", "faults_minor",
                           "faults_major", "peak_bytes", "agreed", "processor"})
    rows.field(head);
  rows.end();
  for (const NamedStudy& named : studies) {
    for (const CellFigures& f : named.study->cells) {
      for (const Trial& t : f.cell->trials) {
        rows.field(named.name).field(f.cell->variant).field(f.cell->crew).field(name_of(f.cell->kind));
        rows.plain(fmt::format("{}", f.cell->attempt)).plain(fmt::format("{}", f.cell->workers));
        add_point(rows, named.study->record->points[f.cell->point], dimensions);
        for (const int value : {t.round, t.generation, t.confirming, t.stand}) rows.plain(fmt::format("{}", value));
        rows.plain(number(t.order)).plain(number(t.start_s)).plain(number(t.wall_s)).plain(fmt::format("{}", t.calls));
        rows.plain(number(t.user_s)).plain(number(t.system_s)).plain(number(t.run_delay_s));
        for (const auto& value : {t.switches_voluntary, t.switches_forced, t.faults_minor, t.faults_major})
          rows.plain(number(value));
        rows.plain(number(t.peak_bytes)).field(t.agreed ? "yes" : "no").plain(number(t.processor));
        rows.end();
      }
    }
  }
  return std::move(rows).text();
}

}  // namespace antcrew::report_layer
