#include "antcrew/study/local_host.hpp"

#include "antcrew/machine/clock.hpp"

namespace antcrew {

std::optional<Fault> LocalHost::open(const Point& at, const std::vector<CellSpec>& cells) {
  close();
  cells_ = cells;
  sessions_.resize(cells.size());
  if (auto fault = caught([&] { input_ = study_.make_input(at); }, 0, "the input maker")) return fault;
  return caught(
      [&] {
        const auto baseline = study_.open_baseline();
        baseline->call_ns(input_, 1);
        reference_ = baseline->take_answer();
      },
      0, "the baseline");
}

// Starts the crew and makes the call that pays for everything that happens once.
Visit LocalHost::first_visit(std::size_t cell) {
  const CellSpec& spec = cells_[cell];
  Visit visit;
  const std::int64_t start = now_ns();
  auto session = spec.variant == nullptr ? study_.open_baseline() : spec.variant->open(spec.workers);
  visit.startup_s = static_cast<double>(now_ns() - start) * 1e-9;
  visit.crew = session->crew_facts();
  visit.cold_s = static_cast<double>(session->call_ns(input_, 1)) * 1e-9;
  session->drop_answers();
  sessions_[cell] = std::move(session);
  return visit;
}

Visit LocalHost::visit(std::size_t cell, int round) {
  Visit visit;
  auto fault = caught(
      [&] {
        if (!sessions_[cell]) visit = first_visit(cell);
        Visit timed = settle_and_time(*sessions_[cell], input_, reference_, round);
        visit.trial = timed.trial;
        visit.faults = std::move(timed.faults);
      },
      round);
  if (fault) {
    visit.faults.push_back(std::move(*fault));
    visit.over = true;
    sessions_[cell].reset();
  }
  return visit;
}

void LocalHost::close() {
  sessions_.clear();
  reference_.reset();
  input_.reset();
}

}  // namespace antcrew
