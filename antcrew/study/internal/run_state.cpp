#include "antcrew/study/internal/run_state.hpp"
#include "antcrew/record/record.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "antcrew/analysis/conclusion.hpp"

namespace antcrew::internal {

void RunState::add(RecordStep step) {
  step.measured_s = measured_before_s + elapsed_s();
  if (hooks.on_step) hooks.on_step(step);
  apply(record, std::move(step));
}

void RunState::note(const std::string& text) const {
  if (hooks.on_note) hooks.on_note(text);
}

void RunState::leave_out(const LeftOut& left, const std::string& said) {
  const bool known = std::any_of(record.left_out.begin(), record.left_out.end(), [&](const LeftOut& other) {
    return other.what == left.what && other.point == left.point;
  });
  if (known) return;
  RecordStep step;
  step.left_out = left;
  add(std::move(step));
  const double advised_s = advised_budget_s(record);
  if (hooks.on_left_out)
    hooks.on_left_out(advised_s > advised_s_ ? fmt::format("{}; a budget of about {:.0f} s is enough (--budget {:.0f})",
                                                           said, advised_s, advised_s)
                                             : said);
  advised_s_ = std::max(advised_s_, advised_s);
}

void RunState::not_left_out(LeftOut::What what, std::size_t point) {
  auto& all = record.left_out;
  all.erase(std::remove_if(all.begin(), all.end(),
                           [&](const LeftOut& left) { return left.what == what && left.point == point; }),
            all.end());
}

void RunState::tell_progress(const Cell& next) const {
  if (!hooks.on_visit) return;
  const double elapsed = elapsed_s();
  const double by_time = budget.limited() ? elapsed / budget.total_s() : 0;
  const double share = std::min(1.0, std::max(progress, by_time));
  const double left = share > 0 ? elapsed * (1 - share) / share : 0;
  hooks.on_visit({share, elapsed, left, next.point, next.variant, next.workers});
}

std::optional<std::size_t> RunState::variant_of(const Cell& cell) const {
  for (const std::size_t variant : grid.variants) {
    const VariantOutline& outline = study.variants()[variant];
    if (outline.name == cell.variant && outline.crew == cell.crew) return variant;
  }
  return std::nullopt;
}

}  // namespace antcrew::internal
