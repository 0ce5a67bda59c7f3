#include "antcrew/study/internal/serve_visits.hpp"

#include <cstdio>
#include <string>

#include "antcrew/base/bad_message.hpp"
#include "antcrew/study/internal/checking.hpp"
#include "antcrew/study/internal/protocol.hpp"

namespace antcrew::internal {
namespace {

// No exception leads out of here: the harness of the program that was forked is below.
Visit visit_or_fault(Visitor& visitor, const StudyBase& study, const CellSpec& cell, const Point& at,
                     ProcessBoard* board, const MadeBlock& made, const VisitOrder& how) {
  Visit visit;
  if (made.fault) {
    visit.seen.faults.push_back(*made.fault);
    visit.over = true;
  } else if (auto fault = caught(
                 [&] {
                   visit = how.check
                               ? check_cell(study, cell, at, how.other_size, made.input, made.reference_answer, board)
                               : visitor.visit(how);
                 },
                 how.round)) {
    visit.seen.faults.push_back(std::move(*fault));
    visit.over = true;
  }
  flush_prints();
  return visit;
}

}  // namespace

void flush_prints() {
  std::fflush(nullptr);
}

__attribute__((noinline)) void serve_visits(Channel& run, const StudyBase& study, const CellSpec& cell, const Point& at,
                                            ProcessBoard* board, const MadeBlock& made,
                                            const std::function<void(Visit&)>& finish) {
  auto& visitor = *new Visitor(study, cell, made.input, made.reference_answer, made.reference, board);
  while (const auto request = run.receive()) {
    std::string reply;
    try {
      Visit visit = visit_or_fault(visitor, study, cell, at, board, made, visit_order_from(*request));
      if (finish) finish(visit);
      reply = to_message(CellReply(std::move(visit)));
    } catch (const BadMessage& error) {
      reply = to_message(CellReply(NotUnderstood{error.what()}));
    }
    if (!run.send(reply)) break;
  }
}

}  // namespace antcrew::internal
