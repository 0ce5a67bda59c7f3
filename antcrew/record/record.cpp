#include "antcrew/record/record.hpp"

#include <algorithm>

#include "antcrew/base/error.hpp"
#include "antcrew/base/hash.hpp"

namespace antcrew::record_layer {

namespace {

const PointValue& value_of(const Point& point, const std::string& dimension, bool word) {
  const auto found = point.dimensions.find(dimension);
  if (found == point.dimensions.end()) {
    bad_input("study.dimension", "Point", "no dimension '" + dimension + "'",
              "add it with study.dimension(\"" + dimension + "\", {…})");
  }
  if (found->second.is_word() != word) {
    bad_input("study.dimension", "Point",
              "the values of dimension '" + dimension + "' are " + (word ? "numbers" : "words"),
              word ? "read it as at[\"" + dimension + "\"]" : "read it as at.word(\"" + dimension + "\")");
  }
  return found->second;
}

}  // namespace

std::size_t Point::operator[](const std::string& dimension) const {
  return value_of(*this, dimension, false).number();
}

const std::string& Point::word(const std::string& dimension) const {
  return value_of(*this, dimension, true).word();
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
    case Fault::Kind::remembered:
      return "remembered its answer";
    case Fault::Kind::changed_input:
      return "changed its input";
    case Fault::Kind::changed_program:
      return "changed its program";
    case Fault::Kind::cannot_disagree:
      return "cannot disagree";
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

const char* name_of(LeftOut::What what) noexcept {
  switch (what) {
    case LeftOut::What::everything:
      return "everything";
    case LeftOut::What::cells:
      return "cells";
    case LeftOut::What::points:
      return "points";
    case LeftOut::What::confirming:
      return "confirming";
    case LeftOut::What::checks:
      return "checks";
    case LeftOut::What::metering:
      return "metering";
    case LeftOut::What::rounds:
      break;
  }
  return "rounds";
}

bool Trial::shared_a_processor() const noexcept {
  constexpr double noticed = 0.1;
  if (!run_delay_s || *run_delay_s < noticed * wall_s) return false;
  std::vector<int> known;
  for (const int one : processors) {
    if (one >= 0) known.push_back(one);
  }
  std::sort(known.begin(), known.end());
  return std::adjacent_find(known.begin(), known.end()) != known.end();
}

std::string run_id(const Record& record) {
  if (!record.run.empty()) {
    const bool ours = record.run.size() == 16 && record.run.find_first_not_of("0123456789abcdef") == std::string::npos;
    return ours ? record.run : text_hash(record.run);  // it becomes part of a file's name
  }
  std::string told = record.created + '\n' + record.title + '\n' + std::to_string(record.plan.seed);
  for (const Cell& cell : record.cells) {
    if (cell.trials.empty()) continue;
    told += '\n' + std::to_string(cell.trials.front().wall_s * 1e9);
    break;
  }
  return text_hash(told);
}

const Cell* baseline_of(const Record& record, std::size_t point) noexcept {
  for (const Cell& cell : record.cells) {
    if (cell.kind == Cell::Kind::baseline && cell.point == point && cell.attempt == 1) return &cell;
  }
  return nullptr;
}

const Cell* baseline_of(const Record& record, const Cell& cell) noexcept {
  if (cell.kind == Cell::Kind::baseline) return &cell;
  if (cell.attempt > 1) {
    for (const Cell& other : record.cells) {
      if (other.kind == Cell::Kind::baseline && other.point == cell.point && other.attempt == cell.attempt &&
          other.baseline_for == cell.key())
        return &other;
    }
  }
  return baseline_of(record, cell.point);
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
  const auto is_cell = [&](std::size_t index) { return index < record.cells.size(); };
  for (const ConfirmationFacts& one : record.confirmations) {
    if (!exists(one) || !is_cell(one.leader) || !std::all_of(one.rivals.begin(), one.rivals.end(), is_cell)) {
      bad_input("record.field", where, "a confirmation names a point or cell that does not exist",
                "give an undamaged record");
    }
  }
  for (const Cell& cell : record.cells) {
    if (cell.point >= record.points.size() || cell.workers < 1) {
      bad_input("record.field", where,
                "the cell of '" + cell.variant + "' names a point or worker count that does not exist",
                "give an undamaged record");
    }
  }
}

}  // namespace antcrew::record_layer
