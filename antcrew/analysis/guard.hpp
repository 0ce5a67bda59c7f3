// Whether a record meets what is required of it, for machines that ask after each change of a program.
//
//   const auto checks = guard(study, {.speedup = 1.8}, nullptr);
//   if (any(checks, Outcome::failed)) …
//
// A check fails only beyond doubt: its interval is claimed, lies wholly on the wrong side, and does so at a level that
// holds over all that was looked at, so that of a hundred guards over what is alike at most one fails. What lies on the
// wrong side and is not beyond doubt cannot be told. Pure.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "antcrew/analysis/compare.hpp"
#include "antcrew/base/layers.hpp"

namespace antcrew::analysis_layer {

struct Requirements {
  std::string variant = {};  // speedup and efficiency are those of its best worker count; empty = of the best variant
  std::optional<double> speedup = {};
  std::optional<double> efficiency = {};
  std::optional<double> memory_bytes = {};   // of every cell, at most
  bool all_hold = false;                     // no cell of a variant with another verdict than `holds`
  std::vector<std::string> no_finding = {};  // ids, of the cells that are explained
  std::optional<double> not_worse_by = {};   // share of a stored speedup that may be lost, beyond noise
};

enum class Outcome { passed, failed, cannot_tell };
const char* name_of(Outcome outcome) noexcept;

struct Check {
  std::string what;  // "speedup at least 1.8"
  const CellFigures* of = nullptr;
  Outcome outcome = Outcome::passed;
  std::string found;    // the figures
  std::string settles;  // what would settle it, where it cannot be told
};

// The share of guards over what is alike that fail, at most.
inline constexpr double false_alarms_of_a_guard = 0.01;

// against: compare(…, false_alarms_of_a_guard), where not_worse_by is asked for; else null.
std::vector<Check> guard(const Analysed& study, const Requirements& required, const Comparison* against);

bool any(const std::vector<Check>& checks, Outcome outcome) noexcept;

}  // namespace antcrew::analysis_layer
