// What a call of a crew of ranks ends with when a rank did not do its part.
#pragma once

#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/base/range.hpp"

namespace antcrew {

// A rank's body threw; the exception itself cannot leave its process, so its type and text come across.
class RankThrew : public Error {
 public:
  RankThrew(int rank, std::string host, Range range, std::string type, std::string text);

  int rank() const noexcept { return rank_; }
  const std::string& host() const noexcept { return host_; }
  Range range() const noexcept { return range_; }             // that it was at; empty = none
  const std::string& type() const noexcept { return type_; }  // "std::out_of_range"
  const std::string& text() const noexcept { return text_; }  // its what(); empty when it had none

 private:
  int rank_;
  std::string host_;
  Range range_;
  std::string type_;
  std::string text_;
};

// Ranks had not ended their part of a call when its deadline came. The crew cannot be used any more: MPI has no way to
// make a rank stop.
class RanksLate : public Error {
 public:
  RanksLate(double deadline_s, std::vector<int> late, const std::string& in_words);
  const std::vector<int>& late() const noexcept { return late_; }

 private:
  std::vector<int> late_;
};

}  // namespace antcrew
