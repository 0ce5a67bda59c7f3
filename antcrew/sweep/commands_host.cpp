#include "antcrew/sweep/commands_host.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <fstream>
#include <new>

#include "antcrew/analysis/statistics.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/control_group.hpp"
#include "antcrew/machine/limits.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/visit_faults.hpp"
#include "antcrew/sweep/answers.hpp"

namespace antcrew::sweep_layer {
namespace {

using internal::TrialRun;
using internal::Trials;

constexpr double limit_of_baseline_s = 3600;  // nothing is known yet to judge it by
constexpr int most_kept = 3;                  // folders of one cell
constexpr double noticed_sleep_s = 1e-3;
constexpr int empty_runs = 11;
constexpr int empty_launches = 3;

std::string plain_name(const std::string& text) {
  std::string name;
  for (const char c : text) {
    const auto letter = static_cast<unsigned char>(c);
    name += std::isalnum(letter) != 0 ? static_cast<char>(std::tolower(letter)) : '-';
  }
  return name.substr(0, 40);
}

std::string key_of(const CellSpec& cell, const Point& at) {
  std::string key = fmt::format("{} {} {}", cell.variant, cell.workers, at.size);
  for (const auto& [name, value] : at.dimensions) key += " " + name + "=" + value.text();
  return key;
}

std::vector<std::string> shown(std::vector<std::string> words) {
  for (std::string& word : words) word = printable(word, 2000);
  return words;
}

}  // namespace

CommandsHost::CommandsHost(const CommandStudy& study, HostLimits limits, std::string kept_under)
    : study_(study),
      limits_(std::move(limits)),
      folders_(std::move(kept_under)),
      trials_(folders_, runner_),
      files_(study),
      setting_{study, {}, 0, "as asked", 0.2, 0, limits_.stop} {
  if (limits_.call_s <= 0) limits_.call_s = study.parts().limits.call_s;
  if (limits_.memory_bytes == 0) limits_.memory_bytes = study.parts().limits.memory_bytes;
}

CommandsHost::~CommandsHost() = default;

const Runnable& CommandsHost::runnable(const CellSpec& cell) const {
  return cell.baseline() ? study_.parts().baseline : study_.runnable(static_cast<std::size_t>(cell.variant));
}

CommandsHost::Known& CommandsHost::known(const CellSpec& cell) {
  return known_[key_of(cell, setting_.at)];
}

TrialRun CommandsHost::run(const CellSpec& cell, int round, const Trials::Looking* looking) {
  return trials_.run(setting_, runnable(cell), cell.workers, round, looking);
}

// The baseline twice: what it answers, and whether it always does.
std::optional<Fault> CommandsHost::open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) {
  close();
  cells_ = cells;
  setting_.at = at;
  setting_.limit_s = limits_.call_s > 0 ? limits_.call_s : limit_of_baseline_s;
  if (limits_.call_s <= 0) setting_.limit_is = "an hour, as nothing is known of it yet";
  setting_.patience_s = 0.2;
  setting_.memory_bytes = limits_.memory_bytes > 0
                              ? limits_.memory_bytes
                              : static_cast<std::uint64_t>(0.9 * static_cast<double>(read_limits().available_bytes));
  const std::int64_t began = now_ns();
  if (!begun_) {
    const internal::TrialFolder place = folders_.fresh();
    for (const Command& command : study_.parts().before_all) {
      if (auto fault = trials_.run_beside(setting_, study_.parts().baseline, command, 1, place, "before_all"))
        return fault;
    }
    begun_ = true;
    for (int k = 0; k < empty_runs; ++k) {
      Runnable plain = study_.parts().baseline;
      plain.launcher.clear();
      if (const double s = trials_.empty_s(setting_, plain, 1); s > 0) empty_s_.push_back(s);
    }
  }
  facts.make_input_s = seconds_since(began);
  const CellSpec baseline;
  TrialRun first = run(baseline, 0);
  const auto stands = [&](TrialRun& trial, std::optional<Fault> fault) {
    if (fault && study_.parts().keep != KeepFolders::none)
      fault->text += kept_in(folders_.keep(trial.place, "baseline-reference"));
    return fault;
  };
  if (first.fault) return stands(first, first.fault);
  if (auto fault = trials_.gather(setting_, runnable(baseline), 1, 0, first)) {
    fault->text = "the baseline: " + fault->text;
    return stands(first, fault);
  }
  std::string expected;
  const AnswerRule& rule = study_.parts().answer;
  if (rule.from != AnswerRule::From::none) {
    if (const std::string why = foreign(first.answer, first.place); !why.empty())
      return stands(first, Fault{Fault::Kind::wrong_answer, 0, "the baseline's answer " + why});
    try {
      if (!internal::read_file(first.answer, most_answer_bytes, expected))
        return stands(first, Fault{Fault::Kind::wrong_answer, 0,
                                   "the baseline left no answer: there is no file " + rule.file + " in its folder"});
      if (const std::string why = objection_to(rule, expected); !why.empty())
        return stands(first, Fault{Fault::Kind::cannot_disagree, 0, why});
    } catch (const std::bad_alloc&) {
      return stands(first, Fault{Fault::Kind::out_of_memory, 0, "there was not enough memory to read its answer"});
    }
  }
  cold_reference_s_ = {first.ended.wall_s};
  cold_reference_cpu_s_ = {first.ended.user_s + first.ended.system_s};
  // Nothing that runs later may be able to make it its own.
  if (rule.from != AnswerRule::From::none) {
    std::ofstream copy(first.place.answer_copy(), std::ios::binary | std::ios::trunc);
    copy.write(expected.data(), static_cast<std::streamsize>(expected.size()));
    if (!copy.flush())
      could_not_run("sweep.folder", "the baseline's answer",
                    printable(first.place.answer_copy(), 80) + " cannot be written",
                    "make room there, or name another place in TMPDIR");
    first.answer = first.place.answer_copy();
  }
  reference_.emplace(std::move(first));
  TrialRun second = run(baseline, 0);
  if (!second.fault) second.fault = trials_.gather(setting_, runnable(baseline), 1, 0, second);
  if (second.fault) return stands(second, second.fault);
  facts.reference_s = reference_s_ = second.ended.wall_s;
  reference_cpu_s_ = second.ended.user_s + second.ended.system_s;
  if (auto fault = differs(second.answer, reference_->answer, second.place, 0)) {
    fault->text =
        "two runs of the baseline, one after the other, gave different answers: " + fault->text +
        ". Leave out what changes (a time, a number of a process), or say how to compare: [answer] compare = …";
    return stands(second, fault);
  }
  inputs_ = internal::SharedInputs(inputs_at(at));
  spoiled_ = false;
  setting_.limit_s = limits_.of_call(reference_s_);
  setting_.limit_is = limits_.of_call_in_words(reference_s_);
  setting_.patience_s = std::clamp(3 * reference_s_, 0.1, 5.0);
  return std::nullopt;
}

std::vector<std::string> CommandsHost::inputs_at(const Point& at) const {
  std::vector<std::string> paths;
  const auto add = [&](const Runnable& of) {
    const std::string name = text_of(study_, of, of.input, Place{1, at, {}});
    if (!name.empty())
      paths.push_back((std::filesystem::path(study_.parts().folder) / name).lexically_normal().string());
  };
  add(study_.parts().baseline);
  for (const CellSpec& cell : cells_) add(runnable(cell));
  return paths;
}

// Where a folder is kept, or why not.
std::string CommandsHost::kept_in(const std::string& folder) const {
  return folder.empty() ? "; its folder could not be kept: " + printable(folders_.trouble(), 80)
                        : "; its folder is " + folder;
}

void CommandsHost::keep_folder(const CellSpec& cell, TrialRun& trial, int round, bool faulty, Visit& visit) {
  const KeepFolders keep = study_.parts().keep;
  Known& its = known(cell);
  const bool wanted = keep == KeepFolders::all || (keep == KeepFolders::of_faults && faulty && its.kept < most_kept);
  if (!wanted) return;
  const std::string name = cell.baseline() ? "baseline" : plain_name(cell.of(study_).name);
  std::string at;
  if (setting_.at.size > 0) at += "-size" + std::to_string(setting_.at.size);
  for (const auto& [dimension, value] : setting_.at.dimensions) at += "-" + plain_name(dimension + value.text());
  ++its.kept;
  visit.seen.folder = folders_.keep(trial.place, fmt::format("{}-workers{}{}-round{}", name, cell.workers, at, round));
  if (visit.seen.folder.empty())
    visit.seen.printed.push_back("(its folder could not be kept: " + printable(folders_.trouble(), 80) + ")");
}

// A cell's first trial pays for what is read for the first time.
void CommandsHost::first_time(const CellSpec& cell, const VisitOrder& order, Visit& visit) {
  Known& its = known(cell);
  its.tried = true;
  if (with_launcher(cell)) {
    visit.seen.no_resources =
        "its launcher " + printable(runnable(cell).launcher.front(), 60) +
        " may begin processes elsewhere, so CPU time and memory are not known, and what it begins "
        "elsewhere cannot be ended from here";
    internal::LaneSums none;
    none.lanes = cell.workers;
    none.withheld = "its processes may be on other machines: there is no worker count × time here to account for";
    visit.seen.metered.push_back(std::move(none));
    for (int k = 0; k < empty_launches; ++k) {
      if (const double s = trials_.empty_s(setting_, runnable(cell), cell.workers); s > 0)
        visit.seen.empty_s.push_back(s);
    }
  }
  if (cell.baseline()) {
    visit.seen.cold_s = cold_reference_s_;
    if (!with_launcher(cell)) visit.seen.cold_cpu_s = cold_reference_cpu_s_;
    visit.seen.empty_s = empty_s_;
    return;
  }
  const std::int64_t began = now_ns();
  TrialRun cold = run(cell, order.round);
  visit.renewing_s = seconds_since(began);
  visit.seen.command = shown(cold.words);
  if (cold.fault) {
    visit.seen.faults.push_back(*cold.fault);
    visit.over = true;
    if (cold.could_run) visit.seen.printed = internal::first_lines(cold.place.errors());
    keep_folder(cell, cold, order.round, true, visit);
    return;
  }
  internal::left_behind(cold.ended, reference_cpu_s_, order.round, its.left_little);
  visit.seen.cold_s.push_back(cold.ended.wall_s);
  if (!with_launcher(cell)) visit.seen.cold_cpu_s.push_back(cold.ended.user_s + cold.ended.system_s);
}

void CommandsHost::keep_facts(const CellSpec& cell, const TrialRun& trial, Trial& to) const {
  const internal::Ended& ended = trial.ended;
  to.wall_s = ended.wall_s;
  to.times_s = {ended.wall_s};
  to.tail_s = ended.left_for_s;
  if (!with_launcher(cell)) {
    to.user_s = ended.user_s;
    to.system_s = ended.system_s;
    to.switches_voluntary = ended.switches_voluntary;
    to.switches_forced = ended.switches_forced;
    to.faults_minor = ended.faults_minor;
    to.faults_major = ended.faults_major;
    to.tail_cpu_s = ended.left_cpu_s;
    if (ended.peak_bytes > 0) to.peak_bytes = ended.peak_bytes;
    if (ended.looks > 0) to.most_threads = ended.most_threads;
    if (ended.looks > 0) to.most_processes = ended.most_processes;
  }
  if (runnable(cell).reported) to.reported_s = internal::reported_s(*runnable(cell).reported, trial.place);
}

void CommandsHost::timed(const CellSpec& cell, const VisitOrder& order, Visit& visit) {
  const auto throttled_before = own_control_group().throttled_s();
  const double asleep_before_s = asleep_s();
  TrialRun trial = run(cell, order.round);
  visit.began_ns = trial.ended.began_ns;
  if (visit.seen.command.empty()) visit.seen.command = shown(trial.words);
  bool faulty = false;
  const auto add = [&](std::optional<Fault> fault) {
    if (!fault) return;
    faulty = true;
    visit.seen.faults.push_back(std::move(*fault));
  };
  Trial timed;
  timed.round = order.round;
  keep_facts(cell, trial, timed);
  internal::PhaseLines lines = internal::read_phase_lines(trial.place.phases());
  timed.phases = std::move(lines.phases);
  timed.counters = std::move(lines.counters);
  timed.quantities = std::move(lines.quantities);
  if (const auto after = own_control_group().throttled_s(); after && throttled_before)
    timed.throttled_s = *after - *throttled_before;
  if (trial.fault) {
    add(trial.fault);
    visit.over = true;
  } else {
    add(internal::left_behind(trial.ended, reference_cpu_s_, order.round, known(cell).left_little));
    const bool probe = !cell.baseline() && cell.of(study_).kind == Cell::Kind::probe;
    if (!probe) {
      auto wrong = compared(cell, trial, order.round, order.round == 1 ? &visit.seen.answer : nullptr, timed.compare_s);
      timed.agreed = !wrong;
      add(std::move(wrong));
    }
    const bool asleep = asleep_s() - asleep_before_s > noticed_sleep_s;
    if (asleep || trial.ended.paused) {
      visit.dropped = asleep ? Visit::Dropped::asleep : Visit::Dropped::paused;
    } else {
      visit.seen.trials.push_back(timed);
    }
  }
  if (order.memory && trial.ended.looks > 0 && trial.ended.tree_bytes > 0 && !with_launcher(cell))
    visit.seen.tree_bytes.push_back(trial.ended.tree_bytes);
  visit.seen.printed = internal::first_lines(trial.place.errors());
  if (lines.not_understood > 0)
    visit.seen.printed.push_back(fmt::format("(of its phases {} line{} could not be understood, the first: {})",
                                             lines.not_understood, lines.not_understood == 1 ? "" : "s",
                                             lines.first_trouble));
  keep_folder(cell, trial, order.round, faulty, visit);
}

Visit CommandsHost::visit(std::size_t index, const VisitOrder& order) {
  if (limits_.stop && limits_.stop()) throw Stopped{};
  const CellSpec& cell = cells_[index];
  Visit visit;
  if (spoiled_) {
    visit.over = true;
    return visit;
  }
  if (const auto changed = files_.changed(cell.variant)) {
    visit.seen.faults.push_back({Fault::Kind::changed_program, order.round, *changed});
    visit.over = true;
    return visit;
  }
  try {
    if (!known(cell).tried) first_time(cell, order, visit);
    if (!visit.over) visit.over = inputs_changed(order.round, visit);
    if (!visit.over) timed(cell, order, visit);
  } catch (const Error& error) {  // a program that is gone, a disk that is full
    visit.seen.faults.push_back({Fault::Kind::crashed, order.round, printable(error.what(), 400)});
    visit.over = true;
  }
  if (!spoiled_ && inputs_changed(order.round, visit)) visit.over = true;
  return visit;
}

// Whoever was called last did it.
bool CommandsHost::inputs_changed(int round, Visit& visit) {
  const auto changed = inputs_.changed();
  if (!changed) return false;
  spoiled_ = true;
  visit.seen.faults.push_back(
      {Fault::Kind::changed_input, round,
       printable("it changed the input that all read: " + *changed + "; nothing was measured at this point after that",
                 400)});
  return true;
}

std::optional<double> CommandsHost::crowd(int copies) {
  constexpr int most_copies = 64;
  const Runnable& baseline = study_.parts().baseline;
  if (copies < 1 || copies > most_copies || !baseline.launcher.empty()) return std::nullopt;
  const double each = static_cast<double>(reference_->ended.peak_bytes);
  if (1.2 * each * copies > static_cast<double>(read_limits().available_bytes)) return std::nullopt;
  std::vector<std::unique_ptr<internal::Runner>> runners;
  for (int k = 0; k < copies; ++k) runners.push_back(std::make_unique<internal::Runner>());
  auto times = trials_.run_at_once(setting_, baseline, runners);
  return times ? std::optional(median(std::move(*times))) : std::nullopt;
}

void CommandsHost::close() {
  reference_.reset();
  cells_.clear();
}

}  // namespace antcrew::sweep_layer
