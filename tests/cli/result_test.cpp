// The result as the command prints it, and names that options had before.
#include <doctest/doctest.h>

#include <algorithm>
#include <sstream>

#include "support/command.hpp"
#include "support/refused.hpp"

using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;
const std::string tides = std::string(ANTCREW_EXAMPLES) + "/tides";

std::size_t widest_of_lines(const std::string& text) {
  std::size_t widest = 0;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) {
    std::size_t columns = 0;
    for (const char c : line) columns += (static_cast<unsigned char>(c) & 0xc0u) != 0x80u ? 1 : 0;
    widest = std::max(widest, columns);
  }
  return widest;
}

}  // namespace

TEST_CASE("the result takes 25 lines of 80 columns, says nothing twice, and --all has the rest") {
  const TemporaryFolder folder;
  const Outcome ran = run_command({tides, "--sizes", "1k,5k,20k", "--budget", "4", "--save", "r.json"}, folder.path());
  CAPTURE(ran.out);
  CHECK_FALSE(contains(ran.err, "no time"));
  CHECK(test::lines_in(ran.out) <= 25);
  CHECK(widest_of_lines(ran.out) <= 80);
  CHECK(contains(ran.out, "\n  size 5,000: "));
  const Outcome shown = run_command({antcrew_path, "show", folder / "r.json"});
  CHECK(ran.out.substr(0, shown.out.size()) == shown.out);
  const Outcome all = run_command({antcrew_path, "show", folder / "r.json", "--all"});
  CHECK(test::lines_in(all.out) > 30);
  CHECK(contains(all.out, "\nsize 5,000\n"));
  CHECK(widest_of_lines(all.out) > 100);
  const Outcome narrow = run_command({"env", "COLUMNS=80", antcrew_path, "show", folder / "r.json", "--all"});
  CHECK(widest_of_lines(narrow.out) <= 80);
  check_refused(run_command({antcrew_path, "show", folder / "r.json", "--all", "--as", "csv"}), 2, "--all");
}

TEST_CASE("names that options and commands had are taken, with a notice") {
  const TemporaryFolder folder;
  const std::vector<std::string> small = {tides, "--sizes", "100", "--rounds", "1", "--workers", "1", "--no-store"};
  const auto with = [&](std::vector<std::string> more) {
    more.insert(more.begin(), small.begin(), small.end());
    return run_command(more, folder.path());
  };
  const std::pair<std::vector<std::string>, const char*> cases[] = {
      {{"--width", "4"}, "--width is now --precision"},
      {{"--width=4"}, "--width is now --precision"},
      {{"--call-limit", "60"}, "--call-limit is now --call-timeout"},
      {{"--meter", "none"}, "--meter is now --instrument"},
      {{"--scrub"}, "--scrub is now --anonymize"},
      {{"--let-print"}, "--let-print is now --pass-output"},
      {{"--no-stands"}, "--no-stands is now --without-cell-processes"},
  };
  for (const auto& one : cases) {
    const char* notice = one.second;
    CAPTURE(notice);
    const Outcome out = with(one.first);
    CHECK(out.exit == 4);  // one round is too few
    CHECK(contains(out.err, notice));
  }
  CHECK(contains(with({"--jostle"}).err, "--jostle is now --find-races"));
  CHECK(contains(with({"--width", "0"}).err, "half-width"));  // still checked
  CHECK_FALSE(contains(with({"--precision", "4"}).err, "is now"));
  const Outcome machine = run_command({antcrew_path, "machine", "--json"});
  CHECK(machine.out.front() == '{');
  CHECK(contains(machine.err, "--json is now --as json"));
  check_refused(run_command({antcrew_path, "machine", "--as", "csv"}), 2, "choose from text, json");
  const Outcome forgotten = run_command({antcrew_path, "forget", "1", "--store", folder / "store"}, folder.path());
  CHECK(forgotten.exit == 2);
  CHECK(contains(forgotten.err, "antcrew forget is now antcrew remove"));
  CHECK_FALSE(contains(run_command({antcrew_path, "--help"}).out, "forget"));
  // What stands behind -- is a command's own.
  const Outcome own =
      run_command({antcrew_path, "sweep", "--rounds", "1", "--no-store", "--", "/bin/echo", "--width", "@(workers)"},
                  folder.path());
  CHECK_FALSE(contains(own.err, "--precision"));
}
