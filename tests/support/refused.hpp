// That a command says no in one line, with its exit code, and prints nothing else.
#pragma once

#include <doctest/doctest.h>

#include "support/command.hpp"

namespace test {

inline void check_refused(const Outcome& outcome, int exit, const std::string& said) {
  CAPTURE(outcome.err);
  CHECK(outcome.exit == exit);
  CHECK(outcome.out.empty());
  CHECK(lines_in(outcome.err) == 1);
  CHECK(contains(outcome.err, said));
}

}  // namespace test
