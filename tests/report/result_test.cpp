// The result on one screen: what is on it, and that it stays one.
#include "antcrew/report/result.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <sstream>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/table.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::cell_with;
using test::contains;

namespace {

std::vector<std::string> split_lines(const std::string& text) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

// Two sizes; at the larger one a variant that is never right, one that was not tried, and one that is fine.
Record two_sizes() {
  const std::vector<double> tens(9, 10.0);
  Record record =
      test::record_of({cell_with("baseline", 1, tens), cell_with("split evenly", 1, tens),
                       cell_with("split evenly", 2, std::vector<double>(9, 5.2)),
                       cell_with("never waited", 2, std::vector<double>(9, 1e-6)), cell_with("not tried", 2, {})});
  record.cells[3].faults = {{Fault::Kind::wrong_answer, 1, "3 of 9 values differ"}};
  for (Trial& trial : record.cells[3].trials) trial.agreed = false;
  record.points.push_back({2000, {}});
  const std::size_t cells = record.cells.size();
  for (std::size_t k = 0; k < cells; ++k) {
    record.cells.push_back(record.cells[k]);
    record.cells.back().point = 1;
  }
  return record;
}

std::size_t first_line_with(const std::vector<std::string>& lines, const std::string& part) {
  return static_cast<std::size_t>(
      std::find_if(lines.begin(), lines.end(), [&](const std::string& line) { return contains(line, part); }) -
      lines.begin());
}

}  // namespace

TEST_CASE("the answer comes first, then the largest size, and of the others the best cell") {
  const Record record = two_sizes();
  const std::string text = result_text(analyse(record), {});
  CAPTURE(text);
  const std::vector<std::string> lines = split_lines(text);
  CHECK(lines.front().rfind("Best: \"split evenly\"", 0) == 0);
  CHECK(first_line_with(lines, "size 2,000") < first_line_with(lines, "variant "));
  const std::size_t other = first_line_with(lines, "  size 1,000: best split evenly with 2 workers, ");
  REQUIRE(other < lines.size());
  CHECK(contains(lines[other], "; 2 more"));
  CHECK(std::count_if(lines.begin(), lines.end(),
                      [](const std::string& line) { return line.rfind("  baseline ", 0) == 0; }) == 1);
  CHECK(contains(text, "valid"));
  CHECK_FALSE(contains(text, "holds"));
}

TEST_CASE("what was not measured is counted, and a wrong answer has its evidence") {
  const Record record = two_sizes();
  const std::string text = result_text(analyse(record), {});
  CAPTURE(text);
  CHECK_FALSE(contains(text, "not tried"));
  CHECK(contains(text, "2 cells were not measured."));
  CHECK(contains(text, "wrong answer: \"never waited\", 2 workers: "));
  CHECK(contains(text, "3 of 9 values differ"));
  CHECK(contains(text, "(2 cells)"));
  CHECK(contains(table_text(analyse(record), {}), "not tried"));
}

TEST_CASE("a warning names the variant that it is about, where it is one") {
  const Record record = two_sizes();
  Analysed study = analyse(record);
  const auto warn_of = [&](std::vector<std::size_t> cells) {
    study.remarks.clear();
    for (const std::size_t cell : cells) {
      Finding rare;
      rare.id = "rare-long-calls";
      rare.of = &study.cells[cell];
      rare.figures = {{"speedup_by_means", 1.2}, {"speedup", 2.0}};
      study.remarks.push_back(rare);
    }
    return result_text(study, 120);
  };
  CHECK(contains(warn_of({2}), "Warning: \"split evenly\": occasional outliers: speedup 1.2 by the mean"));
  CHECK(contains(warn_of({1, 2}), "Warning: \"split evenly\": occasional outliers"));
  CHECK(contains(warn_of({1, 2}), "(2 cells)"));
  CHECK(contains(warn_of({2, 3}), "Warning: occasional outliers"));
}

TEST_CASE("a machine that was not idle is told beside the rounds, whatever else there is") {
  const Record record = two_sizes();
  Analysed study = analyse(record);
  CHECK(contains(result_text(study, {}), ", machine idle."));
  Finding noise;
  noise.id = "noise";
  study.remarks.push_back(noise);
  CHECK(contains(result_text(study, {}), ", not idle"));
}

TEST_CASE("what the crew waited for in place of a variant, and answers that are dear to read, are told") {
  Record record = two_sizes();
  for (const std::size_t cell : {2u, 7u}) {
    for (Trial& trial : record.cells[cell].trials) trial.counters[internal::unwaited_work] = 3;
  }
  Analysed study = analyse(record);
  study.cells[2].read_speedup = 1.1;
  const std::string text = result_text(study, {});
  CAPTURE(text);
  CHECK(contains(text, "\"split evenly\": tasks started but never awaited, 3 per call (2 cells)"));
  CHECK(contains(text, "\"split evenly\": reading its answer counts: speedup 1.1 with it"));
}

TEST_CASE("first calls are listed where they lose a tenth of a call or more") {
  const auto notes_with_first_call = [](double cold_s) {
    Record record = two_sizes();
    record.cells[2].cold_s = {cold_s};
    record.cells[2].startup_s = {1e-4};
    return text_of(notes_of(analyse(record)));
  };
  CHECK(contains(notes_with_first_call(6.0), "First calls, medians"));
  CHECK_FALSE(contains(notes_with_first_call(5.3), "First calls, medians"));
  CHECK_FALSE(contains(notes_with_first_call(4.0), "First calls, medians"));
}

TEST_CASE("one screen, whatever there is to say") {
  Record record = two_sizes();
  record.title = std::string(200, 't');
  for (Cell& cell : record.cells) {
    if (cell.kind != Cell::Kind::baseline)
      cell.variant += " with a name that is longer than anybody reads, " + cell.variant;
  }
  record.left_out = {{LeftOut::What::rounds, 1, 131}, {LeftOut::What::confirming, 1, 160}};
  for (std::size_t k = 0; k < 20; ++k) {
    record.points.insert(record.points.begin(), {3000 + k, {}});
    for (Cell& cell : record.cells) ++cell.point;
    record.cells.push_back(record.cells[2]);
    record.cells.back().point = 0;
  }
  for (LeftOut& left : record.left_out) left.point = record.points.size() - 1;
  Analysed study = analyse(record);
  Finding rare;
  rare.id = "rare-long-calls";
  rare.of = &study.cells[1];
  rare.figures = {{"speedup_by_means", 1.2}, {"speedup", 2.0}};
  study.remarks.assign(5, rare);
  for (const char* id : {"sanitizer", "unoptimised", "not-pinned", "two-speeds", "slow-governor"}) {
    Finding other;
    other.id = id;
    study.remarks.push_back(other);
  }
  for (const std::size_t width : {80u, 100u, 140u}) {
    const std::string text = result_text(study, width);
    CAPTURE(text);
    const std::vector<std::string> lines = split_lines(text);
    for (const std::string& line : lines) CHECK(display_width(line) <= width);
    const std::size_t begin = first_line_with(lines, "variant ");
    CHECK(begin <= 5);
    const std::size_t end = first_line_with(lines, "more points") + 1;
    REQUIRE(end <= lines.size());
    CHECK(lines.size() - (end - begin) <= 14);
    CHECK(contains(lines.back(), "more notes (--all)"));
  }
}

TEST_CASE("colours change nothing but the colour") {
  const Record record = two_sizes();
  std::string coloured = result_text(analyse(record), Look(80, true));
  CHECK(contains(coloured, "\033[31mwrong answer\033[0m"));
  for (std::size_t at = 0; (at = coloured.find('\033', at)) != std::string::npos;)
    coloured.erase(at, coloured.find('m', at) - at + 1);
  CHECK(coloured == result_text(analyse(record), 80));
}

TEST_CASE("a line that is too long ends with its last whole clause, or between words") {
  CHECK(one_line("short", 10) == "short");
  CHECK(one_line("the machine was not idle: other programs were busy", 30) == "the machine was not idle …");
  CHECK(one_line("it takes 242 ms at size 1,000 and more", 34) == "it takes 242 ms at size 1,000 …");
  CHECK(one_line("values differ (at [7]) in three of them", 30) == "values differ …");
  CHECK(one_line("one two three four five", 12) == "one two …");
  CHECK(display_width(one_line(std::string(50, 'x'), 20)) == 20);
}

TEST_CASE("a study of which nothing came out says so in a few lines") {
  const Record record = test::record_of({cell_with("baseline", 1, {}), cell_with("a", 2, {})});
  const std::string text = result_text(analyse(record), {});
  CAPTURE(text);
  CHECK(contains(text, "Nothing was timed to its end."));
  CHECK(split_lines(text).size() <= 10);
}

TEST_CASE("a leader that fell behind in fresh rounds is not called the best") {
  Record record = test::record_of({cell_with("baseline", 1, std::vector<double>(11, 10)),
                                   cell_with("split evenly", 2, std::vector<double>(11, 5)),
                                   cell_with("in chunks", 2, std::vector<double>(11, 5.5))});
  record.confirmations = {{0, 1, {}, 9}};
  for (std::size_t round = 0; round < 9; ++round) {
    for (const auto& [cell, wall_s] : {std::pair{0u, 10.0}, {1u, 8.0 + 0.1 * static_cast<double>(round % 3)}}) {
      Trial trial;
      trial.round = trial.generation = static_cast<int>(round + 1);
      trial.confirming = 1;
      trial.wall_s = wall_s;
      record.cells[cell].trials.push_back(trial);
    }
  }
  const Analysed study = analyse(record);
  const std::string text = result_text(study, Look(300));
  CAPTURE(text);
  CHECK(contains(text, "Not confirmed"));
  CHECK(contains(text, "in fresh rounds it reached"));
  CHECK(contains(text, "\"in chunks\""));
  CHECK_FALSE(contains(text, "best"));
}
