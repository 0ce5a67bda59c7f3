#include "antcrew/report/details.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string duration_or_unknown(const std::optional<double>& seconds) {
  return !seconds ? std::string("unknown") : *seconds == 0 ? std::string("0") : duration_text(*seconds);
}

std::string a_call(std::optional<std::int64_t> Trial::*count, const Cell& cell) {
  const auto value = median_a_call(cell, count);
  return value ? fmt::format("{:.3g}", *value) : std::string("unknown");
}

std::string used(const Cell& cell) {
  const auto known = [&](const auto& field) { return duration_or_unknown(median_where_known(cell, field)); };
  const auto user = [](const Trial& t) { return t.user_s; };
  const auto system = [](const Trial& t) { return t.system_s; };
  const auto others = [](const Trial& t) { return t.others_cpu_s; };
  if (!cell.no_resources.empty()) return "    CPU time and memory  unknown: " + printable(cell.no_resources) + "\n";
  std::string text = fmt::format("    CPU time  {} user, {} system", known(user), known(system));
  const bool command = cell.trials.front().most_threads || !cell.command.empty();
  text += command ? "\n" : fmt::format("; {} of it by others than the caller\n", known(others));
  if (!command) text += fmt::format("    waited to run  {}\n", known([](const Trial& t) { return t.run_delay_s; }));
  int threads = 0;
  int processes = 0;
  for (const Trial& trial : cell.trials) {
    threads = std::max(threads, trial.most_threads.value_or(0));
    processes = std::max(processes, trial.most_processes.value_or(0));
  }
  if (threads > 0)
    text += fmt::format("    alive at once  {} thread{} in {} process{}, at the moments it was looked at\n", threads,
                        threads == 1 ? "" : "s", processes, processes == 1 ? "" : "es");
  text += fmt::format("    switches  {} by itself, {} forced\n", a_call(&Trial::switches_voluntary, cell),
                      a_call(&Trial::switches_forced, cell));
  text += fmt::format("    page faults  {} without a disk, {} with one\n", a_call(&Trial::faults_minor, cell),
                      a_call(&Trial::faults_major, cell));
  const auto instructions = median_where_known(cell, [](const Trial& t) { return t.instructions; });
  const auto cycles = median_where_known(cell, [](const Trial& t) { return t.cycles; });
  if (instructions && cycles && *cycles > 0) {
    text += fmt::format("    instructions  {:.4g}, cycles {:.4g}: {:.2f} a cycle\n", *instructions, *cycles,
                        *instructions / *cycles);
  }
  return text;
}

std::string named(const CellFigures& f) {
  std::string text;
  for (const auto& [name, phase] : f.phases) {
    text += fmt::format("    phase  \"{}\": {} of worker time in {} stretch{}", printable(name, 60),
                        duration_text(phase.worker_s), phase.count, phase.count == 1 ? "" : "es");
    if (phase.wall_s) text += fmt::format(", {} of wall time", duration_text(*phase.wall_s));
    if (phase.at_once) text += fmt::format(", {} worker{} at once", *phase.at_once, *phase.at_once == 1 ? "" : "s");
    text += "\n";
    for (const auto& [worker, seconds] : phase.by_worker_s)
      text += fmt::format("      worker {}: {}\n", printable(worker, 60), duration_text(seconds));
  }
  for (const auto& [name, value] : f.counters)
    text += fmt::format("    counter  \"{}\": {:.6g}\n", printable(name, 60), value);
  for (const auto& [name, value] : f.quantities)
    text += fmt::format("    quantity  \"{}\": {:.6g}\n", printable(name, 60), value);
  return text;
}

std::string checked(const Cell& cell) {
  if (!cell.check) return "    checks  not tried with another input\n";
  std::string text;
  if (cell.check->other_size > 0)
    text += fmt::format("    checks  tried with another input, of size {}\n", count_text(cell.check->other_size));
  if (cell.check->own_input) text += "    checks  the baseline was called on its input afterwards\n";
  if (!cell.check->trouble.empty()) text += fmt::format("    checks  not in full: {}\n", cell.check->trouble);
  return text;
}

std::string cell_text(const CellFigures& f) {
  const Cell& cell = *f.cell;
  std::string text = fmt::format("\n  {}: {}\n", cell_in_words(cell), name_of(f.verdict));
  if (!f.evidence.empty()) text += "    why  " + printable(f.evidence, 400) + "\n";
  if (f.time_s) {
    text += fmt::format("    time  {}, from {} trial{}\n", duration_text(*f.time_s), cell.trials.size(),
                        cell.trials.size() == 1 ? "" : "s");
  }
  if (cell.trials.empty()) return text;
  text += used(cell) + named(f);
  if (cell.kind == Cell::Kind::variant) text += checked(cell);
  if (!cell.answer.empty()) text += "    answer  " + cell.answer + "\n";
  if (const auto reported = median_where_known(cell, [](const Trial& t) { return t.reported_s; }))
    text += fmt::format("    reports itself  {}\n", duration_text(*reported));
  if (!cell.empty_s.empty())
    text += fmt::format("    a command that does nothing takes  {}\n", duration_text(median(cell.empty_s)));
  if (!cell.command.empty()) text += "    command  " + printable(joined(cell.command, " "), 300) + "\n";
  if (!cell.folder.empty()) text += "    a trial is kept in  " + printable(cell.folder) + "\n";
  if (!cell.printed.empty()) {
    text += "    printed:\n";
    for (const std::string& line : cell.printed) text += "      " + line + "\n";
  }
  return text;
}

}  // namespace

std::string details_text(const Analysed& study, const std::string& variant) {
  std::string text;
  const auto meant = [&](const Cell& cell) { return cell.variant == variant || cell.key() == variant; };
  for (std::size_t point = 0; point < study.record->points.size(); ++point) {
    std::string here;
    for (const CellFigures& f : study.cells) {
      if (f.cell->point == point && meant(*f.cell)) here += cell_text(f);
    }
    if (!here.empty())
      text += std::string(text.empty() ? "" : "\n") + "At " + point_in_words(study.record->points[point]) +
              ", medians of a call:\n" + here;
  }
  if (!text.empty()) return text;
  std::vector<std::string> known;
  for (const Cell& cell : study.record->cells) {
    if (std::find(known.begin(), known.end(), "'" + cell.variant + "'") == known.end())
      known.push_back("'" + cell.variant + "'");
  }
  bad_input("cli.variant", "--details", "the record has no variant '" + variant + "'", "choose from " + joined(known));
}

}  // namespace antcrew::report_layer
