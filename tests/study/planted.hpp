// A fault planted beside a right variant, and what the study makes of it.
#pragma once

#include <doctest/doctest.h>

#include <cmath>
#include <functional>
#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/study/run.hpp"
#include "antcrew/study/study.hpp"
#include "support/command.hpp"

namespace planted {

using namespace antcrew;
using namespace antcrew::layers;

#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
inline constexpr bool sanitized = true;
#else
inline constexpr bool sanitized = false;
#endif

// About 20 ms of computing per 1000 soundings.
inline double compute(std::size_t n, std::size_t first, std::size_t last) {
  double sum = 0;
  for (std::size_t i = first; i < last; ++i) {
    for (int k = 0; k < 600; ++k) sum += std::sin(static_cast<double>(i % n) + k);
  }
  return sum;
}
inline std::vector<double> baseline(const std::size_t& n) {
  return {compute(n, 0, n)};
}
using Answer = std::vector<double>;

struct Planted {
  std::string out;
  Verdict verdict = Verdict::holds;
  std::string evidence;
};

// A study with the planted body beside a right one; checks that the right one holds whatever the other does.
template <class Body>
Planted plant(Body body, int workers = 1, Plan plan = {}, std::size_t size = 1500) {
  Study study(
      "Planted", [](std::size_t n) { return n; }, baseline, within(1e-6));
  study.sizes({size});
  study.template variant<Workers>("planted", body);
  study.template variant<ThreadCrew>("right", [](const std::size_t& n, auto& crew) {
    return Answer{crew.fold(
        n, 0.0, [&](Range r) { return compute(n, r.first, r.last); }, std::plus<>())};
  });
  plan.workers = {workers};
  if (plan.rounds == 0) plan.rounds = 3;
  plan.crowd = false;
  plan.confirm = false;
  const Record record = run(study, plan);
  const Analysed analysed = analyse(record);
  REQUIRE(analysed.cells.size() == 3);
  CHECK(analysed.cells[0].verdict >= Verdict::too_few_rounds);
  CHECK(analysed.cells[2].verdict >= Verdict::too_few_rounds);  // nothing speaks against it
  CHECK(analysed.cells[2].cell->trials.size() + static_cast<std::size_t>(record.dropped_paused) >=
        static_cast<std::size_t>(plan.rounds));
  CHECK(record.complete);
  const CellFigures& planted = analysed.cells[1];
  if (planted.verdict < Verdict::not_measured) CHECK_FALSE(planted.speedup.has_value());
  if (planted.verdict < Verdict::too_few_rounds) CHECK(test::lines_in(planted.evidence) == 0);
  MESSAGE(std::string(name_of(planted.verdict)), " | ", planted.evidence);
  return {headline(analysed), planted.verdict, planted.evidence};
}

inline Plan few_rounds() {
  Plan plan;
  plan.workers = {1};
  plan.rounds = 2;
  plan.crowd = plan.confirm = false;
  return plan;
}

inline const CellFigures& figures(const Analysed& study, const std::string& name) {
  for (const CellFigures& f : study.cells) {
    if (f.cell->variant == name) return f;
  }
  FAIL("no such variant");
  return study.cells.front();
}

inline void check(const Planted& planted, Verdict verdict, const std::string& said) {
  CAPTURE(planted.evidence);
  CHECK(std::string(name_of(planted.verdict)) == std::string(name_of(verdict)));
  CHECK(test::contains(planted.evidence, said));
}

}  // namespace planted
