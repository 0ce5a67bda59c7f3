// Metered calls in cell processes of their own; of work without a crew, looked at from here.
#include <algorithm>
#include <optional>

#include "antcrew/machine/together.hpp"
#include "antcrew/study/internal/metered_cells.hpp"
#include "antcrew/study/process_host.hpp"
#include "antcrew/study/sampler.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::study_layer {
namespace {

// Threads and processes that are in no lane did much of the work, so the lanes do not tell where the time went.
bool much_outside(const std::vector<internal::LaneSums>& metered) {
  constexpr double much = 0.05;    // of the lanes' CPU time
  constexpr double noticed = 0.1;  // of lanes × wall
  return !metered.empty() && std::all_of(metered.begin(), metered.end(), [](const internal::LaneSums& sums) {
    const double outside_s = sums.cpu_tree_s - std::max(sums.cpu_frames_s, sums.cpu_kernel_s) - sums.parent_cpu_s;
    return sums.withheld.empty() && outside_s > much * sums.cpu_frames_s && outside_s > noticed * sums.lane_seconds();
  });
}

bool failed(const Visit& visit) {
  const std::vector<internal::LaneSums>& metered = visit.seen.metered;
  return metered.size() == 1 && !(metered.front().wall_s > 0) && !metered.front().withheld.empty();
}

bool no_regions(const std::vector<internal::LaneSums>& metered) {
  return std::all_of(metered.begin(), metered.end(),
                     [](const internal::LaneSums& sums) { return sums.withheld.empty() && sums.regions == 0; });
}

}  // namespace

// What goes wrong here went well when it was timed: it is no word against the cell, and the reason why there is no
// ledger.
Visit ProcessHost::meter(std::size_t cell, int calls, bool one_worker) {
  const CellSpec& spec = cells_[cell];
  VisitOrder order;
  order.metered = calls;
  order.one_worker = one_worker;
  order.may_be_without = !spec.baseline() && spec.workers > 1 && !launched(spec) &&
                         internal::works_without_a_crew(spec.of(study_).crew, spec.workers);
  Visit visit = meter(cell, order);
  // Work that needs several workers does not come back from one that was tried unasked.
  if (one_worker && failed(visit)) {
    order.one_worker = false;
    visit = meter(cell, order);
  }
  if (spec.baseline() || spec.workers < 2 || launched(spec)) return visit;
  // A body without a crew of the study's may have one of its own, which writes the log.
  const bool without = order.may_be_without && no_regions(visit.seen.metered);
  if (!without && !much_outside(visit.seen.metered)) return visit;
  order.may_be_without = false;
  order.looked_at = true;
  Visit looked_at = meter(cell, order);
  return looked_at.seen.metered.empty() || (!without && !looked_at.seen.metered.front().looks) ? visit : looked_at;
}

std::optional<TogetherFacts> ProcessHost::together(int workers) {
  const TogetherTimes times = times_together(workers);
  if (!(times.arithmetic_s > 0)) return std::nullopt;
  return TogetherFacts{workers, times.arithmetic_s, times.bytes_per_s, times.line_move_s};
}

Visit ProcessHost::meter(std::size_t cell, const VisitOrder& order) {
  const bool looked_at = order.looked_at;
  Visit visit;
  if (processes_[cell].running()) end_process(cell);
  if (!ensure_process(cell)) return visit;
  boards_[cell].metered_call.store(0);
  std::optional<internal::Sampler> sampler;  // which goes before others: only while it looks
  if (looked_at) sampler.emplace(processes_[cell].pid(), boards_[cell].metered_call, boards_[cell].looks);
  const Waited waited = order_visit(cell, order, looked_at ? &*sampler : nullptr);
  if (looked_at) sampler->stop();
  if (!waited.message) {
    visit.seen.metered = {internal::not_metered(why_no_answer(cell, waited, 0))};
    return visit;
  }
  end_process(cell);
  Visit told = internal::visit_from(*waited.message, 0);
  visit.seen.metered = std::move(told.seen.metered);
  if (looked_at) sampler->fill(visit.seen.metered);
  if (!told.seen.faults.empty()) visit.seen.metered = {internal::not_metered(told.seen.faults.front())};
  boards_[cell].returned_children.store(0);
  return visit;
}

}  // namespace antcrew::study_layer
