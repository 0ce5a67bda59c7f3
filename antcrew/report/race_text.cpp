#include "antcrew/report/race_text.hpp"

#include <fmt/format.h>

#include "antcrew/record/json.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

std::string race_text(const RaceReport& report, std::size_t width) {
  if (report.faults.empty()) {
    return wrapped(
        fmt::format(
            "No race came to light in {} trials with random delays, of {} variant{} (seed {}). That is no proof: "
            "also build with -fsanitize=thread.\n",
            report.trials, report.variants, report.variants == 1 ? "" : "s", report.seed),
        width);
  }
  std::string text =
      fmt::format("{} of the cells went wrong under random delays, in {} trials of {} variant{} (seed {}):\n\n",
                  report.faults.size(), report.trials, report.variants, report.variants == 1 ? "" : "s", report.seed);
  for (const RaceFault& fault : report.faults) {
    text += fmt::format("  {} with {} workers at {}, {} time{}: {}\n", fault.variant, fault.workers,
                        point_in_words(fault.point), fault.seen, fault.seen == 1 ? "" : "s", fault.text);
  }
  return wrapped(text, width);
}

std::string race_json(const RaceReport& report) {
  Json faults = Json::array();
  for (const RaceFault& fault : report.faults)
    faults.push_back({{"variant", fault.variant},
                      {"workers", fault.workers},
                      {"at", point_in_words(fault.point)},
                      {"seen", fault.seen},
                      {"text", fault.text}});
  return Json{{"title", report.title},
              {"seed", report.seed},
              {"variants", report.variants},
              {"trials", report.trials},
              {"faults", std::move(faults)}}
             .dump(2) +
         "\n";
}

}  // namespace antcrew::report_layer
