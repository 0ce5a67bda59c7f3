// Records made by hand, with times chosen so that every figure can be worked out.
#pragma once

#include <string>
#include <vector>

#include "antcrew/record/record.hpp"

namespace test {

// Rounds with the given times; round r is times[r - 1].
inline antcrew::record_layer::Cell cell_with(const std::string& variant, int workers,
                                             const std::vector<double>& times) {
  antcrew::record_layer::Cell cell{
      variant, variant == "baseline" ? "none" : "ThreadCrew",
      variant == "baseline" ? antcrew::record_layer::Cell::Kind::baseline : antcrew::record_layer::Cell::Kind::variant,
      workers, 0};
  for (std::size_t r = 0; r < times.size(); ++r) {
    antcrew::record_layer::Trial trial;
    trial.round = trial.generation = static_cast<int>(r + 1);
    trial.wall_s = times[r];
    trial.user_s = times[r] * workers;
    trial.others_cpu_s = times[r] * (workers - 1);
    cell.trials.push_back(trial);
  }
  return cell;
}

inline antcrew::record_layer::Record record_of(std::vector<antcrew::record_layer::Cell> cells) {
  antcrew::record_layer::Record record;
  record.title = "Made by hand";
  record.library_version = "0";
  record.created = "2026-01-02T03:04:05Z";
  record.agreement = "exactly";
  record.machine.limits.online_processors = record.machine.limits.affinity_processors = 4;
  record.machine.topology.physical_cores = 4;
  record.build = {"g++", "-O3", "Release", true, true, "0123", ""};
  record.plan = {7, 7, 0.05, 60, 1};
  record.complete = true;
  record.points = {antcrew::StudyPoint{1000}};
  record.cells = std::move(cells);
  return record;
}

}  // namespace test
