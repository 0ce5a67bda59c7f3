#include "antcrew/report/notes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <utility>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/report/code_size.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

Section evidence(const StudyView& view) {
  Section section;
  for (const CellView& cell : view.cells) {
    const CellFigures& f = *cell.numbers;
    if (speaks_against(f))
      section.text += fmt::format("{}: {} at {}: {}\n", name_of(f.verdict), cell.name, cell.at, f.evidence);
  }
  return section;
}

Section ladder(const std::vector<LadderStep>& steps, const Record& record) {
  if (steps.size() < 2) return {};
  std::string text;
  for (const LadderStep& step : steps) {
    const Cell& cell = *step.cell->cell;
    const std::string attempt = cell.attempt > 1 || !step.cell->newest ? fmt::format(", attempt {}", cell.attempt) : "";
    text += fmt::format("  {} ({}){}: ", cell.variant, cell.crew, attempt);
    if (!step.cell->speedup) {
      text += fmt::format("{}\n", name_of(step.cell->verdict));
      continue;
    }
    text += "speedup " + ratio_text(*step.cell->speedup) + " over the baseline";
    if (step.over_previous) text += ", " + ratio_text(*step.over_previous) + " over the step before";
    text += step.paired ? "\n" : ", tried at another time\n";
  }
  const Cell& first = *steps[0].cell->cell;
  return {fmt::format("Step by step, at {} with {} workers", point_in_words(record.points[first.point]), first.workers),
          text};
}

std::string phase_or_nothing(const CellFigures& f, const char* name) {
  const auto found = f.phases.find(name);
  return found == f.phases.end() ? "" : duration_text(found->second.worker_s);
}

// Short enough for small tables: the whole name stands in the large one.
std::vector<std::string> whose(const Analysed& study, const Cell& cell) {
  return {printable(cell.variant, 26), std::to_string(cell.workers), point_in_words(study.record->points[cell.point])};
}

// The price of processes: what went to and fro, and how long workers and their parent were at it.
Section moved_data(const Analysed& study) {
  std::vector<const CellFigures*> cells;
  for (const CellFigures& f : study.cells) {
    if (f.counters.count(internal::bytes_moved) > 0 && f.phases.count(internal::moving_data) > 0) cells.push_back(&f);
  }
  if (cells.empty()) return {};
  // What moved most matters most.
  std::stable_sort(cells.begin(), cells.end(), [](const CellFigures* a, const CellFigures* b) {
    return a->counters.at(internal::bytes_moved) > b->counters.at(internal::bytes_moved);
  });
  TextGrid grid({{"variant"},
                 {"workers", true},
                 {"at"},
                 {"moved", true},
                 {"workers took", true},
                 {"parent", true},
                 {"touched again", true}});
  for (const CellFigures* f : cells) {
    std::vector<std::string> row = whose(study, *f->cell);
    row.push_back(bytes_text(static_cast<std::uint64_t>(f->counters.at(internal::bytes_moved))));
    for (const char* phase : {internal::moving_data, internal::taking_data, internal::touching_again})
      row.push_back(phase_or_nothing(*f, phase));
    grid.row(std::move(row));
  }
  return {
      "Data moved between processes in a call, and the time of those who moved it; memory touched again after the fork",
      grid.text(Look())};
}

// Of the workers that a program tells apart.
std::string least_to_most(const PhaseFacts& phase) {
  if (phase.by_worker_s.size() < 2) return {};
  const auto less = [](const auto& a, const auto& b) { return a.second < b.second; };
  const auto [least, most] = std::minmax_element(phase.by_worker_s.begin(), phase.by_worker_s.end(), less);
  return duration_text(least->second) + " to " + duration_text(most->second);
}

// What programs say of their own time, beside the clock.
Section reported(const Analysed& study) {
  TextGrid grid(
      {{"variant"}, {"workers", true}, {"at"}, {"reports", true}, {"by the clock", true}, {"CPU time", true}});
  bool any = false;
  for (const CellFigures& f : study.cells) {
    const auto says = median_where_known(*f.cell, [](const Trial& t) { return t.reported_s; });
    if (!says || !f.time_s) continue;
    any = true;
    std::vector<std::string> row = whose(study, *f.cell);
    const auto cpu_s = median_cpu_s(*f.cell);
    for (std::string text : {duration_text(*says), duration_text(f.time_s->median), cpu_s ? duration_text(*cpu_s) : ""})
      row.push_back(std::move(text));
    grid.row(std::move(row));
  }
  return {"Time that the programs report themselves, medians", any ? grid.text(Look()) : ""};
}

// The baseline and the best variant of the largest point, where their named stretches can be laid side by side.
Section phases(const Analysed& study) {
  std::vector<GridColumn> columns{{"variant"},          {"workers", true},  {"at"},
                                  {"phase or counter"}, {"per call", true}, {"times", true}};
  const bool by_worker = std::any_of(study.cells.begin(), study.cells.end(), [](const CellFigures& f) {
    return std::any_of(f.phases.begin(), f.phases.end(), [](const auto& p) { return p.second.by_worker_s.size() > 1; });
  });
  if (by_worker) columns.push_back({"a worker", true});
  TextGrid grid(columns);
  bool any = false;
  for (const CellFigures& f : study.cells) {
    const Best& best = study.best[f.cell->point];
    const bool told = f.cell->kind == Cell::Kind::baseline || &f == best.cell;
    if (!told) continue;
    std::vector<std::string> first = whose(study, *f.cell);
    const auto row = [&](const std::string& name, std::string amount, std::string times, std::string each = {}) {
      any = true;
      std::vector<std::string> cells = std::exchange(first, {"", "", ""});
      cells.insert(cells.end(), {printable(name, 24), std::move(amount), std::move(times)});
      if (by_worker) cells.push_back(std::move(each));
      grid.row(std::move(cells));
    };
    std::vector<std::pair<std::string, PhaseFacts>> sorted(f.phases.begin(), f.phases.end());
    std::stable_sort(sorted.begin(), sorted.end(),
                     [](const auto& u, const auto& v) { return u.second.worker_s > v.second.worker_s; });
    for (const auto& [name, phase] : sorted)
      row(name, duration_text(phase.worker_s), count_text(static_cast<std::uint64_t>(phase.count)),
          least_to_most(phase));
    for (const auto* counted : {&f.counters, &f.quantities})
      for (const auto& [name, value] : *counted) row(name, count_text(static_cast<std::uint64_t>(value)), "");
  }
  return {"Phases and counters of a call, all workers together", any ? grid.text(Look()) : ""};
}

// From the first worker's begin to the last one's end, pauses left out. Older records know worker-seconds only: of a
// phase that all workers share, its time times their number.
double phase_time(const PhaseFacts& phase, int workers) {
  return phase.wall_s.value_or(phase.worker_s / workers);
}

// What a stretch gained by itself, beside what the whole call gained: where both name it.
Section phase_by_phase(const Analysed& study) {
  std::string text;
  for (const CellFigures& f : study.cells) {
    if (f.verdict < Verdict::too_few_rounds || !f.speedup || f.cell->kind != Cell::Kind::variant) continue;
    const auto baseline = std::find_if(study.cells.begin(), study.cells.end(), [&](const CellFigures& other) {
      return other.cell->kind == Cell::Kind::baseline && other.cell->point == f.cell->point;
    });
    if (baseline == study.cells.end()) continue;
    std::string phases;
    for (const auto& [name, phase] : f.phases) {
      const auto same = baseline->phases.find(name);
      if (same == baseline->phases.end() || !(phase.worker_s > 0)) continue;
      const double own_s = phase_time(phase, f.cell->workers);
      const double times = phase_time(same->second, 1) / own_s;
      phases += fmt::format(" {} alone {:.3g}{},", name, times,
                            phase.at_once == 1 && f.cell->workers > 1 ? " (one worker at a time)" : "");
    }
    if (phases.empty()) continue;
    phases.back() = ';';
    text += fmt::format("  {} at {}:{} the whole {}\n", cell_in_words(*f.cell),
                        point_in_words(study.record->points[f.cell->point]), phases, ratio_text(*f.speedup));
  }
  return {"Speedup of a phase that the baseline has too, beside that of the whole call", text};
}

// Not a fault, as the crew waited; but whoever wrote the body will hardly have meant it.
Section unwaited(const Analysed& study) {
  std::string text;
  for (const CellFigures& f : study.cells) {
    const auto found = f.counters.find(internal::unwaited_work);
    if (found == f.counters.end() || found->second <= 0) continue;
    text += fmt::format("  {} at {}: {} per call\n", cell_in_words(*f.cell),
                        point_in_words(study.record->points[f.cell->point]),
                        count_text(static_cast<std::uint64_t>(found->second)));
  }
  return {"Tasks started but never awaited; call get() on their handles", text};
}

// What the settled times leave out: the first call, and starting the crew.
Section cold_starts(const Analysed& study) {
  TextGrid grid({{"variant"},
                 {"workers", true},
                 {"at"},
                 {"first call", true},
                 {"crew starts", true},
                 {"speedup first", true},
                 {"steady state", true}});
  bool any = false;
  for (const Best& best : study.best) {
    if (best.cell == nullptr || !best.cell->cold_cost_s || !best.cell->startup_s) continue;
    const CellFigures& f = *best.cell;
    constexpr double noticeable = 0.1;
    const double lost_s = std::max(0.0, *f.cold_cost_s) + *f.startup_s;
    if (f.time_s && lost_s < noticeable * f.time_s->median) continue;
    any = true;
    std::vector<std::string> row = whose(study, *f.cell);
    row.push_back((*f.cold_cost_s < 0 ? "-" : "+") + duration_text(std::fabs(*f.cold_cost_s)));
    row.push_back(f.cell->crew == "Workers" ? "" : duration_text(*f.startup_s));
    row.push_back(f.first_speedup ? fmt::format("{:.2g}", *f.first_speedup) : "");
    row.push_back(f.speedup ? fmt::format("{:.2g}", f.speedup->median) : "");
    grid.row(std::move(row));
  }
  return {"First calls, medians over cell processes: how much longer than a steady-state call the first one takes",
          any ? grid.text(Look()) : ""};
}

// What is kept on purpose was paid for in the first call.
Section kept(const Analysed& study) {
  std::string text;
  for (const CellFigures& f : study.cells) {
    if (f.cell->keeps.empty() || f.cell->cold_s.empty() || !f.time_s || !f.speedup) continue;
    text += fmt::format("  {} at {}: keeps {}; its first call takes {}, later ones {}", cell_in_words(*f.cell),
                        point_in_words(study.record->points[f.cell->point]), printable(f.cell->keeps, 60),
                        duration_text(median(f.cell->cold_s)), duration_text(f.time_s->median));
    if (f.first_speedup) text += fmt::format("; speedup of the first call {:.2g}", *f.first_speedup);
    text += "\n";
  }
  return {"Kept between calls on purpose, and paid for in the first one", text};
}

Section read_answers(const Analysed& study) {
  std::string text;
  for (const CellFigures& f : study.cells) {
    if (!f.read_speedup || f.verdict < Verdict::too_few_rounds) continue;
    text += fmt::format("  {} at {}: speedup to a read answer {:.2g}, to the return of the call {:.2g}\n",
                        cell_in_words(*f.cell), point_in_words(study.record->points[f.cell->point]), *f.read_speedup,
                        f.speedup->median);
  }
  return {"Reading these answers takes longer than reading the baseline's, by more than 10 % of the call", text};
}

Section crowds(const Analysed& study) {
  constexpr double noticeable = 1.05;
  std::string text;
  for (const CrowdFigure& crowd : study.crowds) {
    if (!crowd.slowdown.claimed || crowd.slowdown.low <= 1 || crowd.slowdown.median < noticeable) continue;
    text += fmt::format("  {} copies at {}: each {} times slower\n", crowd.copies,
                        point_in_words(study.record->points[crowd.point]), ratio_text(crowd.slowdown));
  }
  return {"The machine itself slows down when the baseline runs in several copies at once", text};
}

Section left_out(const Analysed& study) {
  std::string text;
  for (const LeftOut& left : study.record->left_out) text += "  " + left_out_text(*study.record, left) + "\n";
  if (text.empty()) return {};
  const double needed = advised_budget_s(*study.record);
  const bool figures =
      std::any_of(study.record->left_out.begin(), study.record->left_out.end(), [](const LeftOut& left) {
        return left.needed_s > 0 && left.what != LeftOut::What::checks && left.what != LeftOut::What::metering;
      });
  if (needed > 0)
    text += fmt::format("A budget of about {:.0f} s is enough{} (--budget {:.0f}).\n", needed,
                        figures ? " for the missing figures" : "", needed);
  return {"Skipped for lack of time", text};
}

// The same of many cells is told of two; `antcrew explain` has all.
std::vector<Section> warnings(const StudyView& view) {
  constexpr int told = 2;
  std::map<std::string, int> of_kind;
  for (const FindingView& warning : view.warnings) ++of_kind[warning.numbers.id];
  std::map<std::string, int> seen;
  std::vector<Section> sections;
  for (const FindingView& warning : view.warnings) {
    const int all = of_kind[warning.numbers.id];
    const int number = ++seen[warning.numbers.id];
    if (number > told && all > told + 1) continue;
    std::string text = "Warning: " + warning.claim_with_cell() + ".";
    if (number == told && all > told + 1) text += fmt::format(" The same of {} more (antcrew explain).", all - told);
    sections.push_back({"", text + "\n"});
  }
  return sections;
}

}  // namespace

std::string left_out_text(const Record& record, const LeftOut& left) {
  const std::string at = point_in_words(record.points[left.point]);
  const char* cells = left.count == 1 ? "cell" : "cells";
  switch (left.what) {
    case LeftOut::What::everything:
      return fmt::format("everything: making the input and the reference answer at {} took it all", at);
    case LeftOut::What::cells:
      return fmt::format("cells without a figure at {}: one round takes longer", at);
    case LeftOut::What::rounds:
      return fmt::format("rounds at {}: too few for intervals", at);
    case LeftOut::What::points:
      return fmt::format("points from {} on", at);
    case LeftOut::What::confirming:
      return "confirming the best in fresh rounds";
    case LeftOut::What::metering:
      return fmt::format("where the time went in {} {} at {}", left.count, cells, at);
    case LeftOut::What::checks:
      break;
  }
  return fmt::format("another input for {} {} at {}", left.count, cells, at);
}

std::vector<Section> notes_of(const StudyView& view) {
  const Analysed& study = view.study;
  std::vector<Section> notes = {evidence(view)};
  for (const auto& steps : study.ladders) notes.push_back(ladder(steps, *study.record));
  notes.insert(notes.end(),
               {code_size_section(study), read_answers(study), kept(study), phase_by_phase(study), unwaited(study),
                cold_starts(study), phases(study), reported(study), moved_data(study), crowds(study), left_out(study)});
  for (Section& warning : warnings(view)) notes.push_back(std::move(warning));
  return notes;
}

}  // namespace antcrew::report_layer
