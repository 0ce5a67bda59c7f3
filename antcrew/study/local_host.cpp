#include "antcrew/study/local_host.hpp"

#include "antcrew/machine/clock.hpp"
#include "antcrew/machine/control_group.hpp"
#include "antcrew/machine/refill.hpp"
#include "antcrew/machine/usage.hpp"
#include "antcrew/record/record.hpp"
#include "antcrew/study/visit_faults.hpp"

namespace antcrew::study_layer {
MadeBlock make_block(const StudyBase& study, const Point& at, BlockFacts& facts, ProcessBoard* board) {
  MadeBlock made;
  const std::uint64_t before = resident_bytes();
  const std::int64_t start = now_ns();
  tell(board, Stage::making_input);
  made.fault = caught([&] { made.input = study.make_input(at); }, 0, "the input maker");
  facts.make_input_s = static_cast<double>(now_ns() - start) * 1e-9;
  if (made.fault) return made;
  tell(board, Stage::baseline);
  const auto fault = caught(
      [&] {
        const auto baseline = study.open_baseline();
        reset_peak_memory();
        const std::uint64_t resident = resident_bytes();
        baseline->prepare(made.input, 1);
        const Usage used_before = usage_before();
        made.reference.wall_s = static_cast<double>(baseline->call_ns(made.input, 1)) * 1e-9;
        made.reference.cpu_s = (usage_after() - used_before).cpu_s();
        made.reference_answer = baseline->take_answer();
        if (const std::string why = baseline->objection(made.reference_answer); !why.empty())
          made.fault = Fault{Fault::Kind::cannot_disagree, 0, why};
        const std::uint64_t peak = peak_memory_bytes();
        made.bytes_of_a_call = peak > resident ? peak - resident : 0;
      },
      0, "the baseline");
  if (fault) made.fault = fault;
  facts.reference_s = made.reference.wall_s;
  const std::uint64_t after = resident_bytes();
  facts.input_bytes = after > before ? after - before : 0;
  facts.refill_s = made.reference.refill_s = refill_s(facts.input_bytes);
  made.reference.quota_period_s = own_control_group().period_s();
  tell(board, Stage::idle);
  return made;
}

std::optional<Fault> LocalHost::open(const Point& at, const std::vector<CellSpec>& cells, BlockFacts& facts) {
  close();
  if (facts.afresh) facts.not_afresh = "cells are not tried in processes of their own";
  facts.afresh = false;
  cells_ = cells;
  visitors_.resize(cells.size());
  MadeBlock made = make_block(study_, at, facts, nullptr);
  input_ = std::move(made.input);
  reference_answer_ = std::move(made.reference_answer);
  reference_ = made.reference;
  return made.fault;
}

Visit LocalHost::meter(std::size_t cell, int calls, bool one_worker) {
  Visitor visitor(study_, cells_[cell], input_, reference_answer_, reference_, nullptr);
  VisitOrder order;
  order.metered = calls;
  order.one_worker = one_worker;
  Visit visit;
  Visit told = visitor.visit(order);
  visit.seen.metered = std::move(told.seen.metered);
  if (!told.seen.faults.empty()) visit.seen.metered = {internal::not_metered(told.seen.faults.front())};
  return visit;
}

Visit LocalHost::visit(std::size_t cell, const VisitOrder& order) {
  if (limits_.stop && limits_.stop()) throw Stopped{};
  std::unique_ptr<Visitor>& visitor = visitors_[cell];
  if (!visitor) {
    visitor = std::make_unique<Visitor>(study_, cells_[cell], input_, reference_answer_, reference_, nullptr);
  }
  Visit visit = visitor->visit(order);
  if (visit.replace || !order.keep) visitor.reset();
  return visit;
}

void LocalHost::renew() {
  for (auto& visitor : visitors_) visitor.reset();
}

void LocalHost::close() {
  visitors_.clear();
  reference_answer_.reset();
  input_.reset();
}

}  // namespace antcrew::study_layer
