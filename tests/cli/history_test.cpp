// The history as its users meet it: runs that are stored by themselves, and the commands that look after them.
#include <doctest/doctest.h>

#include <filesystem>

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

// A short study, kept in the history at `store`; more options behind.
Outcome measure(const TemporaryFolder& folder, const std::string& name, const std::vector<std::string>& more) {
  std::vector<std::string> words{
      tides,          "--sizes", "1k",           "--workers", "2",         "--rounds",     "3",      "--budget",   "0",
      "--instrument", "none",    "--no-confirm", "--quiet",   "--variant", "split evenly", "--save", folder / name};
  words.insert(words.end(), more.begin(), more.end());
  return run_command(words);
}

Outcome antcrew_in(const TemporaryFolder& folder, std::vector<std::string> words) {
  words.insert(words.begin(), antcrew_path);
  words.insert(words.end(), {"--store", folder / "store"});
  return run_command(words);
}

}  // namespace

TEST_CASE("a run is stored by itself, and every command takes its number, last, or a label") {
  const TemporaryFolder folder;
  const Outcome first = measure(folder, "first.json", {"--store", folder / "store"});
  CAPTURE(first.err);
  CHECK(contains(first.out, "first.json\nStored as 1; more: antcrew show 1 --all"));
  CHECK(contains(measure(folder, "second.json", {"--store", folder / "store"}).out, "Stored as 2"));
  CHECK_FALSE(contains(measure(folder, "third.json", {"--no-store"}).out, "Stored"));

  const Outcome marked = antcrew_in(folder, {"mark", "1", "--label", "before", "--note", "as it was"});
  CHECK(marked.exit == 0);
  const Outcome list = antcrew_in(folder, {"list"});
  CAPTURE(list.out);
  CHECK(list.out.rfind("2 runs stored in " + (folder / "store"), 0) == 0);
  CHECK(list.out.find(" 2  ") < list.out.find(" 1  "));
  CHECK(contains(list.out, "Tide heights at every sounding  [before]"));
  CHECK(contains(list.out, "note: as it was"));
  CHECK(contains(antcrew_in(folder, {"list", "--label", "before"}).out, "1 of 2 runs found"));
  CHECK(antcrew_in(folder, {"list", "--title", "no such"}).exit == 1);
  const Outcome json = antcrew_in(folder, {"list", "--as", "json"});
  CHECK(contains(json.out, "\"labels\": [\n        \"before\"\n      ]"));

  for (const char* word : {"1", "last", "last-1", "before"}) {
    CAPTURE(word);
    CHECK(contains(antcrew_in(folder, {"show", word}).out, "Tide heights at every sounding"));
  }
  CHECK(contains(antcrew_in(folder, {"show", "1", "last", "--as", "csv"}).out, "\n"));
  CHECK(antcrew_in(folder, {"explain", "last"}).exit != 2);
  CHECK(antcrew_in(folder, {"compare", "before", "last"}).exit != 2);
  check_refused(antcrew_in(folder, {"compare", "1,2", "last"}), 2, "this run is named twice");
  CHECK(antcrew_in(folder, {"guard", "last", "--not-worse-than", "before"}).exit != 2);
  check_refused(antcrew_in(folder, {"show", "befor"}), 2, "did you mean 'before'?");
  check_refused(antcrew_in(folder, {"show", "7"}), 2, "no stored run has this number");
  check_refused(antcrew_in(folder, {"compare", "1,,2", "last"}), 2, "between commas");

  // Going on with a stored run changes what is stored of it.
  const Outcome on = run_command({tides, "--sizes", "1k", "--workers", "2", "--rounds", "5", "--budget", "0",
                                  "--instrument", "none", "--no-confirm", "--quiet", "--variant", "split evenly",
                                  "--resume", folder / "second.json", "--store", folder / "store"});
  CAPTURE(on.err);
  CHECK(contains(on.out, "Stored as 2"));
  CHECK(contains(antcrew_in(folder, {"list"}).out, "2 runs stored"));
}

TEST_CASE("a run loses nothing where its record cannot be stored, and says so") {
  const TemporaryFolder folder;
  test::write_file(folder / "taken", "no folder");
  const Outcome out = measure(folder, "r.json", {"--store", folder / "taken"});
  CAPTURE(out.err);
  CHECK(contains(out.out, "Record: " + (folder / "r.json\n")));
  CHECK(contains(out.err, "not stored: "));
  CHECK(out.exit != 2);
  CHECK(out.exit != 3);
  CHECK(antcrew_in(folder, {"import", folder / "r.json"}).exit == 0);
}

TEST_CASE("importing again changes nothing, a folder stands for its records, and what is none is told") {
  const TemporaryFolder folder;
  std::filesystem::create_directory(folder / "records");
  measure(folder, "records/a.json", {});
  measure(folder, "records/b.json", {});
  const Outcome first = antcrew_in(folder, {"import", folder / "records"});
  CHECK(first.exit == 0);
  CHECK(contains(first.out, "stored as 1: "));
  CHECK(contains(first.out, "stored as 2: "));
  CHECK(contains(antcrew_in(folder, {"import", folder / "records/b.json"}).out, "stored as 2 already: "));
  test::write_file(folder / "records/c.json", "{}");
  const Outcome mixed = antcrew_in(folder, {"import", folder / "records"});
  CHECK(mixed.exit == 2);
  CHECK(test::lines_in(mixed.err) == 1);
  CHECK(test::lines_in(mixed.out) == 2);
}

TEST_CASE("forgetting takes what it was asked to take, and keeps what somebody marked") {
  const TemporaryFolder folder;
  for (const char* name : {"a.json", "b.json", "c.json", "d.json"}) {
    measure(folder, name, {"--no-store"});
    antcrew_in(folder, {"import", folder / name});
  }
  antcrew_in(folder, {"mark", "1", "--label", "keep-me"});
  // Of several all or none: run 1 has this label and run 2 has not.
  antcrew_in(folder, {"mark", "1", "--label", "both"});
  antcrew_in(folder, {"mark", "2", "--label", "both"});
  check_refused(antcrew_in(folder, {"mark", "both", "--no-label", "keep-me"}), 2, "run 2 has no such label");
  CHECK(contains(antcrew_in(folder, {"mark", "1"}).out, "labels keep-me, both"));
  antcrew_in(folder, {"mark", "both", "--no-label", "both"});
  CHECK(contains(antcrew_in(folder, {"remove", "--keep", "1", "--dry-run"}).out, "Would be removed: 3, 2"));
  CHECK(contains(antcrew_in(folder, {"list"}).out, "4 runs stored"));
  CHECK(contains(antcrew_in(folder, {"remove", "--keep", "1"}).out, "Removed: 3, 2"));
  std::filesystem::remove_all(folder / "store/records");
  const Outcome lost = antcrew_in(folder, {"list"});
  CHECK(contains(lost.out, "lost: its file is gone"));
  check_refused(antcrew_in(folder, {"show", "4"}), 2, "4");
  CHECK(contains(antcrew_in(folder, {"remove", "4"}).out, "Removed: 4"));
  check_refused(antcrew_in(folder, {"remove"}), 2, "nothing to remove");
  check_refused(antcrew_in(folder, {"remove", "1", "--keep", "2"}), 2, "both runs and --keep");
  check_refused(antcrew_in(folder, {"remove", folder / "a.json"}), 2, "a file, not a stored run");
  CHECK(std::filesystem::exists(folder / "a.json"));
}

TEST_CASE("labels, names and notes can be given, changed and taken off; what cannot be one is refused whole") {
  const TemporaryFolder folder;
  measure(folder, "a.json", {"--store", folder / "store"});
  check_refused(antcrew_in(folder, {"mark", "1", "--label", "good", "--label", "12"}), 2, "it is a number");
  CHECK(contains(antcrew_in(folder, {"mark", "1"}).out, "Run 1: no name, no label, no note"));
  CHECK(contains(antcrew_in(folder, {"mark", "last", "--label", "a", "--label", "b", "--name", "Tides now"}).out,
                 "Run 1: \"Tides now\", labels a, b, no note"));
  CHECK(contains(antcrew_in(folder, {"mark", "a", "--no-label", "a", "--name", ""}).out, "Run 1: no name, labels b"));
  check_refused(antcrew_in(folder, {"mark", "1", "--no-label", "zzz"}), 2, "it has b");
  check_refused(antcrew_in(folder, {"mark", folder / "a.json"}), 2, "antcrew import");
  check_refused(antcrew_in(folder, {"list", "--since", "yesterday"}), 2, "no time");
  check_refused(antcrew_in(folder, {"list", "--since", "2026-02-30"}), 2, "no time");
  CHECK(antcrew_in(folder, {"list", "--since", "2024-02-29"}).exit == 0);
  CHECK(antcrew_in(folder, {"list", "--newest", "9223372036854775808"}).exit == 0);
  check_refused(antcrew_in(folder, {"list", "--verdict", "wrong"}), 2, "wrong answer");
  CHECK(contains(antcrew_in(folder, {"list", "--since", "1h"}).out, "1 run stored"));
  CHECK(antcrew_in(folder, {"list", "--until", "2001-01-01"}).exit == 1);
}
