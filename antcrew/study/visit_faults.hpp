// What went wrong in a visit, in words.
#pragma once

#include "antcrew/machine/leftover_work.hpp"
#include "antcrew/study/layer.hpp"
#include "antcrew/study/visit.hpp"

namespace antcrew::internal {

// Whether a call returned before its work was done. A first call may start a pool that goes on looking for work for a
// while; later ones have no such excuse.
bool did_not_wait(double inside_cpu_s, const Leftover& left, const Reference& reference, bool first_call);

// A difference in one line, with advice where it looks like rounding.
std::string in_words(const Difference& difference);

Fault left_work(int round, double wall_s, const Leftover& left);

// In place of a metered call that did not come to its end.
LaneSums not_metered(const Fault& fault);

}  // namespace antcrew::internal
