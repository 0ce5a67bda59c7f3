#include "antcrew/report/jostle_text.hpp"

#include <fmt/format.h>

#include "antcrew/report/headline.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {

std::string jostle_text(const JostleReport& report, std::size_t width) {
  if (report.faults.empty()) {
    return wrapped(
        fmt::format("No race came to light in {} jostled trials of {} variant{} (seed {}). That is no proof: "
                    "also build with -fsanitize=thread.\n",
                    report.trials, report.variants, report.variants == 1 ? "" : "s", report.seed),
        width);
  }
  std::string text =
      fmt::format("{} of the cells jostled went wrong, in {} trials of {} variant{} (seed {}):\n\n",
                  report.faults.size(), report.trials, report.variants, report.variants == 1 ? "" : "s", report.seed);
  for (const JostleFault& fault : report.faults) {
    text += fmt::format("  {} with {} workers at {}, {} time{}: {}\n", fault.variant, fault.workers,
                        point_in_words(fault.point), fault.seen, fault.seen == 1 ? "" : "s", fault.text);
  }
  return wrapped(text, width);
}

}  // namespace antcrew::report_layer
