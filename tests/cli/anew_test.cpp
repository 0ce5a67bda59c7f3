// The program is started anew for the blocks that confirm its best: what it is then, and what becomes of one that
// cannot.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/wait.h>

#include <cstdlib>
#include <set>
#include <sstream>

#include "antcrew/record/record.hpp"
#include "antcrew/record/record_file.hpp"
#include "cli/background.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

struct Ran {
  Outcome outcome;
  Record record;
};

Ran ran(const TemporaryFolder& folder, const std::string& oddity, const std::vector<std::string>& more = {}) {
  const std::string file = folder / (oddity + "-record.json");
  std::vector<std::string> words{"env",
                                 "ANEW=" + oddity,
                                 "ANEW_PLACES=" + (folder / "places"),
                                 ANTCREW_ANEW,
                                 "--rounds",
                                 "9",
                                 "--workers",
                                 "2",
                                 "--no-crowd",
                                 "--save",
                                 file,
                                 "--instrument",
                                 "none"};
  words.insert(words.end(), more.begin(), more.end());
  Ran all{run_command(words), {}};
  all.record = load_record(file);
  return all;
}

std::vector<BlockFacts> confirming(const Record& record) {
  std::vector<BlockFacts> blocks;
  for (const BlockFacts& block : record.blocks) {
    if (block.confirming > 0) blocks.push_back(block);
  }
  return blocks;
}

}  // namespace

TEST_CASE("each confirming block is another start of the program, with inputs in turn; nothing is left behind") {
  const TemporaryFolder folder;
  const Ran found = ran(folder, "prints");
  CHECK(found.record.complete);
  const auto blocks = confirming(found.record);
  REQUIRE(blocks.size() >= 6);
  for (const BlockFacts& block : blocks) CHECK(block.afresh);
  std::set<std::uint64_t> seeds;
  for (const BlockFacts& block : blocks) seeds.insert(block.input_seed);
  CHECK(seeds.size() == 2);
  std::istringstream places(test::read_file(folder / "places"));
  std::set<std::string> codes;
  std::string code, seed;
  while (places >> code >> seed) codes.insert(code);
  CHECK(codes.size() >= 6);  // where the system draws it at random
  CHECK(found.record.cells[1].faults.empty());
  // What it prints before its study is measured is neither in the result nor lost in it.
  std::size_t printed = 0;
  for (std::size_t at = 0; (at = found.outcome.out.find("not for the result", at)) != std::string::npos; ++at)
    ++printed;
  CHECK(printed == 1);
  CHECK(test::gone_within(folder / "prints-record.json", std::chrono::seconds(3)));
}

TEST_CASE("a program that cannot be started anew is told why, and measured all the same") {
  const TemporaryFolder folder;
  std::vector<std::pair<std::string, std::string>> oddities{{"leaves", "ended before study_main()"},
                                                            {"other title", "no study of this title"},
                                                            {"processes", "begins processes before its study"},
                                                            {"no reference", "nobody serves the gauge here"},
                                                            {"no rounds", "nobody serves the gauge here"}};
#if !defined(ANTCREW_SANITIZED)
  oddities.emplace_back("threads", "begins threads before its study is measured");
#endif
  for (const auto& one : oddities) {
    const std::string oddity = one.first;
    const std::string why = one.second;
    CAPTURE(oddity);
    const Ran found = ran(folder, oddity);
    CHECK(found.record.complete);
    const auto blocks = confirming(found.record);
    REQUIRE(blocks.size() >= 6);
    for (const BlockFacts& block : blocks) {
      CHECK_FALSE(block.afresh);
      CHECK(contains(block.not_afresh, why));
    }
    for (const Cell& cell : found.record.cells) CHECK(cell.faults.empty());
    CHECK(found.record.confirmations.size() == 1);
  }
  const Ran not_asked = ran(folder, "", {"--launches", "0"});
  for (const BlockFacts& block : confirming(not_asked.record)) {
    CHECK_FALSE(block.afresh);
    CHECK(block.not_afresh.empty());
  }
  const Outcome run = run_command({"env", "ANEW=run", ANTCREW_ANEW});
  CHECK(run.exit == 0);
  CHECK(contains(run.out, "0 the program does not call study_main()"));
}

TEST_CASE("the run that is killed takes a block that was started anew along") {
  const TemporaryFolder folder;
  const std::string file = folder / "killed.json";
  const pid_t run = test::start({ANTCREW_ANEW, "--rounds", "60", "--workers", "2", "--no-crowd", "--save", file,
                                 "--instrument", "none", "--quiet", "--budget", "0"},
                                folder / "out");
  bool confirming_now = false;
  for (int looks = 0; looks < 3000 && !confirming_now; ++looks) {
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    confirming_now = contains(test::read_file(file + ".rounds"), "\"confirmation\"");
  }
  CHECK(confirming_now);
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  kill(run, SIGKILL);
  waitpid(run, nullptr, 0);
  CHECK(test::gone_within(file, std::chrono::seconds(5)));
}

TEST_CASE("where layouts are not drawn at random, a new start would have the same, and that is said") {
  const TemporaryFolder folder;
  const std::string file = folder / "same.json";
  const Outcome found = run_command({"setarch", "-R", ANTCREW_ANEW, "--rounds", "6", "--workers", "2", "--no-crowd",
                                     "--save", file, "--instrument", "none"});
  if (contains(found.err, "setarch")) return;  // it is not allowed here
  for (const BlockFacts& block : confirming(load_record(file))) {
    CHECK_FALSE(block.afresh);
    CHECK(contains(block.not_afresh, "does not draw the layout"));
  }
}
