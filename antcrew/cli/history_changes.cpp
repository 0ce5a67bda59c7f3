#include "antcrew/cli/history_changes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <memory>
#include <utility>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/change_points.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/record/record_file.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::cli_layer {
namespace {

// Runs of one title, oldest first.
struct History {
  std::string title;
  std::vector<const ListedRun*> listed;
  std::vector<std::unique_ptr<Record>> records;
  std::vector<std::unique_ptr<Analysed>> studies;

  std::vector<const Analysed*> all() const {
    std::vector<const Analysed*> pointers;
    for (const auto& study : studies) pointers.push_back(study.get());
    return pointers;
  }
};

std::vector<History> histories_of(const FoundRuns& found) {
  std::map<std::string, History> by_title;
  for (auto run = found.runs.rbegin(); run != found.runs.rend(); ++run) {
    if (run->stored.lost || !run->trouble.empty()) continue;
    History& history = by_title[run->title];
    history.title = run->title;
    history.listed.push_back(&*run);
  }
  std::vector<History> histories;
  for (auto& [title, history] : by_title) {
    std::stable_sort(history.listed.begin(), history.listed.end(),
                     [](const ListedRun* a, const ListedRun* b) { return a->created < b->created; });
    for (const ListedRun* run : history.listed) {
      history.records.push_back(std::make_unique<Record>(load_record(run->stored.path)));
      history.studies.push_back(std::make_unique<Analysed>(analyse(*history.records.back())));
    }
    histories.push_back(std::move(history));
  }
  return histories;
}

}  // namespace

std::string changes_text(const FoundRuns& found) {
  std::string text;
  for (const History& history : histories_of(found)) {
    const std::size_t runs = history.studies.size();
    text += fmt::format("{}, {} run{}\n", printable(history.title, 60), runs, runs == 1 ? "" : "s");
    if (runs < 2 * runs_beside_change) {
      text += fmt::format("  too few to tell a change: {} at least, {} before it and {} after\n",
                          2 * runs_beside_change, runs_beside_change, runs_beside_change);
      continue;
    }
    const std::vector<const Analysed*> all = history.all();
    std::size_t told = 0;
    for (const CellChanges& cell : changes_over(all)) {
      for (const ChangePoint& change : cell.found) {
        ++told;
        const ListedRun& from = *history.listed[cell.runs[change.at]];
        text += fmt::format("  from run {} ({}) on: {} at {}, speedup {:.3g} to {:.3g}\n", from.stored.number,
                            printable(from.created, 30), cell_in_words(*cell.cell->cell),
                            point_in_words(all.back()->record->points[cell.cell->cell->point]), change.before,
                            change.after);
      }
    }
    if (told == 0) text += "  no speedup changed for good\n";
  }
  return text.empty() ? "No run that could be read was found.\n"
                      : text + "Of twenty histories without a change one is said to have one, over all its cells.\n";
}

std::string changes_json(const FoundRuns& found) {
  Json studies = Json::array();
  for (const History& history : histories_of(found)) {
    Json changes = Json::array();
    const std::vector<const Analysed*> all = history.all();
    for (const CellChanges& cell : changes_over(all)) {
      for (const ChangePoint& change : cell.found) {
        const Cell& its = *cell.cell->cell;
        changes.push_back({{"run", history.listed[cell.runs[change.at]]->stored.number},
                           {"variant", its.variant},
                           {"crew", its.crew},
                           {"workers", its.workers},
                           {"size", all.back()->record->points[its.point].size},
                           {"speedup_before", change.before},
                           {"speedup_after", change.after}});
      }
    }
    Json numbers = Json::array();
    for (const ListedRun* run : history.listed) numbers.push_back(run->stored.number);
    studies.push_back({{"title", history.title}, {"runs", std::move(numbers)}, {"changes", std::move(changes)}});
  }
  return Json{{"studies", std::move(studies)}}.dump(2) + "\n";
}

}  // namespace antcrew::cli_layer
