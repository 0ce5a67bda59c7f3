// `antcrew sweep`: studies of commands.
#pragma once

#include <string>
#include <vector>

#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/sweep/one_line.hpp"

namespace CLI {
class App;
}

namespace antcrew::cli_layer {

struct SweepOptions {
  std::string file;
  bool example = false;
  sweep_layer::OneLine line;  // of a study without a file
  StudyOptions study;
};

void add_sweep_options(CLI::App& app, SweepOptions& options);

// command: the words behind "--"; empty = there are none. Returns an exit code. Throws Error.
int sweep(const SweepOptions& options, const std::vector<std::string>& command);

}  // namespace antcrew::cli_layer
