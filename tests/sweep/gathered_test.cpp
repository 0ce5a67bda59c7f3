// Answers that are several files, and answers that go through a filter before they are compared.
#include <doctest/doctest.h>

#include <filesystem>

#include "antcrew/base/error.hpp"
#include "antcrew/sweep/one_line.hpp"
#include "sweep/station.hpp"

using namespace test::station;
namespace fs = std::filesystem;

namespace {

const std::string two_files = "[answer]\nfiles = [\"heights\", \"depths\"]\n";
const std::string both = "sleep 0.02; cd $ANTCREW_FOLDER; echo 5 > heights; printf '7\\n8' > depths";

}  // namespace

TEST_CASE("several files are the answer together: each has to be there, and to be right") {
  const Station place;
  CHECK(verdict_of(place, both, two_files, both).verdict != Verdict::wrong_answer);
  const Found wrong =
      verdict_of(place, "cd $ANTCREW_FOLDER; echo 5 > heights; printf '7\\n9' > depths", two_files, both);
  CHECK(wrong.verdict == Verdict::wrong_answer);
  CHECK(test::contains(wrong.evidence, "expected \"8\", got \"9\""));
  const Found missing = verdict_of(place, "cd $ANTCREW_FOLDER; echo 5 > heights", two_files, both);
  CHECK(missing.verdict == Verdict::wrong_answer);
  CHECK(test::contains(missing.evidence, "it left no file depths"));
  // What is in one file is not in another: a name stands between them.
  const Found moved =
      verdict_of(place, "cd $ANTCREW_FOLDER; printf '5\\n7\\n' > heights; printf 8 > depths", two_files, both);
  CHECK(moved.verdict == Verdict::wrong_answer);
  test::write_file(place.folder / "shared", "7\n8");
  const Found linked = verdict_of(
      place, "cd $ANTCREW_FOLDER; echo 5 > heights; ln -s " + (place.folder / "shared") + " depths", two_files, both);
  CHECK(linked.verdict == Verdict::wrong_answer);
  CHECK(test::contains(linked.evidence, "a link to another place"));
  const Found pipe = verdict_of(place, "cd $ANTCREW_FOLDER; echo 5 > heights; mkfifo depths", two_files, both);
  CHECK(pipe.verdict == Verdict::wrong_answer);
  CHECK(test::contains(pipe.evidence, "a pipe"));
}

TEST_CASE("an answer goes through a filter, off the clock: what is packed otherwise is the same") {
  const Station place;
  const std::string filter = "[answer]\nfile = \"packed\"\nfilter = [\"gzip\", \"-dc\"]\n";
  const std::string quick_one = "sleep 0.02; seq 5000 | gzip -n -1 > $ANTCREW_FOLDER/packed";
  const std::string small_one = "sleep 0.02; seq 5000 | gzip -n -9 > $ANTCREW_FOLDER/packed";
  const Found same = verdict_of(place, small_one, filter, quick_one);
  CHECK(same.verdict != Verdict::wrong_answer);
  CHECK(test::contains(same.record.agreement, "the file packed, through gzip -dc: exactly"));
  const Found short_of = verdict_of(place, "seq 4999 | gzip > $ANTCREW_FOLDER/packed", filter, quick_one);
  CHECK(short_of.verdict == Verdict::wrong_answer);
  CHECK(test::contains(short_of.evidence, "4999"));
  const Found broken = verdict_of(place, "echo nothing packed > $ANTCREW_FOLDER/packed", filter, quick_one);
  CHECK(broken.verdict == Verdict::wrong_answer);
  CAPTURE(broken.evidence);
  CHECK(test::contains(broken.evidence, "the answer's filter ("));
  CHECK(test::contains(broken.evidence, "gzip -dc"));
  // It takes no time of the trial: a filter that sleeps for longer than the command.
  place.script("slow", "sleep 0.3; cat");
  const Found slow = verdict_of(place, "sleep 0.02; echo 5", "[answer]\nfilter = [\"./slow\"]\n");
  for (const Cell& one : slow.record.cells) {
    for (const Trial& trial : one.trials) CHECK(trial.wall_s < 0.3);
  }
  CHECK(slow.verdict != Verdict::wrong_answer);
}

TEST_CASE("a filter that needs no input tells what is in the folder; one that waits or is replaced stops nobody") {
  const Station place;
  const std::string listing = "[answer]\nfilter = [\"ls\", \"@(folder)\"]\n";
  const std::string makes = "sleep 0.02; echo 5; cd $ANTCREW_FOLDER; touch a b";
  CHECK(verdict_of(place, makes, listing, makes).verdict != Verdict::wrong_answer);
  CHECK(verdict_of(place, "echo 5; cd $ANTCREW_FOLDER; touch a", listing, makes).verdict == Verdict::wrong_answer);
  const Found pipe =
      verdict_of(place, "mkfifo $ANTCREW_FOLDER/../x; mv -f $ANTCREW_FOLDER/../x $ANTCREW_FOLDER/../output; echo 5",
                 "[answer]\nfilter = [\"cat\"]\n");
  CHECK(pipe.verdict < Verdict::not_measured);
}

TEST_CASE("what cannot be is refused: a filter that is not there, or for answers that nobody compares") {
  const Station place;
  const auto refused = [&](const std::string& answer, const std::string& why) {
    CAPTURE(answer);
    CHECK_THROWS_WITH_AS(place.study("[answer]\n" + answer + shells("echo 5", "echo 5")),
                         doctest::Contains(why.c_str()), Error);
  };
  refused("filter = [\"no-such-program\"]\n", "no-such-program");
  refused("from = \"none\"\nfilter = [\"cat\"]\n", "not compared");
  refused("file = \"a\"\nfiles = [\"b\"]\n", "two places");
  refused("files = [\"a\", \"../b\"]\n", "outside the trial's own folder");
  refused("filter = [\"cat\", \"@(sise)\"]\n", "no value 'sise'");
  OneLine line;
  line.folder = place.folder.path();
  line.command = {"sh", "-c", "echo 5 > $0/a; echo 6 > $0/b; : $1", "@(folder)", "@(workers)"};
  line.answer = {"a", "b"};
  line.filter = "sed 's/6 /6/'";
  CHECK(study_of(line)->parts().answer.in_words() == "the files a, b, through sed 's/6 /6/': exactly");
  line.answer = {"a", "none"};
  CHECK_THROWS_WITH_AS(study_of(line), doctest::Contains("two kinds of answers"), Error);
  line.answer = {"none"};
  CHECK_THROWS_WITH_AS(study_of(line), doctest::Contains("cannot be compared"), Error);
}
