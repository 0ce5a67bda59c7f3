#include "antcrew/study/internal/source_lines.hpp"

#include <doctest/doctest.h>

#include "antcrew/antcrew.hpp"
#include "antcrew/record/record.hpp"
#include "support/command.hpp"

using namespace antcrew;
using internal::lines_of;
using test::contains;

TEST_CASE("lines of code are counted, of a marked part or of all, and comments are not") {
  const test::TemporaryFolder folder;
  const std::string file = folder / "work.cpp";
  test::write_file(
      file,
      "// About it.\nint before;\n\n// [part one]\nint a;  // with a comment\n\n  // only a comment\n"
      "/* a comment\n   over lines\n*/ int b;\n/* one */\n/* two */ int c;\n// [end of part one] [part two]\nint d;\n");
  const auto all = lines_of("baseline", file, "");
  CHECK(all.lines == 5);
  CHECK(all.file == "work.cpp");  // no folders: it may be shared
  CHECK(lines_of("v (ThreadCrew)", file, "part one").lines == 3);
  const auto open = lines_of("v (ThreadCrew)", file, "part two");
  CHECK(open.lines == 0);
  CHECK(open.trouble == "no line with [end of part two]");
  CHECK(lines_of("v (ThreadCrew)", file, "three").trouble == "no line with [three]");
  CHECK(contains(lines_of("v (ThreadCrew)", folder / "none.cpp", "").trouble, "cannot be read"));
}

TEST_CASE("a study's sources stand in its record, whatever becomes of its variants") {
  Study study(
      "Sourced", [](std::size_t n) { return n; }, [](const std::size_t& n) { return n; }, exactly());
  study.sizes({10});
  const std::string part = "no such part";
  study.baseline_source(__FILE__, part + "!");
  study.variant<Workers>("same", [](const std::size_t& n, Workers) { return n; }).source("/no/such/file.cpp");
  Plan plan;
  plan.workers = {1};
  plan.rounds = 1;
  plan.confirm = plan.crowd = false;
  const layers::Record record = run(study, plan);
  REQUIRE(record.sources.size() == 2);
  CHECK(record.sources[0].of == "baseline");
  CHECK(record.sources[0].trouble == "no line with [" + part + "!]");
  CHECK(record.sources[1].of == "same (Workers)");
  CHECK(record.sources[1].file == "file.cpp");
}
