// Many runs as one page: what became of each study, run after run, and any run beside the one before it.
//
//   save(history_page_html({{"Tide heights", {{&old, "as released"}, {&now, "run 13"}}}}));
//
// One file like page_html()'s: its scripts stand in it, it asks nothing of a network, and names in it run nothing.
// Pure; any thread may call it; studies must outlive the call.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "antcrew/analysis/forward.hpp"
#include "antcrew/report/layer.hpp"

namespace antcrew::report_layer {

struct HistoryRun {
  const Analysed* study = nullptr;
  std::string name;  // what people call it
};

// Runs of one study, oldest first.
struct StudyHistory {
  std::string title;
  std::vector<HistoryRun> runs;
};

// So many pairs of neighbours, the newest ones, are laid side by side on a page.
inline constexpr std::size_t most_pairs = 30;

// Runs with the same title belong together, whatever their order; the study with the newest run comes first.
std::vector<StudyHistory> runs_by_study(std::vector<HistoryRun> runs);

std::string history_page_html(const std::vector<StudyHistory>& studies);

}  // namespace antcrew::report_layer
