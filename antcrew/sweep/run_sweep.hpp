// Running a study of commands: the same rounds, verdicts and record as of a study of C++ code.
//
//   const auto study = read_study("tides.toml");
//   const Record record = run_sweep(*study, Plan{.workers = {1, 2, 4}}, {}, "tides-trials");
//
// Called from a program that has one thread.
#pragma once

#include <string>

#include "antcrew/study/run.hpp"
#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

// kept_under: folder for the trials that are kept. begun: as in run_on(); null for a new record. Throws Error for what
// cannot be run.
Record run_sweep(const CommandStudy& study, const Plan& plan, const RunHooks& hooks, const std::string& kept_under,
                 const Record* begun = nullptr);

// Every command as it would be run, one a line, baseline first: with the variant's name, its worker count and the
// point.
std::string commands_in_words(const CommandStudy& study, const Plan& plan);
// The same as JSON: a list of {"variant", "workers", "size", "words" or "shell", "input"}.
std::string commands_json(const CommandStudy& study, const Plan& plan);

}  // namespace antcrew::sweep_layer
