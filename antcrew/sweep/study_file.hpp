// Reading a study of commands from a file (TOML, https://toml.io). docs/sweep.md describes the keys.
//
//   const auto study = read_study("tides.toml");
//   run_sweep(*study, Plan{.workers = {1, 2}});
//
// Throws Error, in one sentence with file, line and column: sweep.file (it cannot be read), sweep.syntax (it is not
// TOML), sweep.format (a newer one, or none), sweep.key (an unknown or missing key), sweep.type (a value of another
// kind), sweep.name (an unknown @(name)), sweep.program (a program that is not there).
#pragma once

#include <memory>
#include <string>

#include "antcrew/sweep/command_study.hpp"
#include "antcrew/sweep/layer.hpp"

namespace antcrew::sweep_layer {

inline constexpr int newest_study_format = 1;

std::unique_ptr<CommandStudy> read_study(const std::string& path);

// The same of a text; `name` stands for the file in messages, and names are relative to `folder`.
std::unique_ptr<CommandStudy> study_from_text(const std::string& text, const std::string& name,
                                              const std::string& folder);

// A study that is one command, whose baseline is the same with one worker; @(size) and @(NAME) may stand in it where
// there are sizes, and such a dimension. Throws Error (sweep.name) where @(workers) is not in it.
std::unique_ptr<CommandStudy> study_of(const Words& command, const std::string& folder,
                                       const std::vector<std::size_t>& sizes,
                                       const std::map<std::string, std::vector<PointValue>>& dimensions);

// A study file with comments that runs as it is, anywhere.
std::string example_study();

}  // namespace antcrew::sweep_layer
