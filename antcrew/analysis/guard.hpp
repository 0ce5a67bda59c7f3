// Whether runs meet what is required of them, for machines that ask after each change of a program.
//
//   const auto checks = guard({&study}, {.speedup = 1.8}, nullptr);
//   if (any(checks, Outcome::failed)) …
//
// A check of a figure fails only beyond doubt: its interval is claimed, lies wholly on the wrong side, and does so at a
// level that holds over all that was looked at, so that of a hundred guards over what is alike at most one fails, where
// the spread from run to run was measured. What lies on the wrong side and is not beyond doubt cannot be told; of a
// comparison with runs before, what would not show a loss of 15 %. A fault fails whatever the figures are, and so does
// what was measured before and is not there any more. Pure.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/compare.hpp"
#include "antcrew/analysis/layer.hpp"

namespace antcrew::analysis_layer {

struct Requirements {
  std::string variant = {};  // speedup and efficiency are those of its best worker count; empty = of the best variant
  std::optional<double> speedup = {};
  std::optional<double> efficiency = {};
  std::optional<double> memory_bytes = {};   // of every cell, at most
  bool all_hold = false;                     // no cell of a variant with another verdict than `holds`
  std::vector<std::string> no_finding = {};  // ids, of the cells that are explained
  bool not_worse = false;                    // than the runs before
  // Share of a speedup that may be lost, beyond noise. None: what the comparison takes as noise between runs.
  std::optional<double> not_worse_by = {};
  // Of what was measured before: variants, with or without their crew, or whole cells in the words they are told in.
  std::vector<std::string> allow_missing = {};
};

enum class Outcome { passed, failed, cannot_tell };
const char* name_of(Outcome outcome) noexcept;

struct Check {
  std::string what;  // "speedup at least 1.8"
  const CellFigures* of = nullptr;
  const Analysed* in = nullptr;  // the run that it is about; null: all of them together
  Outcome outcome = Outcome::passed;
  std::string found;    // the figures
  std::string settles;  // what would settle it, where it cannot be told
};

// All requirements hold for each of the runs; oldest first. against: compare(before, runs, guard_false_alarms), where
// not_worse is asked for; else null. Throws Error: guard.scope (a run has no such variant), guard.finding (no finding
// has this id), guard.option (nothing is required).
std::vector<Check> guard(const std::vector<const Analysed*>& runs, const Requirements& required,
                         const Comparison* against);

// Of a comparison of which losses alone count: one of a hundred on that side.
inline constexpr double guard_false_alarms = 0.02;

bool any(const std::vector<Check>& checks, Outcome outcome) noexcept;

}  // namespace antcrew::analysis_layer
