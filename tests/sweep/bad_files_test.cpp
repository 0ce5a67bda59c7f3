// Study files with a mistake: each gets one sentence that says what, where and what to do.
#include <doctest/doctest.h>

#include <algorithm>
#include <random>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/sweep/study_file.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

constexpr const char* head = "format = 1\ntitle = \"Tides\"\n";
constexpr const char* base = "[baseline]\ncommand = [\"echo\", \"5\"]\n";
constexpr const char* one = "[[variant]]\nname = \"one\"\ncommand = [\"echo\", \"5\"]\n";

struct Bad {
  std::string text;
  const char* id;
  const char* said;  // parts that the message has, apart by '|'
};

std::string with(const std::string& general, const std::string& baseline = base, const std::string& variant = one) {
  return head + general + "\n" + baseline + variant;
}

std::string variant(const std::string& keys) {
  return with("", base, "[[variant]]\nname = \"one\"\n" + keys + "\n");
}

const std::vector<Bad> bad_files = {
    {"", "sweep.format", "no 'format'|format = 1"},
    {"format = 2\n", "sweep.format", "format 2|reads format 1|newer|line 1"},
    {"format = 0\n", "sweep.format", "format 0|write format = 1"},
    {"format = \"one\"\n", "units.count", "one|line 1"},
    {"format = 1.5\n", "sweep.type", "'format'|a number|whole number"},
    {"format = 1\n", "sweep.key", "no 'title'"},
    {"format = 1\ntitle = 5\n", "sweep.type", "'title'|whole number|text in quotes|line 2, column 9"},
    {"format = 1\ntitle = \"\"\n", "sweep.key", "no 'title'"},
    {"format = 1\ntitle = \"a\n", "sweep.syntax", "not TOML|line 2"},
    {"format = 1\ntitle = \"a\"\ntitle = \"b\"\n", "sweep.syntax", "not TOML"},
    {"[[[\n", "sweep.syntax", "not TOML"},
    {"format = 1\ntitle = \"\xff\xfe\"\n", "sweep.syntax", "not TOML"},
    {std::string(head), "sweep.key", "no [baseline]"},
    {std::string(head) + "[baseline]\n" + one, "sweep.key", "nothing to run here"},
    {std::string(head) + base, "sweep.key", "no variant to compare"},
    {std::string(head) + "baseline = 5\n", "sweep.type", "'baseline'|a table"},
    {with("workers = 4"), "sweep.type", "'workers'|a list|line 3"},
    {with("workers = []"), "sweep.type", "empty list"},
    {with("workers = [0]"), "crew.workers", "0"},
    {with("workers = [-1]"), "sweep.type", "-1"},
    {with("workers = [1, 1]"), "study.grid", "twice"},
    {with("workers = [\"two\"]"), "units.count", "two"},
    {with("workers = [1.5]"), "sweep.type", "'workers'"},
    {with("worker = [1]"), "sweep.key", "no key 'worker'|did you mean 'workers'"},
    {with("sizes = [0]"), "study.grid", "size of 0"},
    {with("sizes = [10, 10]"), "study.grid", "twice"},
    {with("sizes = \"10k\""), "sweep.type", "'sizes'|a list"},
    {with("dimensions = [1]"), "sweep.type", "'dimensions'|a table"},
    {with("dimensions = { method = [] }"), "sweep.type", "'method'"},
    {with("dimensions = { method = [\"a\", 1] }"), "sweep.type", "'method'|words only"},
    {with("dimensions = { size = [1] }"), "study.grid", "'size'"},
    {with("dimensions = { workers = [1] }"), "sweep.type", "'workers'|another name"},
    {with("weak_scaling = true"), "sweep.key", "without sizes"},
    {with("weak_scaling = \"yes\""), "sweep.type", "true or false"},
    {with("environment = { \"A=B\" = \"1\" }"), "sweep.type", "A=B"},
    {with("environment = { A = true }"), "sweep.type", "'A'|text in quotes"},
    {with("values = { workers = \"x\" }"), "sweep.type", "'workers'|there already"},
    {with("values = { a = \"@(b)\" }"), "sweep.name", "@(b)"},
    {with("[answer]\nfrom = \"screen\""), "sweep.key", "'screen'|output, file, none"},
    {with("[answer]\nfrom = \"file\""), "sweep.key", "without its name"},
    {with("[answer]\nfrom = \"output\"\nfile = \"a\""), "sweep.key", "not in one"},
    {with("[answer]\ncompare = \"number\""), "sweep.key", "did you mean \"numbers\""},
    {with("[answer]\ncompare = \"numbers\""), "sweep.key", "without a tolerance"},
    {with("[answer]\ncompare = \"numbers\"\ntolerance = -1"), "sweep.key", "tolerance"},
    {with("[answer]\ntolerance = 1e-9"), "sweep.key", "compare = \"numbers\""},
    {with("[answer]\ncompare = \"command\""), "sweep.key", "no command"},
    {with("[answer]\ncompare = \"lines\"\ncommand = [\"cmp\"]"), "sweep.key", "two ways"},
    {with("[answer]\ncommand = [\"no-such-program-here\"]"), "sweep.program", "no-such-program-here|PATH"},
    {with("[limits]\ncall_s = \"long\""), "sweep.type", "'call_s'|a number"},
    {with("[limits]\ncall_s = -1"), "sweep.type", "below zero"},
    {with("[limits]\nmemory = \"lots\""), "units.count", "lots"},
    {with("[limits]\nseconds = 4"), "sweep.key", "'seconds'|call_s"},
    {with("keep_folders = \"always\""), "sweep.key", "faulty, all, none"},
    {with("before_each = \"make\""), "sweep.type", "'before_each'|list of words"},
    {with("before_all = [[]]"), "sweep.type", "without a program"},
    {with("after_each = [\"./nothing-there\"]"), "sweep.program", "no file './nothing-there'"},
    {with("ladder = [\"one\", \"two\"]"), "sweep.key", "no variant 'two'"},
    {with("", "[baseline]\ncommand = \"echo 5\"\n"), "sweep.type", "'command'|list of words"},
    {with("", "[baseline]\ncommand = [\"echo\", 5]\n"), "sweep.type", "numbers too"},
    {with("", "[baseline]\ncommand = []\n"), "sweep.type", "without a program"},
    {with("", "[baseline]\ncommand = [\"echo\"]\nshell = \"echo\"\n"), "sweep.key", "both"},
    {with("", "[baseline]\nshell = \"echo @(workers)\"\n"), "sweep.name", "$ANTCREW_WORKERS|shell"},
    {with("", "[baseline]\nshell = \"\"\n"), "sweep.type", "empty shell"},
    {with("", "[baseline]\ncommand = [\"bash\", \"-c\", \"echo @(size)\"]\n"), "sweep.name", "$ANTCREW_SIZE"},
    {with("", "[baseline]\ncommand = [\"env\", \"A=1\", \"sh\", \"-ec\", \"echo @(x)\"]\n"), "sweep.name",
     "$ANTCREW_DIMENSION_X"},
    {with("", "[baseline]\ncommand = [\"echo\", \"@(worker)\"]\n"), "sweep.name", "did you mean @(workers)|line 5"},
    {with("", "[baseline]\ncommand = [\"echo\", \"@(size)\"]\n"), "sweep.name", "@(size)|Known are"},
    {with("", "[baseline]\ncommand = [\"echo\", \"@(workers\"]\n"), "sweep.name", "without its ')'"},
    {with("", "[baseline]\ncommand = [\"no-such-program-here\"]\n"), "sweep.program", "PATH|install it|line 5"},
    {with("", "[baseline]\ncommand = [\"/etc/passwd\"]\n"), "sweep.program", "cannot be run|chmod +x"},
    {with("", "[baseline]\ncommand = [\"/\"]\n"), "sweep.program", "cannot be run"},
    {with("", "[baseline]\ncommand = [\"echo\", \"a\\u0000b\"]\n"), "sweep.type", "zero byte"},
    {variant("command = [\"echo\"]\nprobe_of = \"none\""), "sweep.key", "no variant 'none'"},
    {variant("command = [\"echo\"]\nworkers = [2, 2]"), "study.grid", "twice"},
    {variant("command = [\"echo\"]\ncrew = \"\""), "sweep.type", "crew"},
    {variant("command = [\"echo\"]\nlauncher = [\"no-such-launcher\"]"), "sweep.program", "no-such-launcher"},
    {variant("command = [\"echo\"]\nthreads = 2"), "sweep.key", "'threads'|[[variant]] 1"},
    {variant("command = [\"echo\"]\nreported = { pattern = \"took\" }"), "sweep.type", "without a group"},
    {variant("command = [\"echo\"]\nreported = { pattern = \"(\" }"), "sweep.type", "not a regular expression"},
    {variant("command = [\"echo\"]\nreported = { pattern = \"(a)\", unit = \"h\" }"), "sweep.key", "'h'"},
    {with("", base, "[[variant]]\ncommand = [\"echo\"]\n"), "sweep.key", "no 'name'"},
    {with("", base, std::string(one) + one), "sweep.key", "two variants are called 'one'"},
    {with("", base, "[variant]\nname = \"one\"\n"), "sweep.type", "[[variant]]"},
};

}  // namespace

TEST_CASE("each mistake in a study file gets one sentence with its place and what to do") {
  for (const Bad& bad : bad_files) {
    CAPTURE(bad.text);
    std::string what;
    std::string id;
    try {
      study_from_text(bad.text, "tides.toml", "/tmp");
    } catch (const Error& error) {
      what = error.what();
      id = error.id();
      CHECK(error.kind() == Error::Kind::bad_input);
    }
    CAPTURE(what);
    CHECK(id == bad.id);
    CHECK(what.find('\n') == std::string::npos);
    CHECK(what.size() < 600);
    std::string said = bad.said;
    for (std::size_t from = 0; from <= said.size();) {
      const std::size_t bar = std::min(said.find('|', from), said.size());
      CHECK_MESSAGE(test::contains(what, said.substr(from, bar - from)), "missing: ", said.substr(from, bar - from));
      from = bar + 1;
    }
  }
  CHECK(bad_files.size() >= 60);
}

TEST_CASE("a file that cannot be read is told") {
  const test::TemporaryFolder folder;
  const auto refused = [](const std::string& path) -> std::string {
    try {
      read_study(path);
    } catch (const Error& error) {
      return error.id() + ": " + error.what();
    }
    return "";
  };
  CHECK(test::contains(refused(folder / "none.toml"), "no such file"));
  CHECK(test::contains(refused(folder.path()), "directory"));
  test::write_file(folder / "large.toml", std::string((1 << 20) + 1, '#'));
  CHECK(test::contains(refused(folder / "large.toml"), "1 MiB"));
}

TEST_CASE("the example and the same with any change give a study or one sentence, never a control character") {
  const std::string good = example_study();
  CHECK_NOTHROW(study_from_text(good, "example.toml", "/tmp"));
  std::mt19937_64 random(20261126);
  const std::string signs = "[]{}=\"'\n@()#.,-0aZ\\ \t\x01\x1b\x7f\xff";
  int studies = 0;
  for (int k = 0; k < 1500; ++k) {
    std::string text = good;
    for (int change = 0; change <= static_cast<int>(random() % 3); ++change) {
      const std::size_t at = random() % text.size();
      switch (random() % 4) {
        case 0:
          text[at] = signs[random() % signs.size()];
          break;
        case 1:
          text.erase(at, 1 + random() % 40);
          break;
        case 2:
          text.insert(at, 1, signs[random() % signs.size()]);
          break;
        default:
          text.insert(at, text.substr(random() % text.size(), random() % 60));
      }
    }
    try {
      study_from_text(text, "example.toml", "/tmp");
      ++studies;
    } catch (const Error& error) {
      const std::string what = error.what();
      const bool plain = std::none_of(what.begin(), what.end(), [](unsigned char c) { return c < 0x20 || c == 0x7f; });
      CHECK_MESSAGE(plain, what);
      CHECK_MESSAGE(what.size() < 900, what);
    }
  }
  CHECK(studies > 50);  // most changes fall into shell text and comments
}
