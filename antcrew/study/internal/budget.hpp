// How the seconds of a study are shared out: exploring the points one after the other, and confirming.
//
// All times are seconds since the run began. Pure arithmetic.
#pragma once

#include <cstddef>

#include "antcrew/study/layer.hpp"

namespace antcrew::internal {

class Budget {
 public:
  Budget() = default;
  // total_s = 0: no limit.
  Budget(double total_s, bool confirm) : total_s_(total_s), reserve_s_(confirm ? reserved_share * total_s : 0) {}

  bool limited() const noexcept { return total_s_ > 0; }
  double total_s() const noexcept { return total_s_; }
  bool confirms() const noexcept { return confirms_; }

  // When exploring must have ended.
  double exploring_ends_s() const noexcept { return total_s_ - reserve_s_; }

  // When exploring one point should end: an equal share of what is left, for each point still to come.
  double point_ends_s(double now_s, std::size_t points_to_come) const noexcept;

  // Where the least number of rounds takes longer than that, time is taken from the points to come.
  double at_least(double ends_s, double now_s, double needed_s) const noexcept;

  // Once the cost of a round is known: what confirming needs is kept back; false when that leaves exploring without
  // its least number of rounds, and there will be none.
  bool keep_back(double now_s, double visit_s, double opening_s, double exploring_needs_s) noexcept;
  void give_up_confirming() noexcept;
  // Seconds that passed and are not counted.
  void extend(double seconds) noexcept { total_s_ += limited() ? seconds : 0; }

  // Whether something of this length may still be begun: it may end a little late.
  bool fits(double now_s, double seconds, double ends_s) const noexcept {
    return !limited() || now_s + seconds <= ends_s + slack * total_s_;
  }

  static constexpr double reserved_share = 0.25;
  static constexpr int reserved_rounds = 7;
  static constexpr int reserved_cells = 4;
  static constexpr int reserved_blocks = 6;
  static constexpr double most_reserved_share = 0.4;  // for those

 private:
  static constexpr double slack = 0.02;

  double total_s_ = 0;
  double reserve_s_ = 0;
  bool confirms_ = true;
};

}  // namespace antcrew::internal
