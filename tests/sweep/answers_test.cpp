// How answers are compared, phases are read, folders are kept.
#include <doctest/doctest.h>

#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>

#include "antcrew/sweep/answers.hpp"
#include "antcrew/sweep/internal/phase_lines.hpp"
#include "antcrew/sweep/internal/trial_folder.hpp"
#include "antcrew/sweep/internal/trial_run.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;
namespace fs = std::filesystem;

namespace {

std::string difference(AnswerRule::How how, const std::string& expected, const std::string& got,
                       double tolerance = 1e-6) {
  AnswerRule rule;
  rule.how = how;
  rule.tolerance = tolerance;
  const Difference found = compare_answers(rule, expected, got);
  return found.agree ? "" : found.in_words();
}

}  // namespace

TEST_CASE("exactly: to the byte, with the line that differs") {
  using How = AnswerRule::How;
  CHECK(difference(How::exactly, "a\nb\n", "a\nb\n") == "");
  CHECK(test::contains(difference(How::exactly, "a\nb\n", "a\nc\n"), "line 2: expected \"b\", got \"c\""));
  CHECK(test::contains(difference(How::exactly, "a\nb\n", "a\n"), "2 lines, got 1"));
  CHECK(difference(How::exactly, "a\n", "a") != "");
  CHECK(difference(How::exactly, "", "") == "");
}

TEST_CASE("numbers in text: within the tolerance, all else word for word") {
  using How = AnswerRule::How;
  CHECK(difference(How::numbers, "sum 3.0000000 m", "sum   3.00000001\tm\r\n") == "");
  CHECK(difference(How::numbers, "depth=1e3,2", "depth=1000,2.0") == "");
  CHECK(test::contains(difference(How::numbers, "sum 3.0 m", "sum 3.1 m"), "expected 3, got 3.1"));
  CHECK(test::contains(difference(How::numbers, "sum 3", "total 3"), "expected \"sum\", got \"total\""));
  CHECK(test::contains(difference(How::numbers, "1 2 3", "1 2"), "line 1: expected \"3\", got its end"));
  CHECK(difference(How::numbers, "nan -inf", "nan -inf") == "");
  CHECK(difference(How::numbers, "nan", "1") != "");
  CHECK(difference(How::numbers, "a1 2b 0x1F", "a1 2b 0x1F") == "");
  CHECK(difference(How::numbers, "a1", "a2") != "");
  CHECK(difference(How::numbers, "-5", "5") != "");
}

TEST_CASE("whole numbers are compared digit by digit, and words are no numbers") {
  using How = AnswerRule::How;
  CHECK(test::contains(difference(How::numbers, "9007199254740992", "9007199254740993", 0.5),
                       "line 1: expected \"9007199254740992\", got \"9007199254740993\""));
  CHECK(difference(How::numbers, "007 -0 +5", "7 0 5") == "");
  CHECK(difference(How::numbers, "-1", "1", 0.9) != "");
  CHECK(difference(How::numbers, "100", "101", 0.1) != "");  // a count that is one off
  CHECK(difference(How::numbers, "100.0", "101.0", 0.1) == "");
  CHECK(difference(How::numbers, "9007199254740993", "9007199254740992.0") != "");
  CHECK(difference(How::numbers, "0e12345", "0e54321") != "");
  CHECK(difference(How::numbers, "0e12345", "0e12345") == "");
  CHECK(difference(How::numbers, "0.0e0 0e+00", "0 0") == "");
  CHECK(difference(How::numbers, "1e999", "2e999") != "");
  CHECK(difference(How::numbers, "1e999", "1e999") == "");
  CHECK(difference(How::numbers, "0x10", "16") != "");
  CHECK(difference(How::numbers, "1e", "1f") != "");
  CHECK(difference(How::numbers, "nano info", "nano info") == "");
  CHECK(difference(How::numbers, "nano", "nanx") != "");
  CHECK(difference(How::numbers, "", "") == "");
  CHECK(difference(How::numbers, "-", "+") != "");
  CHECK(difference(How::numbers, ". - + e 5.", ". - + e 5.0") == "");
}

TEST_CASE("lines count in numbers, unless the layout is free; a tolerance may be absolute") {
  AnswerRule rule;
  rule.how = AnswerRule::How::numbers;
  rule.tolerance = 1e-6;
  CHECK(test::contains(compare_answers(rule, "1 2\n3\n", "1\n2 3\n").in_words(), "layout = \"free\""));
  CHECK(compare_answers(rule, "1 2\n3\n", "1 2\n3").agree);
  rule.free_layout = true;
  CHECK(compare_answers(rule, "1 2\n3\n", "1\n2 3\n").agree);
  rule.tolerance = 2;
  rule.absolute = true;
  CHECK(compare_answers(rule, "1000.0", "1001.5").agree);
  CHECK_FALSE(compare_answers(rule, "1000.0", "1003.0").agree);
}

TEST_CASE("long answers are compared a word at a time") {
  std::string many;
  for (int k = 0; k < 300'000; ++k) many += std::to_string(k) + ".25 ";
  std::string other = many;
  CHECK(difference(AnswerRule::How::numbers, many, other) == "");
  other.replace(other.find(" 299998.25") + 1, 9, "299999.25");
  CHECK(test::contains(difference(AnswerRule::How::numbers, many, other, 1e-9), "1 of 300000 values differ"));
  const std::string word(2'000'000, 'x');
  CHECK(difference(AnswerRule::How::numbers, word, word) == "");
  const std::string dashes(2'000'000, '-');
  CHECK(difference(AnswerRule::How::numbers, dashes, dashes) == "");
}

TEST_CASE("lines in any order, each as often") {
  using How = AnswerRule::How;
  CHECK(difference(How::lines, "b\na\n", "a\nb\n") == "");
  CHECK(difference(How::lines, "a\na\nb\n", "a\nb\nb\n") != "");
  CHECK(test::contains(difference(How::lines, "a\nb\n", "a\nc\n"), "missing \"b\", new \"c\""));
}

TEST_CASE("an answer that any other would equal is objected to") {
  AnswerRule rule;
  CHECK(test::contains(objection_to(rule, ""), "printed nothing"));
  CHECK(objection_to(rule, "5\n") == "");
  rule.how = AnswerRule::How::numbers;
  rule.tolerance = 1;
  CHECK(objection_to(rule, "0.1 0.2\n") != "");
  CHECK(objection_to(rule, "depth\n") == "");
  rule.from = AnswerRule::From::none;
  CHECK(objection_to(rule, "") == "");
}

TEST_CASE("phases and counters from lines of JSON, written by anybody") {
  const test::TemporaryFolder folder;
  test::write_file(folder / "phases", R"({"phase": "read", "s": 0.5}
{"phase": "merge", "begin": 10, "end": 11, "worker": 0}
{"phase": "merge", "begin": 10.5, "end": 12, "worker": 1, "host": "hostb"}

{"phase": "merge", "begin": 20, "end": 20.25, "worker": 0}
{"counter": "nodes", "add": 5}
{"counter": "nodes", "add": 7}
this is no JSON
{"phase": "late", "begin": 3, "end": 2}
{"phase": 5, "s": 1}
)");
  const internal::PhaseLines lines = internal::read_phase_lines(folder / "phases");
  REQUIRE(lines.phases.count("merge") == 1);
  const PhaseFacts& merge = lines.phases.at("merge");
  CHECK(merge.worker_s == doctest::Approx(2.75));
  CHECK(merge.wall_s.value() == doctest::Approx(2.25));
  CHECK(merge.at_once.value() == 2);
  CHECK(merge.count == 3);
  CHECK(merge.by_worker_s.at("0") == doctest::Approx(1.25));
  CHECK(merge.by_worker_s.at("1 on hostb") == doctest::Approx(1.5));
  CHECK(lines.phases.at("read").worker_s == 0.5);
  CHECK_FALSE(lines.phases.at("read").wall_s);
  CHECK(lines.counters.at("nodes") == 12);
  CHECK(lines.not_understood == 3);
  CHECK(test::contains(lines.first_trouble, "not a JSON object"));
  CHECK(internal::read_phase_lines(folder / "none").phases.empty());
}

TEST_CASE("a trial's folder is removed with all in it, links are not followed; kept ones stay") {
  const test::TemporaryFolder outside;
  test::write_file(outside / "precious", "data");
  std::string top;
  std::string kept;
  {
    internal::TrialFolders folders(outside / "kept");
    {
      internal::TrialFolder trial = folders.fresh();
      top = trial.top();
      fs::create_directory_symlink(outside.path(), trial.folder() + "/link");
      fs::create_directory(trial.folder() + "/closed");
      test::write_file(trial.folder() + "/closed/file", "x");
      ::chmod((trial.folder() + "/closed").c_str(), 0);
    }
    CHECK_FALSE(fs::exists(top));
    CHECK(test::read_file(outside / "precious") == "data");
    internal::TrialFolder faulty = folders.fresh();
    test::write_file(faulty.output(), std::string(1 << 20, 'x') + "\nthe end\n");
    test::write_file(faulty.folder() + "/part", "5");
    kept = folders.keep(faulty, "one-round3");
    CHECK(fs::exists(kept + "/folder/part"));
    CHECK(fs::file_size(kept + "/output") < 100'000);
    CHECK(test::contains(test::read_file(kept + "/output"), "the end"));
    internal::TrialFolder again = folders.fresh();
    CHECK(folders.keep(again, "one-round3") == outside / "kept/one-round3-2");
    top = fs::path(folders.fresh().top()).parent_path();
  }
  CHECK(fs::exists(kept));
  CHECK_FALSE(fs::exists(top));
}

TEST_CASE("the time that a program reports is found on a line, also where a line is very long") {
  const test::TemporaryFolder folder;
  internal::TrialFolders folders(folder / "kept");
  const internal::TrialFolder trial = folders.fresh();
  test::write_file(trial.output(), std::string(900'000, 'x') + "\nall of it took 12.5 ms\n");
  CHECK(internal::reported_s({"took (.*) ms", 1e-3}, trial).value() == doctest::Approx(0.0125));
  CHECK(internal::reported_s({"(x+x+)+y", 1}, trial).has_value() == false);
  CHECK_FALSE(internal::reported_s({"needed ([0-9]+)", 1}, trial));
}

TEST_CASE("lines that were printed are made fit to be shown") {
  const test::TemporaryFolder folder;
  test::write_file(folder / "out", "first\n\x1b[31mred\x1b[0m\nlast one\n\n");
  const auto lines = internal::first_lines(folder / "out");
  REQUIRE(lines.size() >= 3);
  CHECK(lines[1].find('\x1b') == std::string::npos);
  CHECK(internal::last_line(folder / "out") == "last one");
  CHECK(internal::last_line(folder / "none") == "");
}

TEST_CASE("what is left behind: until ended, or for long, is a fault at once; a little only when it comes again") {
  const auto fault = [](double cpu_s, bool to_the_end, double reference_cpu_s, bool& before) {
    internal::Ended ended;
    ended.left = 1;
    ended.left_names = "tidy_up";
    ended.left_for_s = cpu_s + 0.01;
    ended.left_cpu_s = cpu_s;
    ended.left_to_the_end = to_the_end;
    return internal::left_behind(ended, reference_cpu_s, 1, before).has_value();
  };
  bool before = false;
  CHECK(fault(0, true, 10, before));
  CHECK(fault(0.6, false, 0.1, before));
  CHECK_FALSE(fault(0.04, false, 0.01, before));  // puts itself away
  CHECK_FALSE(fault(0.6, false, 10, before));     // little beside the work
  CHECK_FALSE(before);
  CHECK_FALSE(fault(0.1, false, 0.01, before));
  CHECK(before);
  CHECK(fault(0.1, false, 0.01, before));
}
