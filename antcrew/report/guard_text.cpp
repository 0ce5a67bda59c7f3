#include "antcrew/report/guard_text.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/record/json.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/internal/markup.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

int count_of(const std::vector<Check>& checks, Outcome outcome) {
  return static_cast<int>(
      std::count_if(checks.begin(), checks.end(), [&](const Check& check) { return check.outcome == outcome; }));
}

std::string whose(const Check& check, const std::vector<const Analysed*>& runs) {
  const Analysed& run = check.in == nullptr ? *runs.back() : *check.in;
  std::string text = "the study";
  if (check.of != nullptr)
    text = fmt::format("{} at {}", cell_in_words(*check.of->cell),
                       point_in_words(run.record->points[check.of->cell->point]));
  if (runs.size() > 1 && check.in != nullptr) text += " in the run of " + printable(run.record->created, 30);
  return text;
}

std::string line_of(const Check& check, const std::vector<const Analysed*>& runs) {
  std::string text = fmt::format("  {}: {}, {}", name_of(check.outcome), check.what, whose(check, runs));
  if (!check.found.empty()) text += ": " + printable(check.found, 300);
  if (!check.settles.empty()) text += "; " + check.settles;
  return text + "\n";
}

}  // namespace

std::string guard_text(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs,
                       const Comparison* against) {
  const int failed = count_of(checks, Outcome::failed);
  const int open = count_of(checks, Outcome::cannot_tell);
  const int all = static_cast<int>(checks.size());
  std::string text = failed > 0 ? fmt::format("Failed: {} of {} requirement{}.\n", failed, all, all == 1 ? "" : "s")
                     : open > 0 ? fmt::format("Cannot tell: {} of {} requirement{}.\n", open, all, all == 1 ? "" : "s")
                                : fmt::format("Passed: {} requirement{}.\n", all, all == 1 ? "" : "s");
  for (const Outcome outcome : {Outcome::failed, Outcome::cannot_tell, Outcome::passed}) {
    for (const Check& check : checks) {
      if (check.outcome == outcome) text += line_of(check, runs);
    }
  }
  if (against == nullptr) return text + "Of a hundred guards over what has not changed one fails at most.\n";
  if (against->between_runs)
    return text + fmt::format(
                      "From run to run speedups spread by {:.1f} %: that is allowed for. Of a hundred guards "
                      "over what has not changed one fails at most.\n",
                      100 * *against->between_runs);
  text +=
      fmt::format("The spread from run to run is not known (five stored runs would tell): {:.0f} % are allowed for it",
                  100 * against->assumed);
  if (against->least_told > 0) text += fmt::format(", and no loss under {:.0f} % fails", 100 * against->least_told);
  return text + ".\n";
}

std::string guard_json(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs) {
  Json all = Json::array();
  for (const Check& check : checks)
    all.push_back({{"outcome", name_of(check.outcome)},
                   {"what", check.what},
                   {"whose", whose(check, runs)},
                   {"found", check.found},
                   {"settles", check.settles}});
  const Outcome outcome = any(checks, Outcome::failed)        ? Outcome::failed
                          : any(checks, Outcome::cannot_tell) ? Outcome::cannot_tell
                                                              : Outcome::passed;
  return Json{{"title", runs.back()->record->title}, {"outcome", name_of(outcome)}, {"checks", std::move(all)}}.dump(
             2) +
         "\n";
}

std::string guard_junit(const std::vector<Check>& checks, const std::vector<const Analysed*>& runs) {
  using internal::escaped;
  std::string text = fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuite name=\"{}\" tests=\"{}\" failures=\"{}\" "
      "skipped=\"{}\">\n",
      escaped(printable(runs.back()->record->title, 200)), checks.size(), count_of(checks, Outcome::failed),
      count_of(checks, Outcome::cannot_tell));
  for (const Check& check : checks) {
    text += fmt::format("  <testcase classname=\"{}\" name=\"{}\"", escaped(whose(check, runs)), escaped(check.what));
    const std::string found =
        escaped(printable(check.found + (check.settles.empty() ? "" : "; " + check.settles), 600));
    if (check.outcome == Outcome::failed)
      text += fmt::format(">\n    <failure message=\"{}\"/>\n  </testcase>\n", found);
    if (check.outcome == Outcome::cannot_tell)
      text += fmt::format(">\n    <skipped message=\"cannot tell: {}\"/>\n  </testcase>\n", found);
    if (check.outcome == Outcome::passed) text += "/>\n";
  }
  return text + "</testsuite>\n";
}

}  // namespace antcrew::report_layer
