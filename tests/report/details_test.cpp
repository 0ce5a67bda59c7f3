// Why a cell has no figures, wherever that is asked for.
#include "antcrew/report/details.hpp"

#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/notes.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::cell_with;
using test::contains;

namespace {

Record measured() {
  return test::record_of({cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}),
                          cell_with("split evenly", 2, {5.2, 5.3, 5.1, 5.2, 5.25, 5.15, 5.2})});
}

}  // namespace

TEST_CASE(
    "why a cell has no figures is told wherever it is asked for: a baseline that is unsteady, a variant that hung") {
  Record unsteady = measured();
  for (Cell& cell : unsteady.cells) cell.trials.clear();
  unsteady.cells[0].faults = {
      {Fault::Kind::wrong_answer, 0, "line 2: expected \"3\", got \"4\". Leave out what changes", {}}};
  const Analysed study = analyse(unsteady);
  CHECK(contains(headline(study), "line 2: expected"));
  CHECK(contains(text_of(notes_of(study)), "line 2: expected"));
  CHECK(
      contains(details_text(study, "baseline"), "    why  line 2: expected \"3\", got \"4\". Leave out what changes"));
  const std::string variant = unsteady.cells[1].variant;
  CHECK(contains(details_text(study, variant), "    why  the baseline gives different answers to the same input"));
  CHECK(withheld_because(study, study.cells[1]) == "the baseline gives different answers to the same input");
  CHECK_FALSE(contains(text_of(notes_of(study)), "no trial was made"));

  Record hung = measured();
  Cell more = hung.cells[1];
  more.workers = 64;
  more.trials.clear();
  hung.cells[1].faults = {{Fault::Kind::timed_out, 1, "no end within 3 s", {}}};
  hung.cells.push_back(more);
  const std::string notes = text_of(notes_of(analyse(hung)));
  CHECK(contains(notes, "timed out: "));
  CHECK(contains(notes, "with 64 workers at size 1,000: not tried: it hung with "));
}
