// What a reader sees first when the machine was busy, when rounds were few, and when a figure rests on little.
#include <doctest/doctest.h>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/result.hpp"
#include "antcrew/report/study_view.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::cell_with;
using test::contains;
using test::record_of;

namespace {

// Explored in seven rounds and confirmed in as many blocks of one.
Record confirmed_record(int blocks, double gain = 2) {
  std::vector<double> times;
  for (int k = 0; k < 7 + blocks; ++k) times.push_back(1 + 0.01 * (k % 3));
  std::vector<double> faster;
  for (int k = 0; k < 7 + blocks; ++k) faster.push_back((1 + 0.01 * ((k + 1) % 3)) / gain);
  Record record = record_of({cell_with("baseline", 1, times), cell_with("split", 2, faster)});
  record.plan.matters = 0.01;
  record.plan.confirm = true;
  record.plan.launches = 6;
  record.confirmations = {{0, 1, {}, blocks, blocks}};
  for (Cell& cell : record.cells) {
    for (std::size_t k = 7; k < cell.trials.size(); ++k) {
      cell.trials[k].confirming = 1;
      cell.trials[k].block = static_cast<int>(k) - 6;
      cell.trials[k].round = cell.trials[k].generation = static_cast<int>(k) - 6;
    }
  }
  for (int k = 1; k <= blocks; ++k) {
    BlockFacts block;
    block.confirming = 1;
    block.block = k;
    block.afresh = true;
    block.wall_s = 1;
    record.blocks.push_back(block);
  }
  return record;
}

}  // namespace

TEST_CASE("few rounds stand beside the figure; with enough of them they do not") {
  const Record few = confirmed_record(9);
  CHECK(contains(headline(analyse(few)), "few rounds (9)"));
  const Record many = confirmed_record(26);
  const Analysed study = analyse(many);
  CHECK_FALSE(contains(headline(study), "few rounds"));
  CHECK(contains(headline(study), "Best: "));
  CHECK(contains(StudyView(study).confidence, "26 fresh starts of this build"));
}

TEST_CASE("a claim of one block says so") {
  Record record = confirmed_record(12);
  for (Cell& cell : record.cells) {
    for (Trial& trial : cell.trials) {
      if (trial.confirming == 1) trial.block = 1;
    }
  }
  const std::string text = headline(analyse(record));
  CHECK(contains(text, "Among the best"));
  CHECK(contains(text, "Of this input and process only"));
}

TEST_CASE("where noise limits the answer it comes first, but not in records of before") {
  Record record = confirmed_record(9, 1.3);
  for (BlockFacts& block : record.blocks) block.other_cpu_s = 1.3;
  record.cells[1].trials.back().wall_s *= 1.5;  // a wide interval
  record.plan.width = 0.001;
  CHECK(headline(analyse(record)).rfind("Limited by noise (other programs kept 1.3 processors busy): ", 0) == 0);
  record.plan.matters.reset();
  CHECK_FALSE(contains(headline(analyse(record)), "Limited by noise"));
}

TEST_CASE("times in the result fit the speedups beside them, and the note says so") {
  // The machine got slower while others were measured: medians of different rounds contradict the ratio.
  Record record = record_of({cell_with("baseline", 1, {30, 30, 30, 31, 30, 60, 62, 61, 60}),
                             cell_with("split", 2, {31, 31, 31, 32, 31, 60, 63, 62, 61})});
  record.cells[0].trials.resize(5);
  const Analysed study = analyse(record);
  const std::string text = result_text(StudyView(study), {});
  CHECK(contains(text, "times of variants: the baseline's over the speedup"));
  const Record even = record_of(
      {cell_with("baseline", 1, std::vector<double>(7, 4)), cell_with("split", 2, std::vector<double>(7, 2))});
  const Analysed plain = analyse(even);
  CHECK_FALSE(contains(result_text(StudyView(plain), {}), "times of variants"));
}

TEST_CASE("what is alike within what matters is a result of its own") {
  Record record = confirmed_record(26, 1);
  for (Cell& cell : record.cells) {
    for (std::size_t k = 0; k < cell.trials.size(); ++k) cell.trials[k].wall_s = 1 + 0.0001 * double(k % 3);
  }
  const Analysed study = analyse(record);
  CHECK(study.conclusion.answer == Conclusion::Kind::no_difference);
  CHECK(contains(headline(study), "No difference that matters (within ±1 %)"));
}
