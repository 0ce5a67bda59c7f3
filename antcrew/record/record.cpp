#include "antcrew/record/record.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"

namespace antcrew {

std::size_t Point::operator[](const std::string& dimension) const {
  const auto found = dimensions.find(dimension);
  if (found == dimensions.end()) {
    bad_input("study.dimension", "Point", "no dimension '" + dimension + "'",
              "add it with study.dimension(\"" + dimension + "\", {…})");
  }
  return found->second;
}

const char* name_of(Fault::Kind kind) noexcept {
  switch (kind) {
    case Fault::Kind::crashed:
      return "crashed";
    case Fault::Kind::out_of_memory:
      return "out of memory";
    case Fault::Kind::timed_out:
      return "timed out";
    case Fault::Kind::threw:
      return "threw";
    case Fault::Kind::left_work:
      return "left work running";
    case Fault::Kind::threads_left:
      return "threads left behind";
    case Fault::Kind::wrong_answer:
      break;
  }
  return "wrong answer";
}

const char* name_of(Cell::Kind kind) noexcept {
  switch (kind) {
    case Cell::Kind::baseline:
      return "baseline";
    case Cell::Kind::probe:
      return "probe";
    case Cell::Kind::variant:
      break;
  }
  return "variant";
}

const Cell* baseline_of(const Record& record, std::size_t point) noexcept {
  for (const Cell& cell : record.cells) {
    if (cell.kind == Cell::Kind::baseline && cell.point == point) return &cell;
  }
  return nullptr;
}

std::string library_version() {
  return ANTCREW_VERSION;
}

void check_references(const Record& record, const std::string& where) {
  const auto exists = [&](const auto& facts) { return facts.point < record.points.size(); };
  if (!std::all_of(record.blocks.begin(), record.blocks.end(), exists) ||
      !std::all_of(record.crowds.begin(), record.crowds.end(), exists)) {
    bad_input("record.field", where, "a block or crowd names a point that does not exist", "give an undamaged record");
  }
  for (const Cell& cell : record.cells) {
    if (cell.point >= record.points.size() || cell.workers < 1) {
      bad_input("record.field", where,
                "the cell of '" + cell.variant + "' names a point or worker count that does not exist",
                "give an undamaged record");
    }
  }
}

}  // namespace antcrew
