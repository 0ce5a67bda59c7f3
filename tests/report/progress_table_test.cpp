#include "antcrew/report/progress_table.hpp"

#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/code_size.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

TEST_CASE("the table of a run under way: what has been timed stands in it, wrong answers at once, and it fits") {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, {1.0, 1.0})};
  for (int v = 0; v < 12; ++v) {
    for (const int workers : {1, 2, 4})
      cells.push_back(test::cell_with("variant " + std::to_string(v), workers,
                                      v == 11 ? std::vector<double>{} : std::vector<double>{1.0 / workers}));
  }
  cells[2].faults.push_back({Fault::Kind::wrong_answer, 1, "7 instead of 8"});
  Record record = test::record_of(std::move(cells));
  const Analysed study = analyse(record);
  const std::string all = progress_table(study, 0, Look(100), 60);
  CHECK(test::lines_in(all) == 38);
  CHECK(contains(all, "wrong answer"));
  CHECK(contains(all, "2.0, seen once"));
  const std::string some = progress_table(study, 0, Look(100), 20);
  CHECK(test::lines_in(some) <= 20);
  CHECK(contains(some, "baseline"));
  CHECK(contains(some, "variant 11"));  // each variant with its most workers
  CHECK(contains(some, "more cells at size 1,000"));
  CHECK(progress_table(study, 1, Look(100), 20).empty());
  for (Cell& cell : record.cells) cell.trials.clear();
  CHECK(progress_table(analyse(record), 0, Look(100), 20).empty());
}

TEST_CASE("lines of source stand beside the gain of the fastest cell; what could not be counted says why") {
  Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
                                   test::cell_with("split", 2, std::vector<double>(9, 0.5)),
                                   test::cell_with("split", 4, std::vector<double>(9, 0.25))});
  record.sources = {{"baseline", "a.cpp", "", 10, ""},
                    {"split (ThreadCrew)", "a.cpp", "split", 14, ""},
                    {"other (Workers)", "b.cpp", "other", 0, "the file cannot be read (No such file or directory)"}};
  const std::string text = text_of({code_size_section(analyse(record))});
  CHECK(contains(text, "+4"));
  CHECK(contains(text, "4.0 (4.0 to 4.0) with 4 workers"));
  CHECK(contains(text, "the file cannot be read"));
  record.sources.clear();
  CHECK(code_size_section(analyse(record)).text.empty());
}
