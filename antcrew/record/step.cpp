#include "antcrew/record/step.hpp"
#include "antcrew/record/record.hpp"

#include <algorithm>
#include <iterator>

namespace antcrew::record_layer {
namespace {

template <class T>
void append(std::vector<T>& to, std::vector<T>&& more) {
  to.insert(to.end(), std::make_move_iterator(more.begin()), std::make_move_iterator(more.end()));
}

void add(Cell& cell, Cell&& seen) {
  if (!seen.startup_s.empty()) {
    cell.asked_processors = std::move(seen.asked_processors);
    cell.granted_processors = std::move(seen.granted_processors);
  }
  append(cell.startup_s, std::move(seen.startup_s));
  append(cell.cold_s, std::move(seen.cold_s));
  append(cell.cold_cpu_s, std::move(seen.cold_cpu_s));
  if (cell.printed.empty()) cell.printed = std::move(seen.printed);
  if (cell.answer.empty()) cell.answer = std::move(seen.answer);
  if (cell.command.empty()) cell.command = std::move(seen.command);
  if (!seen.folder.empty()) cell.folder = std::move(seen.folder);
  if (!seen.no_resources.empty()) cell.no_resources = std::move(seen.no_resources);
  append(cell.empty_s, std::move(seen.empty_s));
  if (seen.check) cell.check = std::move(seen.check);
  append(cell.metered, std::move(seen.metered));
  append(cell.tree_bytes, std::move(seen.tree_bytes));
  append(cell.trials, std::move(seen.trials));
  append(cell.faults, std::move(seen.faults));
  if (seen.came_through) cell.came_through = seen.came_through;
}

void add(std::vector<CrowdFacts>& crowds, CrowdFacts&& more) {
  const auto known = std::find_if(crowds.begin(), crowds.end(), [&](const CrowdFacts& crowd) {
    return crowd.point == more.point && crowd.copies == more.copies;
  });
  if (known == crowds.end()) {
    crowds.push_back(std::move(more));
  } else {
    append(known->time_s, std::move(more.time_s));
  }
}

void add(YardstickFacts& all, YardstickFacts&& more) {
  if (more.edition != all.edition) all = {more.edition, {}, {}, {}};
  append(all.arithmetic_s, std::move(more.arithmetic_s));
  append(all.wake_s, std::move(more.wake_s));
  append(all.stream_s, std::move(more.stream_s));
}

bool fits(const Record& record, const RecordStep& step) {
  const auto is_cell = [&](std::size_t index) { return index < record.cells.size(); };
  const auto is_point = [&](const auto& facts) { return !facts || facts->point < record.points.size(); };
  if (step.visited && !is_cell(step.visited->cell)) return false;
  if (step.confirmation && !(is_cell(step.confirmation->leader) &&
                             std::all_of(step.confirmation->rivals.begin(), step.confirmation->rivals.end(), is_cell)))
    return false;
  return is_point(step.block) && is_point(step.crowd) && is_point(step.confirmation) && is_point(step.left_out);
}

}  // namespace

bool apply(Record& record, RecordStep&& step) {
  if (!fits(record, step)) return false;
  record.measured_s = std::max(record.measured_s, step.measured_s);
  if (step.visited) add(record.cells[step.visited->cell], std::move(step.visited->seen));
  if (step.block) record.blocks.push_back(*step.block);
  if (step.crowd) add(record.crowds, std::move(*step.crowd));
  if (step.confirmation) record.confirmations.push_back(*step.confirmation);
  if (step.left_out) record.left_out.push_back(*step.left_out);
  if (step.yardstick) add(record.yardstick, std::move(*step.yardstick));
  if (step.together) record.together.push_back(*step.together);
  record.waited_idle_s += step.waited_idle_s;
  if (step.dropped) {
    record.dropped_asleep += step.dropped->asleep;
    record.dropped_paused += step.dropped->paused;
  }
  return true;
}

}  // namespace antcrew::record_layer
