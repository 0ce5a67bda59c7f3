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

void RunState::wait_until_idle() {
  constexpr double look_s = 0.1;
  constexpr double idle = 0.25;  // processors that others may keep busy
  if (!tools.other_load || plan.wait_idle_s <= record.waited_idle_s) return;
  const double before_s = elapsed_s();
  double busy = tools.other_load(look_s);
  if (busy > idle && record.waited_idle_s == 0)
    note(fmt::format("other programs keep {:.1f} processors busy: waiting for them, up to {:.0f} s", busy,
                     plan.wait_idle_s));
  while (busy > idle && record.waited_idle_s + elapsed_s() - before_s < plan.wait_idle_s) {
    if (hooks.stop && hooks.stop()) throw Stopped{};
    busy = tools.other_load(look_s);
  }
  const double waited_s = elapsed_s() - before_s;
  budget.extend(waited_s);
  visit_ended_ns = tools.now_ns();
  if (waited_s < 2 * look_s) return;  // nobody was waited for
  RecordStep step;
  step.waited_idle_s = waited_s;
  add(std::move(step));
  if (busy > idle && record.waited_idle_s >= plan.wait_idle_s)
    note(fmt::format("other programs still keep {:.1f} processors busy: not waiting any longer", busy));
}

void RunState::time_yardstick(bool stream) {
  constexpr double share = 0.01;  // of the time, for the stream and for the rest each
  constexpr double stream_takes_s = 0.015;
  if (!tools.yardstick) return;
  const double before_s = elapsed_s();
  const double allowed_s = share * std::max(before_s, stream ? budget.total_s() : 0);
  double& spent_s = stream ? stream_s : yardstick_s;
  const bool first = stream && spent_s == 0 && !budget.limited();
  if (!first && spent_s + (stream ? stream_takes_s : 0) > allowed_s) return;
  RecordStep step;
  step.yardstick = tools.yardstick(stream);
  spent_s += elapsed_s() - before_s;
  add(std::move(step));
  visit_ended_ns = tools.now_ns();  // not made up for by the next visit
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
