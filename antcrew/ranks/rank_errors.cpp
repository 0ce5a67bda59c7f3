#include "antcrew/ranks/rank_errors.hpp"

#include <utility>

#include "antcrew/base/units.hpp"

namespace antcrew {
namespace {

std::string at_range(Range range) {
  if (range.empty()) return "";
  return ", at " + std::to_string(range.first) + " … " + std::to_string(range.last - 1);
}

}  // namespace

RankThrew::RankThrew(int rank, std::string host, Range range, std::string type, std::string text)
    : Error(Kind::could_not_run, "ranks.threw",
            "it threw " + type + (text.empty() ? "" : ": " + text) + at_range(range),
            "RankCrew, rank " + std::to_string(rank) + " on " + host, ""),
      rank_(rank),
      host_(std::move(host)),
      range_(range),
      type_(std::move(type)),
      text_(std::move(text)) {}

RanksLate::RanksLate(double deadline_s, std::vector<int> late, const std::string& in_words)
    : Error(Kind::could_not_run, "ranks.late",
            "after " + base_layer::duration_text(deadline_s) + " there was no answer from " + in_words, "RankCrew",
            "end the program (MPI_Abort): its ranks cannot be stopped singly"),
      late_(std::move(late)) {}

}  // namespace antcrew
