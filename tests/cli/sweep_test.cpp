// `antcrew sweep` as its users meet it.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <random>
#include <sstream>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/error.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/table.hpp"
#include "support/command.hpp"
#include "support/refused.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;

Outcome sweep(std::vector<std::string> words, const std::string& folder) {
  words.insert(words.begin(), {antcrew_path, "sweep"});
  return run_command(words, folder);
}

// Waits, so that it scales on any machine: three workers are three times as fast.
constexpr const char* waiting = R"toml(format = 1
title = "Waiting for the loggers"
workers = [1, 3]
environment = { STATION = "Brackwater" }
[baseline]
shell = "sleep 0.3; echo 5"
[[variant]]
name = "at once"
crew = "processes"
shell = '''
for k in $(seq $ANTCREW_WORKERS); do
  sleep $(awk -v p=$ANTCREW_WORKERS 'BEGIN { print 0.3 / p }') &
done
wait
echo 5
'''
[[variant]]
name = "wrong"
shell = "echo 6; echo no depth >&2"
workers = [2]
)toml";

bool running(const std::string& marker) {
  return contains(run_command({"/bin/sh", "-c", "cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' '"}).out, marker);
}

// Until it is so, or five seconds have passed.
template <class Condition>
bool soon(const Condition& condition) {
  for (int k = 0; k < 500 && !condition(); ++k) ::usleep(10'000);
  return condition();
}

pid_t begin(const std::vector<std::string>& words, const std::string& folder) {
  std::fflush(nullptr);  // or the child would print it again
  const pid_t child = ::fork();
  if (child != 0) return child;
  ::setpgid(0, 0);
  if (::chdir(folder.c_str()) != 0 || std::freopen("/dev/null", "w", stdout) == nullptr ||
      std::freopen("said", "w", stderr) == nullptr)
    ::_exit(99);
  std::vector<char*> all;
  for (const std::string& word : words) all.push_back(const_cast<char*>(word.c_str()));
  all.push_back(nullptr);
  ::execv(all[0], all.data());
  ::_exit(98);
}

}  // namespace

TEST_CASE("a study file gives the table, the record, and every form of it; a faulty trial can be looked at") {
  const TemporaryFolder folder;
  test::write_file(folder / "waiting.toml", waiting);
  const Outcome out =
      sweep({"waiting.toml", "--rounds", "11", "--no-confirm", "--instrument", "all", "--quiet", "--save", "r.json"},
            folder.path());
  CAPTURE(out.out);
  CAPTURE(out.err);
  CHECK(out.exit == 0);
  CHECK(contains(test::on_one_line(out.out), "\"at once\" (processes) with 3 workers: speedup 2."));
  CHECK(contains(out.out, "wrong answer"));
  const std::string record = test::read_file(folder / "r.json");
  CHECK(contains(record, "\"STATION\": \"Brackwater\""));
  CHECK_FALSE(contains(record, "\"PATH\""));
  CHECK(contains(record, "\"commands\": true"));
  for (const char* form : {"text", "markdown", "csv", "trials", "json", "page", "figure:speedup"}) {
    CAPTURE(form);
    const Outcome shown = run_command({antcrew_path, "show", folder / "r.json", "--as", form});
    CHECK(shown.exit == 0);
    CHECK(shown.out.size() > 200);
    CHECK_FALSE(contains(shown.out, "size 0"));
  }
  const Outcome trial = run_command({antcrew_path, "show", folder / "r.json", "--trial", "wrong"});
  CHECK(trial.exit == 0);
  CHECK(contains(trial.out, "expected \"5\", got \"6\""));
  CHECK(contains(trial.out, "no depth"));
  CHECK(contains(trial.out, folder.path()));
  check_refused(run_command({antcrew_path, "show", folder / "r.json", "--trial", "at once"}), 2,
                "no trial of 'at once'");
  const Outcome details = run_command({antcrew_path, "show", folder / "r.json", "--details", "at once"});
  CHECK(contains(details.out, "alive at once"));
  const Outcome explained = run_command({antcrew_path, "explain", folder / "r.json"});
  CHECK(contains(explained.out, "waiting outside the crew"));
  CHECK_FALSE(contains(explained.out, "crew's calls"));
}

TEST_CASE("--dry-run prints every command word by word and runs nothing; the example runs as it is") {
  const TemporaryFolder folder;
  test::write_file(folder / "listed.toml", R"toml(format = 1
title = "Listed"
sizes = [10, 20]
environment = { DEPTH = "@(size)" }
[baseline]
command = ["touch", "ran here", "@(size)"]
[[variant]]
name = "two"
command = ["touch", "ran", "@(workers)"]
workers = [2]
)toml");
  const Outcome out = sweep({"listed.toml", "--dry-run"}, folder.path());
  CHECK(out.exit == 0);
  CHECK(out.out ==
        "baseline, 1 worker, size 10:\n    touch 'ran here' 10\n    with DEPTH=10\n"
        "two (command), 2 workers, size 10:\n    touch ran 2\n    with DEPTH=10\n"
        "baseline, 1 worker, size 20:\n    touch 'ran here' 20\n    with DEPTH=20\n"
        "two (command), 2 workers, size 20:\n    touch ran 2\n    with DEPTH=20\n");
  CHECK_FALSE(std::filesystem::exists(folder / "ran"));
  CHECK(sweep({"--example", "--to", "example.toml"}, folder.path()).exit == 0);
  const Outcome ran = sweep({"example.toml", "--sizes", "20k", "--rounds", "2", "--workers", "1,2", "--no-confirm",
                             "--instrument", "none", "--quiet", "--save", "e.json"},
                            folder.path());
  CAPTURE(ran.err);
  CHECK(ran.exit == 4);  // two rounds are too few to tell
  CHECK_FALSE(contains(ran.out, "wrong answer"));
  CHECK_FALSE(contains(ran.out, "crashed"));
}

TEST_CASE("a command behind -- is a study without a file") {
  const TemporaryFolder folder;
  const Outcome out = sweep({"--workers", "1,2", "--rounds", "2", "--no-confirm", "--instrument", "none", "--quiet",
                             "--save", "one.json", "--dimension", "word=deep,shallow", "--", "sh", "-c",
                             "sleep 0.02; test $0 -ge 1; echo $1", "@(workers)", "@(word)"},
                            folder.path());
  CAPTURE(out.out);
  CAPTURE(out.err);
  CHECK(out.exit == 4);
  CHECK(contains(out.out, "word deep"));
  CHECK(contains(out.out, "word shallow"));
  check_refused(sweep({"--", "sort", "file"}, folder.path()), 2, "no @(workers) in it");
  check_refused(sweep({"--"}, folder.path()), 2, "no command behind '--'");
  check_refused(sweep({}, folder.path()), 2, "nothing to measure");
  check_refused(sweep({"none.toml"}, folder.path()), 2, "no such file");
  check_refused(sweep({"none.toml", "--sizse", "4"}, folder.path()), 2, "did you mean '--sizes'?");
  test::write_file(folder / "waiting.toml", waiting);
  check_refused(sweep({"waiting.toml", "--sizes", "4"}, folder.path()), 2, "no sizes in this study");
  check_refused(sweep({"waiting.toml", "--variant", "at onse"}, folder.path()), 2, "'at once'");
}

TEST_CASE("a run that is killed leaves no command behind; one that is asked to stop can be gone on with") {
  const TemporaryFolder folder;
  test::write_file(folder / "long.toml", R"toml(format = 1
title = "Long"
[baseline]
shell = "sleep 0.05; echo 5"
[[variant]]
name = "it"
shell = "sleep 0.05; test -e stay && sleep 88.25; echo 5"
)toml");
  const std::vector<std::string> words{antcrew_path, "sweep",        "long.toml",    "--rounds", "40",     "--workers",
                                       "1",          "--no-confirm", "--instrument", "none",     "--save", "long.json"};
  const auto kept = [&] {
    return std::filesystem::exists(folder / "long.json.rounds") &&
           test::lines_in(test::read_file(folder / "long.json.rounds")) > 6;
  };
  const pid_t stopped = begin(words, folder.path());
  REQUIRE(soon(kept));
  ::kill(stopped, SIGINT);
  int status = 0;
  ::waitpid(stopped, &status, 0);
  CHECK(WEXITSTATUS(status) == 3);
  CHECK(contains(test::read_file(folder / "said"), "--resume long.json"));
  const Outcome on = run_command({antcrew_path, "sweep", "long.toml", "--rounds", "12", "--workers", "1",
                                  "--no-confirm", "--instrument", "none", "--quiet", "--resume", "long.json"},
                                 folder.path());
  CAPTURE(on.err);
  CHECK((on.exit <= 1 || on.exit == 4));  // it takes as long as the baseline
  const Record gone_on = record_from_json(test::read_file(folder / "long.json"), "long.json");
  CHECK(gone_on.complete);
  REQUIRE(gone_on.cells.size() == 2);
  CHECK(gone_on.cells[1].trials.size() == 12);
  // Now one that hangs, and its run is killed.
  test::write_file(folder / "stay", "");
  std::vector<std::string> again = words;
  again.back() = "killed.json";
  const pid_t killed = begin(again, folder.path());
  REQUIRE(soon([] { return running("sleep 88.25"); }));
  ::kill(killed, SIGKILL);
  ::waitpid(killed, &status, 0);
  CHECK(soon([] { return !running("sleep 88.25"); }));
}

TEST_CASE("a record of commands with any change gives an answer or one sentence") {
  const TemporaryFolder folder;
  test::write_file(folder / "waiting.toml", waiting);
  REQUIRE(sweep({"waiting.toml", "--rounds", "2", "--no-confirm", "--instrument", "few", "--quiet", "--save", "r.json"},
                folder.path())
              .exit >= 0);
  const std::string good = test::read_file(folder / "r.json");
  std::mt19937_64 random(20261126);
  int read = 0;
  for (int k = 0; k < 500; ++k) {
    std::string text = good;
    for (int change = 0; change <= static_cast<int>(random() % 2); ++change) {
      const std::size_t at = random() % text.size();
      switch (random() % 4) {
        case 0:
          text[at] = "0123456789-.eE\"{}[],:x\x1b\xff"[random() % 24];
          break;
        case 1:
          text.erase(at, 1 + random() % 30);
          break;
        case 2:
          text.insert(at, 1, "0123456789-.eE"[random() % 14]);
          break;
        default:
          text.insert(at, text.substr(random() % text.size(), random() % 40));
      }
    }
    std::string said;
    try {
      const Record record = record_from_json(text, "r.json");
      const Analysed study = analyse(record);
      said = table_text(study, Look(100)) + explanation(study, Look(100));
      ++read;
    } catch (const Error& error) {
      said = error.what();
      CHECK(said.find('\n') == std::string::npos);
    }
    const bool plain =
        std::none_of(said.begin(), said.end(), [](unsigned char c) { return (c < 0x20 && c != '\n') || c == 0x7f; });
    CHECK(plain);
  }
  CHECK(read > 20);
}

TEST_CASE("the examples in other languages run, and their answers agree") {
  const TemporaryFolder folder;
  const std::string examples = std::string(ANTCREW_SOURCE) + "/examples/estuary/commands/";
  const auto there = [](const std::string& program) {
    return run_command({"/bin/sh", "-c", "command -v " + program + " > /dev/null"}).exit == 0;
  };
  const auto check = [&](const std::string& name, const std::string& sizes, const std::string& needs) {
    CAPTURE(name);
    if (!needs.empty() && !there(needs)) {
      MESSAGE(name, " is not tried: ", needs, " is not installed");
      return;
    }
    const Outcome out =
        run_command({"/usr/bin/env", "PATH=" + std::string(ANTCREW_EXAMPLES) + ":/usr/local/bin:/usr/bin:/bin",
                     antcrew_path, "sweep", examples + name + ".toml", "--sizes", sizes, "--workers", "1,2", "--rounds",
                     "2", "--no-confirm", "--instrument", "few", "--quiet", "--save", folder / (name + ".json")},
                    folder.path());
    CAPTURE(out.out);
    CAPTURE(out.err);
    CHECK(out.exit == 4);  // two rounds are too few to tell
    for (const char* verdict : {"wrong answer", "crashed", "left work", "timed out", "not measured"})
      CHECK_FALSE(contains(out.out, verdict));
  };
  check("shell", "1k,2k", "");
  check("python", "2k", "/usr/bin/python3");
  check("sorting", "2k", "sort");
  check("packing", "2k", "xz");
  // Some systems do not let MPI begin anything.
  const bool launches = run_command({"/usr/bin/env", "OMPI_ALLOW_RUN_AS_ROOT=1", "OMPI_ALLOW_RUN_AS_ROOT_CONFIRM=1",
                                     "OMPI_MCA_rmaps_base_oversubscribe=1", "mpirun", "-n", "2", "true"})
                            .exit == 0;
  if (launches && there(std::string(ANTCREW_EXAMPLES) + "/silt_ranks")) check("ranks", "40", "mpirun");
  if (!launches) MESSAGE("ranks is not tried: mpirun is not installed, or begins nothing here");
}

TEST_CASE("where memory does not do to compare an answer, that cell is out of memory and the others go on") {
  const TemporaryFolder folder;
  test::write_file(folder / "large.toml", R"toml(format = 1
title = "A large answer"
[limits]
output = "1Gi"
[baseline]
shell = "sleep 0.02; echo 5"
[[variant]]
name = "long-winded"
shell = "head -c 700000000 /dev/zero"
workers = [1]
[[variant]]
name = "short"
shell = "sleep 0.02; echo 5"
workers = [1]
)toml");
  const Outcome out = run_command(
      {"/bin/sh", "-c",
       "ulimit -v 600000; exec \"$0\" sweep large.toml --rounds 2 --no-confirm --instrument none --quiet --save r.json "
       "--call-timeout 60",
       antcrew_path},
      folder.path());
  CAPTURE(out.out);
  CAPTURE(out.err);
  REQUIRE(std::filesystem::exists(folder / "r.json"));
  const Record record = record_from_json(test::read_file(folder / "r.json"), "r.json");
  const Analysed study = analyse(record);
  bool told = false;
  for (const CellFigures& f : study.cells) {
    if (f.cell->variant == "long-winded") {
      CHECK(f.verdict == Verdict::out_of_memory);
      told = contains(f.evidence, "not enough memory to compare its answer");
    } else {
      CHECK(f.cell->trials.size() >= 2);
      CHECK(f.cell->faults.empty());
    }
  }
  CHECK(told);
}

namespace {

// With all processes below it.
std::vector<pid_t> tree_of(pid_t root) {
  std::vector<pid_t> tree{root};
  for (std::size_t k = 0; k < tree.size(); ++k) {
    const std::string tasks = "/proc/" + std::to_string(tree[k]) + "/task";
    std::error_code gone;
    for (const auto& thread : std::filesystem::directory_iterator(tasks, gone)) {
      std::istringstream children(test::read_file((thread.path() / "children").string()));
      for (pid_t child = 0; children >> child;) tree.push_back(child);
    }
  }
  return tree;
}

}  // namespace

TEST_CASE("a job that is suspended as a whole, and let go on, has crashed nowhere") {
  const TemporaryFolder folder;
  test::write_file(folder / "slow.toml", R"toml(format = 1
title = "Suspended"
[baseline]
shell = "echo > began; sleep 1; echo 5"
[[variant]]
name = "it"
shell = "sleep 0.5; echo 5"
workers = [1]
)toml");
  const pid_t run = begin({antcrew_path, "sweep", "slow.toml", "--rounds", "2", "--no-confirm", "--instrument", "none",
                           "--quiet", "--save", "r.json"},
                          folder.path());
  REQUIRE(soon([&] { return tree_of(run).size() > 2; }));
  const std::vector<pid_t> tree = tree_of(run);
  for (const pid_t one : tree) ::kill(one, SIGSTOP);
  ::usleep(800'000);
  for (auto one = tree.rbegin(); one != tree.rend(); ++one) ::kill(*one, SIGCONT);
  int status = 0;
  ::waitpid(run, &status, 0);
  CAPTURE(test::read_file(folder / "said"));
  CHECK(WIFEXITED(status));
  const Record record = record_from_json(test::read_file(folder / "r.json"), "r.json");
  for (const Cell& cell : record.cells) {
    CAPTURE(cell.variant);
    for (const Fault& fault : cell.faults) CHECK(fault.text == "none");
    CHECK(cell.trials.size() >= 1);
  }
}
