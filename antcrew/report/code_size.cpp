#include "antcrew/report/code_size.hpp"

#include <fmt/format.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/text.hpp"

namespace antcrew::report_layer {
namespace {

const CellFigures* fastest_of(const Analysed& study, const std::string& key) {
  const CellFigures* best = nullptr;
  for (const CellFigures& f : study.cells) {
    if (f.cell->key() != key || f.cell->point != study.conclusion.point || !f.newest || !f.speedup) continue;
    if (f.verdict != Verdict::holds) continue;
    if (best == nullptr || f.speedup->median > best->speedup->median) best = &f;
  }
  return best;
}

int baseline_lines(const Analysed& study) {
  for (const auto& source : study.record->sources) {
    if (source.of == "baseline") return source.lines;
  }
  return 0;
}

}  // namespace

std::vector<CodeSize> code_sizes_of(const Analysed& study) {
  std::vector<CodeSize> sizes;
  for (const auto& source : study.record->sources)
    sizes.push_back({&source, source.of == "baseline" ? nullptr : fastest_of(study, source.of)});
  return sizes;
}

Section code_size_section(const Analysed& study) {
  const std::vector<CodeSize> sizes = code_sizes_of(study);
  if (sizes.empty()) return {};
  const int baseline = baseline_lines(study);
  TextGrid grid({{"source", false, 9}, {"lines", true, 9}, {"more", true, 9}, {"speedup, at its fastest", false, 9}});
  for (const CodeSize& size : sizes) {
    const bool counted = size.source->lines > 0;
    const bool is_baseline = size.source->of == "baseline";
    grid.row({printable(size.source->of, 40), counted ? std::to_string(size.source->lines) : "?",
              counted && !is_baseline && baseline > 0 ? fmt::format("{:+}", size.source->lines - baseline) : "",
              !counted               ? size.source->trouble
              : size.cell != nullptr ? fmt::format("{} with {} worker{}", ratio_text(*size.cell->speedup),
                                                   size.cell->cell->workers, size.cell->cell->workers == 1 ? "" : "s")
                                     : ""});
  }
  return {"Lines of source, and what they gain", grid.text(Look())};
}

}  // namespace antcrew::report_layer
