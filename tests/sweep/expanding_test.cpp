// What becomes of @(…), words and environment.
#include <doctest/doctest.h>

#include "antcrew/base/error.hpp"
#include "antcrew/study/plan.hpp"
#include "antcrew/sweep/one_line.hpp"
#include "antcrew/sweep/study_file.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

std::unique_ptr<CommandStudy> study(const std::string& text) {
  return study_from_text("format = 1\ntitle = \"Tides\"\n" + text, "tides.toml", "/tmp");
}

const std::string usual = R"toml(
sizes = [100, 200]
dimensions = { method = ["plain", "fast"], distinct = [7] }
values = { threads = "--threads=@(workers)", both = ["-n", "@(size)"], none = [] }
environment = { DEPTH = "@(size) m, @(method), user@@host" }
[baseline]
command = ["echo", "@(size)"]
[[variant]]
name = "one"
command = ["echo", "@(threads)", "@(both)", "@(none)", "x@(both)x", "a@@b", "me@here", "@(distinct)/@(workers)", "@@(size)", "@"]
[[variant]]
name = "other"
values = { threads = [] }
workers = [3, 5]
command = ["echo", "@(threads)", "end"]
)toml";

Place place(int workers) {
  Place at;
  at.workers = workers;
  at.at.size = 200;
  at.at.dimensions = {{"method", "fast"}, {"distinct", 7}};
  at.folder = "/tmp/own";
  return at;
}

}  // namespace

TEST_CASE("values stand in words, a value of several words becomes several, one of none vanishes") {
  const auto tides = study(usual);
  const Words words = words_of(*tides, tides->runnable(0), tides->runnable(0).command, place(4));
  CHECK(words == Words{"echo", "--threads=4", "-n", "200", "x-n 200x", "a@b", "me@here", "7/4", "@(size)", "@"});
  CHECK(words_of(*tides, tides->runnable(1), tides->runnable(1).command, place(4)) == Words{"echo", "end"});
  CHECK(tides->variants()[1].workers == std::vector<int>{3, 5});
  const auto environment = environment_of(*tides, tides->runnable(0), place(4));
  CHECK(environment.at("DEPTH") == "200 m, fast, user@host");
  CHECK(environment.at("ANTCREW_WORKERS") == "4");
  CHECK(environment.at("ANTCREW_SIZE") == "200");
  CHECK(environment.at("ANTCREW_DIMENSION_METHOD") == "fast");
  CHECK(environment.at("ANTCREW_FOLDER") == "/tmp/own");
  CHECK(environment.at("ANTCREW_VALUE_THREADS") == "--threads=4");
}

TEST_CASE("worker counts of a variant's own, limited by those of the plan") {
  const auto tides = study("workers = [1, 2]\n" + usual);
  const auto counts = [&](const Plan& plan) {
    const Grid grid = decide(*tides, plan, 2);
    return std::pair{grid.workers_of(tides->variants()[0], grid.points.front()),
                     grid.workers_of(tides->variants()[1], grid.points.front())};
  };
  CHECK(counts({}) == std::pair{std::vector<int>{1, 2}, std::vector<int>{3, 5}});
  CHECK(counts(Plan{.workers = {5, 6}}) == std::pair{std::vector<int>{5, 6}, std::vector<int>{5}});
  CHECK(decide(*tides, {}, 2).points.size() == 4);
  CHECK_THROWS_WITH_AS(decide(*tides, Plan{.dimensions = {{"method", {3}}}}, 2), doctest::Contains("has words"), Error);
}

TEST_CASE("a launcher stands in front; shell text is left as it is") {
  const auto tides = study(R"toml(
[baseline]
shell = "echo $ANTCREW_WORKERS"
[[variant]]
name = "ranks"
launcher = ["env", "N=@(workers)"]
command = ["echo", "@(workers)"]
)toml");
  const Place at{3, {}, "/tmp/own"};
  CHECK(words_of(*tides, tides->runnable(0), tides->runnable(0).command, at) == Words{"env", "N=3", "echo", "3"});
  CHECK(words_of(*tides, tides->parts().baseline, tides->parts().baseline.command, at) ==
        Words{"/bin/sh", "-c", "echo $ANTCREW_WORKERS"});
  CHECK_FALSE(tides->has_sizes());
  CHECK(environment_of(*tides, tides->runnable(0), at).count("ANTCREW_SIZE") == 0);
}

TEST_CASE("words are shown as a reader of a shell would write them") {
  CHECK(in_words({"sort", "-n", "two words", "it's", "", "a;b"}) == "sort -n 'two words' 'it'\\''s' '' 'a;b'");
  CHECK(in_words({"x", "\x1b[31m"}).find('\x1b') == std::string::npos);
}

TEST_CASE("a study of one command: its baseline is the same with one worker") {
  const auto one = study_of({"echo", "-j@(workers)", "@(size)"}, "/tmp", {10}, {});
  const Place at{4, Point{10}, "/tmp/own"};
  CHECK(words_of(*one, one->parts().baseline, one->parts().baseline.command, at) == Words{"echo", "-j1", "10"});
  CHECK(words_of(*one, one->runnable(0), one->runnable(0).command, at) == Words{"echo", "-j4", "10"});
  CHECK_THROWS_WITH_AS(study_of({"echo", "4"}, "/tmp", {}, {}), doctest::Contains("no @(workers) in it"), Error);
  CHECK_THROWS_WITH_AS(study_of({"echo", "@(workers)", "@(size)"}, "/tmp", {}, {}), doctest::Contains("'size'"), Error);
  CHECK_THROWS_WITH_AS(study_of({"sh", "-c", "echo @(workers)"}, "/tmp", {}, {}), doctest::Contains("$ANTCREW_WORKERS"),
                       Error);
}

TEST_CASE("words in one text: quotes and backslashes keep together, nothing else means anything") {
  CHECK(split_words("sort -o  'two words' \"it's\" a\\ b", "here") == Words{"sort", "-o", "two words", "it's", "a b"});
  CHECK(split_words("echo $HOME *.txt '' | x", "here") == Words{"echo", "$HOME", "*.txt", "", "|", "x"});
  CHECK(split_words("a'b'\"c\"\\'", "here") == Words{"abc'"});
  CHECK(split_words("\"say \\\"so\\\"\"", "here") == Words{"say \"so\""});
  CHECK(split_words("  ", "here").empty());
  CHECK_THROWS_WITH_AS(split_words("echo 'open", "--try"), doctest::Contains("not closed"), Error);
}

TEST_CASE("a study in one line: another baseline, further variants, a launcher, how answers are compared") {
  OneLine line;
  line.command = {"echo", "@(workers)"};
  line.folder = "/tmp";
  line.title = "Echoes";
  line.baseline = "printf '%s\\n' 1";
  line.tries = {"twice=echo '@(workers)' again", "by variable=sh -c 'echo $ANTCREW_WORKERS'"};
  line.launcher = "env A=1";
  line.answer = {"none"};
  const auto study = study_of(line);
  const Place at{3, {}, "/tmp/own"};
  CHECK(study->title() == "Echoes");
  CHECK(words_of(*study, study->parts().baseline, study->parts().baseline.command, at) ==
        Words{"printf", "%s\\n", "1"});
  REQUIRE(study->variants().size() == 3);
  CHECK(study->variants()[1].name == "twice");
  CHECK(words_of(*study, study->runnable(1), study->runnable(1).command, at) ==
        Words{"env", "A=1", "echo", "3", "again"});
  CHECK(study->parts().answer.from == AnswerRule::From::none);

  const auto refused = [&](auto&& change, const char* what) {
    OneLine other = line;
    other.answer.clear();
    change(other);
    CHECK_THROWS_WITH_AS(study_of(other), doctest::Contains(what), Error);
  };
  refused([](OneLine& l) { l.tries = {"echo 3"}; }, "NAME=");
  refused(
      [](OneLine& l) {
        l.tries = {"twice=echo @(workers)", "twice=echo @(workers)"};
      },
      "two variants of this name");
  refused([](OneLine& l) { l.tries = {"none="}; }, "no command");
  refused([](OneLine& l) { l.tries = {"all=echo 3"}; }, "'--parallel=@(workers)'");
  refused([](OneLine& l) { l.tries = {"all=echo @(wrokers) @(workers)"}; }, "wrokers");
  refused([](OneLine& l) { l.launcher = "no-such-launcher"; }, "no-such-launcher");
  refused([](OneLine& l) { l.compare = "roughly"; }, "exactly, lines, numbers");
  refused([](OneLine& l) { l.compare = "numbers"; }, "--tolerance 1e-9");
  refused([](OneLine& l) { l.tolerance = 2; }, "below 1");
  refused([](OneLine& l) { l.tolerance = 1e-9, l.compare = "lines"; }, "for numbers");
  refused([](OneLine& l) { l.answer = {"none"}, l.compare = "lines"; }, "cannot be compared");
  refused([](OneLine& l) { l.answer = {"/tmp/out"}; }, "outside the trial's own folder");
  refused([](OneLine& l) { l.answer = {"out"}; }, "@(folder)/out");
  refused([](OneLine& l) { l.command.clear(), l.tries.clear(); }, "nothing to try");
  line.answer = {"out"};
  line.command = {"cp", "@(folder)/@(workers)", "@(folder)/out"};
  line.baseline.clear();
  line.tries.clear();
  line.tolerance = 1e-6;
  CHECK(study_of(line)->parts().answer.in_words().find("the file out: numbers") == 0);
}
