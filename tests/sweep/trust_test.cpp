// What commands do to their answers, folders, inputs and names, and what a study makes of it.
#include <doctest/doctest.h>

#include <sys/stat.h>

#include <cstdlib>
#include <filesystem>

#include "antcrew/base/error.hpp"
#include "sweep/station.hpp"

using namespace test::station;
namespace fs = std::filesystem;

TEST_CASE("answers are the trial's own files: none outside its folder, no links, no other names") {
  const Station place;
  const std::string in_file = "[answer]\nfile = \"sum\"\n";
  const std::string right = "sleep 0.02; echo 5 > $ANTCREW_FOLDER/sum";
  CHECK(verdict_of(place, right, in_file, right).verdict != Verdict::wrong_answer);
  test::write_file(place.folder / "shared", "5\n");
  const std::string shared = place.folder / "shared";
  for (const std::string& how : {std::string("ln -s "), std::string("ln ")}) {
    const Found found = verdict_of(place, how + shared + " $ANTCREW_FOLDER/sum", in_file, right);
    CHECK(found.verdict == Verdict::wrong_answer);
    CHECK(test::contains(found.evidence, how == "ln " ? "one of several names" : "a link to another place"));
  }
  const Found pipe = verdict_of(place, "mkfifo $ANTCREW_FOLDER/sum", in_file, right);
  CHECK(pipe.verdict == Verdict::wrong_answer);
  CHECK(test::contains(pipe.evidence, "a pipe"));
  // The baseline's answer was copied away: nobody makes it his own afterwards.
  const Found forged = verdict_of(
      place, "for f in $ANTCREW_FOLDER/../../*/folder/sum; do echo 6 > $f; done; echo 6 > $ANTCREW_FOLDER/sum", in_file,
      right);
  CHECK(forged.verdict == Verdict::wrong_answer);
  for (const char* name : {"/tmp/sum", "@(study)/sum", "../sum", "a/../../sum", "x@(folder)/sum"}) {
    CAPTURE(std::string(name));
    CHECK_THROWS_WITH_AS(place.study("[answer]\nfile = \"" + std::string(name) + "\"\n" + shells("echo", "echo")),
                         doctest::Contains("outside the trial's own folder"), Error);
  }
  CHECK_THROWS_WITH_AS(place.study("[answer]\nfile = \"@(sise)\"\n" + shells("echo", "echo")),
                       doctest::Contains("no value 'sise'"), Error);
  CHECK_NOTHROW(place.study("[answer]\nfile = \"@(folder)/sum\"\n" + shells("echo", "echo")));
}

TEST_CASE("nothing that a trial does to its folder, its runner or its files stops the study") {
  const Station place;
  const auto others_go_on = [&](const std::string& variant, const std::string& more = {}) {
    const Record record =
        place.run(shells("sleep 0.02; echo 5", variant, more) + "[[variant]]\nname = \"other\"\nshell = \"echo 5\"\n",
                  quick(3, {2}));
    CHECK(cell(record, "other", 2).trials.size() == 3);
    const Analysed study = analyse(record);
    return figures(study, "it", 2).evidence;
  };
  CHECK(test::contains(others_go_on("rm -rf $ANTCREW_FOLDER; echo 5"), "removed the folder"));
  others_go_on("rm -rf $ANTCREW_FOLDER/..; echo 5");
  CHECK(test::contains(others_go_on("kill -STOP $PPID; echo 5"), "stopped the process that began it"));
  others_go_on("rm -f $ANTCREW_PHASES; mkfifo $ANTCREW_PHASES; echo 5");
  others_go_on("mkfifo $ANTCREW_FOLDER/../x; mv -f $ANTCREW_FOLDER/../x $ANTCREW_FOLDER/../output; echo 5");
  // Over before anybody looked.
  CHECK(test::contains(others_go_on("head -c 3000000 /dev/zero; echo 5", "[limits]\noutput = 1_000_000\n"),
                       "it wrote more than"));
  CHECK(test::contains(
      others_go_on("head -c 3000000 /dev/zero > $ANTCREW_FOLDER/x; echo 5", "[limits]\noutput = 1_000_000\n"),
      "it wrote more than"));
}

TEST_CASE("an input is a file: a pipe is refused, and whoever changes it is named") {
  const Station place;
  ::mkfifo((place.folder / "pipe").c_str(), 0600);
  const Record refused = place.run("input = \"pipe\"\n" + shells("cat", "cat"), quick(2));
  REQUIRE(refused.cells.front().faults.size() == 1);
  CHECK(test::contains(refused.cells.front().faults.front().text, "is no file (a pipe"));
  test::write_file(place.folder / "lines", "5\n");
  const std::string path = place.folder / "lines";
  const Found found = verdict_of(place, "cat; echo 6 >> " + path, "input = \"lines\"\n", "sleep 0.02; cat", 4);
  CHECK(found.verdict == Verdict::changed_input);
  CHECK(test::contains(found.evidence, "lines has another content"));
  CHECK(found.record.cells.front().faults.empty());
}

TEST_CASE("one thread behind a shell is one thread") {
  const Station place;
  place.script("count", "i=0; while [ $i -lt 150000 ]; do i=$((i + 1)); done; echo 5");
  const std::string script = place.folder / "count";
  CHECK(verdict_of(place, script + "; true", {}, script + "; true", 3).verdict == Verdict::idle_workers);
}

TEST_CASE("a relative TMPDIR and a PATH of the study's own") {
  const Station place;
  place.script("tide-tool", "echo 5");
  const std::string path = place.folder.path();
  const Record record = place.run("environment = { PATH = \"" + path +
                                      ":/usr/bin:/bin\" }\n[baseline]\ncommand = [\"tide-tool\"]\n[[variant]]\n"
                                      "name = \"it\"\ncommand = [\"tide-tool\"]\n",
                                  quick(2));
  CHECK(record.cells[1].trials.size() == 2);
  const char* was = std::getenv("TMPDIR");
  const std::string kept = was == nullptr ? "" : was;
  const fs::path here = fs::current_path();
  fs::create_directories(place.folder / "t");
  fs::current_path(place.folder.path());
  ::setenv("TMPDIR", "t", 1);
  const Record relative = place.run(
      "[answer]\nfile = \"sum\"\n" + shells("echo 5 > $ANTCREW_FOLDER/sum", "echo 5 > $ANTCREW_FOLDER/sum"), quick(2));
  fs::current_path(here);
  was == nullptr ? ::unsetenv("TMPDIR") : ::setenv("TMPDIR", kept.c_str(), 1);
  CHECK(relative.cells[1].trials.size() == 2);
  CHECK(relative.cells[1].faults.empty());
}

TEST_CASE("names that would mean two things are refused") {
  const Station place;
  const auto refused = [&](const std::string& more) {
    try {
      place.study(more + shells("echo 5", "echo 5"));
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("not refused");
  };
  CHECK(test::contains(refused("dimensions = { way = [1] }\nvalues = { way = \"x\" }\n"),
                       "a value and a dimension are both called 'way'"));
  CHECK(test::contains(refused("values = { \"a-b\" = \"x\", a_b = \"y\" }\n"), "would be one variable"));
  CHECK(test::contains(refused("dimensions = { \"a-b\" = [1], a_b = [2] }\n"), "would be one variable"));
  CHECK(test::contains(refused("environment = { ANTCREW_WORKERS = \"7\" }\n"), "Ant Crew sets itself"));
  CHECK(test::contains(refused("[answer]\ncompare = \"numbers\"\ntolerance = 1\n"), "add absolute = true"));
  CHECK(test::contains(refused("[answer]\nlayout = \"free\"\n"), "it is about numbers"));
}
