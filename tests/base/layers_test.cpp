// The check of the layers notices what it is there for.
#include <doctest/doctest.h>

#include "support/command.hpp"

using test::run_command;
using test::TemporaryFolder;
using test::write_file;

namespace {

test::Outcome check(const std::string& file, const std::string& text) {
  const TemporaryFolder tree;
  write_file(tree / "antcrew/base/error.hpp", "#pragma once\n");
  write_file(tree / ("antcrew/" + file), text);
  return run_command({ANTCREW_SOURCE "/scripts/check-layers.sh", tree.path()});
}

}  // namespace

TEST_CASE("an include that goes the wrong way, or printing in the core, fails") {
  CHECK(check("crew/a.hpp", "#include \"antcrew/base/error.hpp\"\n").exit == 0);
  const test::Outcome upwards = check("base/a.hpp", "#include \"antcrew/crew/thread_crew.hpp\"\n");
  CHECK(upwards.exit == 1);
  CHECK(test::contains(upwards.out, "base/a.hpp:1: base may not include crew, a later layer"));
  CHECK(check("analysis/a.cpp", "#include <iostream>\n").exit == 1);
  CHECK(check("mystery/a.cpp", "#include \"antcrew/base/error.hpp\"\n").exit == 1);
  CHECK(check("report/a.cpp", "#include <cstdio>\n").exit == 0);
  const test::Outcome inside = check("share/a.hpp", "#include \"antcrew/crew/internal/loops.hpp\"\n");
  CHECK(inside.exit == 1);
  CHECK(test::contains(inside.out, "share/a.hpp:1: share may not include what is internal to crew"));
  CHECK(check("crew/a.hpp", "#include \"antcrew/crew/internal/loops.hpp\"\n").exit == 0);
  const test::Outcome names = check("machine/a.cpp", "namespace antcrew { using namespace report_layer; }\n");
  CHECK(names.exit == 1);
  CHECK(test::contains(names.out, "machine may not name the namespace of report, a later layer"));
  CHECK(check("cli/a.cpp", "namespace antcrew { using namespace report_layer; }\n").exit == 0);
}
