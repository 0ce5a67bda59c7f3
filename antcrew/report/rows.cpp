#include "antcrew/report/rows.hpp"

#include <optional>
#include <set>

#include "antcrew/analysis/analysed.hpp"

namespace antcrew::report_layer {
namespace {

Json yes_or_no(bool value) {
  return value ? "yes" : "no";
}

Json median_of(const std::optional<Estimate>& e) {
  return e ? Json(e->median) : Json(nullptr);
}
Json low_of(const std::optional<Estimate>& e) {
  return e ? Json(e->low) : Json(nullptr);
}
Json high_of(const std::optional<Estimate>& e) {
  return e ? Json(e->high) : Json(nullptr);
}

bool is_baseline(const CellFigures& f) {
  return f.cell->kind == Cell::Kind::baseline;
}
// A baseline compares with nothing.
std::optional<Estimate> speedup_of(const CellFigures& f) {
  return is_baseline(f) ? std::nullopt : f.speedup;
}
template <std::optional<double> CellFigures::*figure>
Json of_a_variant(const CellFigures& f) {
  return is_baseline(f) ? Json(nullptr) : f.*figure;
}
template <std::optional<double> CellFigures::*figure>
Json of_any(const CellFigures& f) {
  return f.*figure;
}

Json bounds_are(const CellFigures& f) {
  const std::optional<Estimate> e = is_baseline(f) ? f.time_s : f.speedup;
  return !e ? "" : e->claimed ? "95 % interval" : "range seen";
}

struct CellColumn {
  const char* head;
  Json (*value)(const CellFigures&);
};
// What tells a cell from all others but those at other points.
constexpr CellColumn cell_names[] = {
    {"variant", [](const CellFigures& f) -> Json { return f.cell->variant; }},
    {"crew", [](const CellFigures& f) -> Json { return f.cell->crew; }},
    {"kind", [](const CellFigures& f) -> Json { return name_of(f.cell->kind); }},
    {"attempt", [](const CellFigures& f) -> Json { return f.cell->attempt; }},
    {"workers", [](const CellFigures& f) -> Json { return f.cell->workers; }},
};
constexpr CellColumn cell_columns[] = {
    {"verdict", [](const CellFigures& f) -> Json { return name_of(f.verdict); }},
    {"rounds", [](const CellFigures& f) -> Json { return f.time_s ? Json(f.time_s->count) : Json(nullptr); }},
    {"time_s", [](const CellFigures& f) { return median_of(f.time_s); }},
    {"time_low_s", [](const CellFigures& f) { return low_of(f.time_s); }},
    {"time_high_s", [](const CellFigures& f) { return high_of(f.time_s); }},
    {"speedup", [](const CellFigures& f) { return median_of(speedup_of(f)); }},
    {"speedup_low", [](const CellFigures& f) { return low_of(speedup_of(f)); }},
    {"speedup_high", [](const CellFigures& f) { return high_of(speedup_of(f)); }},
    {"bounds_are", bounds_are},
    {"confirmed", [](const CellFigures& f) { return yes_or_no(f.confirmed); }},
    {"efficiency", of_a_variant<&CellFigures::efficiency>},
    {"overhead_s", of_a_variant<&CellFigures::overhead_s>},
    {"relative_overhead", of_a_variant<&CellFigures::relative_overhead>},
    {"one_worker_penalty", of_a_variant<&CellFigures::one_worker_penalty>},
    {"serial_fraction", of_a_variant<&CellFigures::serial_fraction>},
    {"busy_processors", of_any<&CellFigures::busy_processors>},
    {"startup_s", of_any<&CellFigures::startup_s>},
    {"cold_cost_s", of_any<&CellFigures::cold_cost_s>},
    {"peak_bytes", [](const CellFigures& f) -> Json { return f.peak_bytes > 0 ? Json(f.peak_bytes) : Json(nullptr); }},
    {"evidence", [](const CellFigures& f) -> Json { return f.evidence; }},
    {"speedup_by_cpu", of_a_variant<&CellFigures::speedup_by_cpu>},
};

struct TrialColumn {
  const char* head;
  bool on_page;
  Json (*value)(const Trial&);
};
constexpr TrialColumn trial_columns[] = {
    {"round", true, [](const Trial& t) -> Json { return t.round; }},
    {"generation", false, [](const Trial& t) -> Json { return t.generation; }},
    {"confirming", true, [](const Trial& t) -> Json { return t.confirming; }},
    {"stand", true, [](const Trial& t) -> Json { return t.stand; }},
    {"order", false, [](const Trial& t) -> Json { return t.order; }},
    {"start_s", true, [](const Trial& t) -> Json { return t.start_s; }},
    {"wall_s", true, [](const Trial& t) -> Json { return t.wall_s; }},
    {"calls", true, [](const Trial& t) -> Json { return t.calls; }},
    {"user_s", true, [](const Trial& t) -> Json { return t.user_s; }},
    {"system_s", true, [](const Trial& t) -> Json { return t.system_s; }},
    {"run_delay_s", false, [](const Trial& t) -> Json { return t.run_delay_s; }},
    {"switches_voluntary", false, [](const Trial& t) -> Json { return t.switches_voluntary; }},
    {"switches_forced", false, [](const Trial& t) -> Json { return t.switches_forced; }},
    {"faults_minor", false, [](const Trial& t) -> Json { return t.faults_minor; }},
    {"faults_major", false, [](const Trial& t) -> Json { return t.faults_major; }},
    {"peak_bytes", false, [](const Trial& t) -> Json { return t.peak_bytes; }},
    {"agreed", true, [](const Trial& t) { return yes_or_no(t.agreed); }},
    {"processor", false, [](const Trial& t) -> Json { return t.processor; }},
};

// Record, name and point of a cell: what its rows begin with.
class Beginnings {
 public:
  Beginnings(const std::vector<NamedStudy>& studies, Rows& rows) {
    for (const NamedStudy& named : studies) {
      for (const Point& point : named.study->record->points) {
        for (const auto& [name, value] : point.dimensions) dimensions_.insert(name);
      }
    }
    rows.heads.emplace_back("record");
    for (const CellColumn& column : cell_names) rows.heads.emplace_back(column.head);
    rows.heads.emplace_back("size");
    for (const std::string& name : dimensions_) rows.heads.push_back("dimension " + name);
    rows.heads.emplace_back("pin");
  }

  std::vector<Json> of(const NamedStudy& named, const CellFigures& f) const {
    std::vector<Json> row = {named.name};
    for (const CellColumn& column : cell_names) row.push_back(column.value(f));
    const Point& point = named.study->record->points[f.cell->point];
    row.push_back(point.size > 0 ? Json(point.size) : Json(nullptr));
    for (const std::string& name : dimensions_) {
      const auto found = point.dimensions.find(name);
      if (found == point.dimensions.end()) {
        row.emplace_back(nullptr);
      } else {
        row.push_back(found->second.is_word() ? Json(found->second.word()) : Json(found->second.number()));
      }
    }
    row.emplace_back(name_of(point.pin));
    return row;
  }

 private:
  std::set<std::string> dimensions_;
};

}  // namespace

Rows cell_rows(const std::vector<NamedStudy>& studies) {
  Rows rows;
  const Beginnings beginnings(studies, rows);
  for (const CellColumn& column : cell_columns) rows.heads.emplace_back(column.head);
  for (const NamedStudy& named : studies) {
    for (const CellFigures& f : named.study->cells) {
      std::vector<Json> row = beginnings.of(named, f);
      for (const CellColumn& column : cell_columns) row.push_back(column.value(f));
      rows.rows.push_back(std::move(row));
    }
  }
  return rows;
}

Rows trial_rows(const std::vector<NamedStudy>& studies) {
  Rows rows;
  const Beginnings beginnings(studies, rows);
  for (const TrialColumn& column : trial_columns) rows.heads.emplace_back(column.head);
  for (const NamedStudy& named : studies) {
    for (const CellFigures& f : named.study->cells) {
      const std::vector<Json> beginning = beginnings.of(named, f);
      for (const Trial& trial : f.cell->trials) {
        std::vector<Json> row = beginning;
        for (const TrialColumn& column : trial_columns) row.push_back(column.value(trial));
        rows.rows.push_back(std::move(row));
      }
    }
  }
  return rows;
}

Rows trial_rows_by_cell(const Analysed& study) {
  Rows rows{{"cell"}, {}};
  for (const TrialColumn& column : trial_columns) {
    if (column.on_page) rows.heads.emplace_back(column.head);
  }
  for (std::size_t cell = 0; cell < study.cells.size(); ++cell) {
    for (const Trial& trial : study.cells[cell].cell->trials) {
      std::vector<Json> row = {cell};
      for (const TrialColumn& column : trial_columns) {
        if (column.on_page) row.push_back(column.value(trial));
      }
      rows.rows.push_back(std::move(row));
    }
  }
  return rows;
}

}  // namespace antcrew::report_layer
