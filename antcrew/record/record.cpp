#include "antcrew/record/record.hpp"

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
  return kind == Fault::Kind::threw ? "threw" : "wrong answer";
}

const char* name_of(Cell::Kind kind) noexcept {
  return kind == Cell::Kind::baseline ? "baseline" : "variant";
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

}  // namespace antcrew
