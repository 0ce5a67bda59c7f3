#include "antcrew/report/confidence.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

std::string rounds_text(const Analysed& study) {
  int fewest = 0;
  int most = 0;
  double widest = 0;
  for (const CellFigures& f : study.cells) {
    if (f.cell->kind != Cell::Kind::variant || !f.speedup) continue;
    const int count = f.explored ? f.explored->count : f.speedup->count;
    fewest = fewest == 0 ? count : std::min(fewest, count);
    most = std::max(most, count);
    if (f.speedup->claimed) widest = std::max(widest, f.speedup->relative_half_width());
  }
  if (most == 0) return "nothing was timed to its end";
  std::string text = fewest == most ? fmt::format("{} rounds", most) : fmt::format("{} to {} rounds", fewest, most);
  if (widest > 0) text += fmt::format(", intervals within ±{}", percent_text(widest));
  return text;
}

std::string noise_text(const Analysed& study) {
  for (const Finding& remark : study.remarks) {
    if (remark.id == "noise") return claim_of(remark);
  }
  return "the machine was idle";
}

}  // namespace

std::string confidence_line(const Analysed& study) {
  const Record& record = *study.record;
  const int usable = record.machine.usable_processors();
  std::string text =
      fmt::format("{}, {} usable processor{}; {}; {}",
                  record.machine.processor.empty() ? "unknown processor" : printable(record.machine.processor, 60),
                  usable, usable == 1 ? "" : "s", rounds_text(study), noise_text(study));
  if (!record.build.optimised && !record.commands) text += "; the program was not optimised";
  if (!record.complete) text += "; the run was ended early";
  return text + fmt::format("; {}, measured for {}.", record.created.substr(0, 10), duration_text(record.measured_s));
}

}  // namespace antcrew::report_layer
