// Runs one study with the options that all have, keeps its record as it grows, and shows what came out.
#pragma once

#include <functional>
#include <string>

#include "antcrew/cli/layer.hpp"
#include "antcrew/cli/study_options.hpp"
#include "antcrew/study/run.hpp"

namespace antcrew::cli_layer {

// A study and how it is run, whatever it measures.
struct RunnableStudy {
  const Outline* outline = nullptr;
  // begun: null for a new record. path: of the record.
  std::function<Record(const Plan& plan, const RunHooks& hooks, const Record* begun, const std::string& path)> run;
};

// From here on the first Ctrl-C ends a run cleanly; a second one does what it always does.
void end_on_signals();
bool asked_to_end() noexcept;

// Returns an exit code.
int run_study(const RunnableStudy& study, const StudyOptions& options, std::size_t studies);

}  // namespace antcrew::cli_layer
