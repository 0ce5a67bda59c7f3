// `antcrew sweep` in one line, and from standard input.
#include <doctest/doctest.h>

#include <string>
#include <vector>

#include "support/command.hpp"
#include "support/refused.hpp"

using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

Outcome swept(std::vector<std::string> words, const std::string& folder) {
  words.insert(words.begin(), {ANTCREW_COMMAND, "sweep"});
  return run_command(words, folder);
}

constexpr const char* at_once = R"toml(format = 1
title = "Waiting for the loggers"
workers = [1, 3]
[baseline]
shell = "echo 5"
[[variant]]
name = "at once"
shell = "echo 5; : $ANTCREW_WORKERS"
)toml";

}  // namespace

TEST_CASE("in one line: answers in a file, a baseline of its own, variants by name, workers by a variable") {
  const TemporaryFolder folder;
  test::write_file(folder / "by-variable.sh", "sleep 0.02\necho $((ANTCREW_WORKERS * 0 + 5))\n");
  const std::vector<std::string> few{"--workers",    "1,2",          "--rounds", "2",
                                     "--no-confirm", "--instrument", "none",     "--quiet"};
  const auto with = [&](std::vector<std::string> words) {
    words.insert(words.begin(), few.begin(), few.end());
    return swept(words, folder.path());
  };
  const Outcome lines = with({"--save", "lines.json", "--title", "Lines", "--answer", "out", "--compare", "lines",
                              "--baseline", "sh -c 'sleep 0.02; printf \"1\\n2\\n\" > $ANTCREW_FOLDER/out'", "--try",
                              "other=sh -c 'printf \"3\\n2\\n\" > $ANTCREW_FOLDER/out; : $ANTCREW_WORKERS'", "--", "sh",
                              "-c", "sleep 0.02; printf '2\\n1\\n' > $0/out; : $1", "@(folder)", "@(workers)"});
  CAPTURE(lines.out);
  CAPTURE(lines.err);
  CHECK(contains(lines.out, "Lines"));
  CHECK(contains(lines.out, "other"));
  CHECK(contains(lines.out, "wrong"));
  const Outcome variable =
      with({"--save", "v.json", "--compare", "numbers", "--tolerance", "1e-9", "--", "sh", "./by-variable.sh"});
  CAPTURE(variable.err);
  CHECK(variable.exit == 4);
  CHECK_FALSE(contains(variable.out, "wrong"));
  const Outcome dry = swept({"--dry-run", "--workers", "2", "--", "echo", "@(workers)"}, folder.path());
  CHECK(contains(dry.out, "echo 2"));
  test::write_file(folder / "waiting.toml", at_once);
  check_refused(swept({"waiting.toml", "--title", "Mine"}, folder.path()), 2, "the study file says that itself");
  const Outcome piped =
      run_command({"sh", "-c", "\"$0\" sweep - --dry-run < waiting.toml", ANTCREW_COMMAND}, folder.path());
  CHECK(piped.exit == 0);
  CHECK(contains(piped.out, "at once"));
}
