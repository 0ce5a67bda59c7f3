// One visit to a cell: settling calls, the timed trial, and the comparison of its answer.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "antcrew/record/record.hpp"
#include "antcrew/study/session.hpp"

namespace antcrew {

struct Visit {
  std::optional<Trial> trial;
  std::vector<Fault> faults;
  std::optional<double> startup_s;  // when the crew was started for this visit
  std::optional<double> cold_s;     // when this was the first call of a session
  std::optional<CrewFacts> crew;
  bool over = false;  // the cell cannot be tried again
};

// Runs `work` and turns what it throws into a fault of kind `threw`, with the exception's type and text. `during`
// names the stage when it is not the variant's own call ("the input maker").
std::optional<Fault> caught(const std::function<void()>& work, int round, const std::string& during = {});

// Settles, times and compares. What the session throws comes through.
Visit settle_and_time(Session& session, const Anything& input, const Anything& reference, int round);

}  // namespace antcrew
