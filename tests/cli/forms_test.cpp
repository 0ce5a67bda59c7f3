// The forms of a record, as the built command makes them.
#include <doctest/doctest.h>
#include <pwd.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <sstream>

#include "support/command.hpp"
#include "support/refused.hpp"

using nlohmann::json;
using test::check_refused;
using test::contains;
using test::Outcome;
using test::run_command;
using test::TemporaryFolder;

namespace {

const std::string antcrew_path = ANTCREW_COMMAND;
const std::string tides = std::string(ANTCREW_EXAMPLES) + "/tides";

// One record for all tests here.
const std::string& record_path() {
  static const TemporaryFolder folder;
  static const std::string path = [] {
    const std::string record = folder / "tides.json";
    run_command(
        {tides, "--sizes", "1k,5k", "--rounds", "6", "--workers", "1,2", "--budget", "0", "--save", record, "--quiet"});
    return record;
  }();
  return path;
}

Outcome show(std::vector<std::string> words, const std::string& folder = ".") {
  std::vector<std::string> all = {antcrew_path, "show", record_path()};
  all.insert(all.end(), words.begin(), words.end());
  return run_command(all, folder);
}

// Those that the command itself names.
std::vector<std::string> forms_offered() {
  const std::string said = show({"--as", "no-such-form"}).err;
  const std::string before = "choose from ";
  const std::size_t from = said.find(before);
  REQUIRE(from != std::string::npos);
  std::vector<std::string> forms;
  std::istringstream words(said.substr(from + before.size()));
  for (std::string word; words >> word && word.rfind("figure:", 0) != 0;)
    forms.push_back(word.back() == ',' ? word.substr(0, word.size() - 1) : word);
  return forms;
}

}  // namespace

TEST_CASE("the documents name every form") {
  const std::string documents = test::read_file(std::string(ANTCREW_SOURCE) + "/docs/results.md");
  for (const std::string& form : forms_offered()) {
    CAPTURE(form);
    CHECK(contains(documents, "`" + form + "`"));
  }
}

TEST_CASE("every form of a record comes out, to standard output and into a file, the same bytes each time") {
  const TemporaryFolder folder;
  std::vector<std::string> forms = forms_offered();
  CHECK(forms.size() >= 7);
  forms.push_back("figure:trials");
  for (const std::string& form : forms) {
    CAPTURE(form);
    const Outcome out = show({"--as", form});
    CHECK(out.exit == 0);
    CHECK(out.err.empty());
    CHECK(out.out.size() > 200);
    const std::string file = folder / (std::string("x.") + (form.rfind("figure", 0) == 0 ? "svg" : "txt"));
    CHECK(show({"--as", form, "--to", file}).exit == 0);
    CHECK(test::read_file(file) == out.out);
    CHECK(show({"--as", form}).out == out.out);
  }
  CHECK(contains(show({"--as", "figure"}).out, "<svg"));
  CHECK(test::lines_in(show({"--as", "csv"}).out) == 1 + 2 * (1 + 3 * 2));
}

TEST_CASE("figures as files: the ending decides, the text alternative is in it, a record's names run nothing") {
  const TemporaryFolder folder;
  for (const auto& image : {std::pair<const char*, const char*>{"svg", "<?xml"}, {"png", "\x89PNG"}, {"pdf", "%PDF"}}) {
    const std::string ending = image.first;
    const std::string begins = image.second;
    CAPTURE(ending);
    const std::string file = folder / ("f." + ending);
    REQUIRE(show({"--as", "figure:speedup-over-size", "--to", file}).exit == 0);
    const std::string once = test::read_file(file);
    CHECK(once.rfind(begins, 0) == 0);
    REQUIRE(show({"--as", "figure:speedup-over-size", "--to", file}).exit == 0);
    CHECK(test::read_file(file) == once);
  }
  const std::string svg = test::read_file(folder / "f.svg");
  CHECK(contains(svg, "<title>Speedup over size</title>"));
  CHECK(contains(svg, "split evenly (ThreadCrew)"));
  // A name that would be a command, were it read as one.
  json record = json::parse(test::read_file(record_path()));
  const std::string made = folder / "made";
  for (json& cell : record["cells"]) {
    if (cell["kind"] == "variant") cell["variant"] = "x'`touch " + made + "`'; system(\"touch " + made + "\") #";
  }
  record["ladders"] = json::array();
  record["sources"] = record["confirmations"] = json::array();
  // One of each worker count is left of those that are now called alike.
  json kept = json::array();
  for (const json& cell : record["cells"]) {
    if (cell["kind"] != "variant" || cell["crew"] != "ThreadCrew") kept.push_back(cell);
  }
  record["cells"] = kept;
  test::write_file(folder / "hostile.json", record.dump());
  for (const char* kind : {"speedup", "time", "trials", "ledger"}) {
    const Outcome drawn =
        run_command({antcrew_path, "show", folder / "hostile.json", "--as", std::string("figure:") + kind});
    CAPTURE(drawn.err);
    CHECK((drawn.exit == 0 || contains(drawn.err, "nothing to show")));
  }
  CHECK_FALSE(std::filesystem::exists(made));
}

TEST_CASE("what cannot be is refused in one sentence, before anything is measured") {
  const TemporaryFolder folder;
  check_refused(show({"--as", "pie"}), 2, "no form 'pie'; choose from text, markdown");
  check_refused(show({"--as", "figure:pie"}), 2, "no figure of this kind; choose from speedup");
  check_refused(show({"--as", "figure:ladder", "--image", "gif"}), 2, "a figure is svg, png or pdf");
  check_refused(show({"--as", "figure", "--to", folder / "x.txt"}), 2, "a figure is svg, png or pdf");
  check_refused(show({"--as", "csv", "--image", "png"}), 2, "only a figure is an image");
  check_refused(show({"--as", "figure:dimensions"}), 2, "nothing to show in such a figure; it has ");
  check_refused(show({"--as", "page", "--to", folder / "none/x.html"}), 3,
                "the folder " + (folder / "none") + " cannot be written");
  check_refused(run_command({antcrew_path, "show", record_path(), record_path(), "--as", "figure"}), 2,
                "it holds one record, 2 were given");
  check_refused(show({"--as", "json", "--answers"}), 2, "--details, --trial and --answers are text");
  check_refused(run_command({"env", "PATH=/none", antcrew_path, "show", record_path(), "--as", "figure"}), 3,
                "gnuplot: figure files are drawn by it, and it is not installed; install the package gnuplot-nox");
  const Outcome study =
      run_command({tides, "--as", "page", "--to", folder / "none/x.html", "--save", folder / "r.json"});
  check_refused(study, 3, "cannot be written");
  CHECK_FALSE(std::filesystem::exists(folder / "r.json"));
}

TEST_CASE("a file that cannot be written keeps what was there") {
  const TemporaryFolder folder;
  const std::string file = folder / "kept.csv";
  test::write_file(file, "before");
  CHECK(run_command(
            {"bash", "-c", "ulimit -f 1; exec " + antcrew_path + " show " + record_path() + " --as page --to " + file})
            .exit != 0);
  CHECK(test::read_file(file) == "before");
}

TEST_CASE("what cannot be written to standard output is said, and a pipe stays a pipe") {
  const TemporaryFolder folder;
  const Outcome full = run_command({"bash", "-c", antcrew_path + " show " + record_path() + " --as csv > /dev/full"});
  CHECK(full.exit == 3);
  CHECK(contains(full.err, "standard output: cannot be written"));
  const std::string pipe = folder / "pipe";
  REQUIRE(::mkfifo(pipe.c_str(), 0600) == 0);
  const Outcome read = run_command({"bash", "-c",
                                    "timeout 20 cat " + pipe + " & timeout 20 " + antcrew_path + " show " +
                                        record_path() + " --as csv --to " + pipe + "; wait"});
  CHECK(read.out == show({"--as", "csv"}).out);
  CHECK(std::filesystem::is_fifo(pipe));
}

TEST_CASE("several records stand one after the other, or as rows of one table") {
  const TemporaryFolder folder;
  std::filesystem::copy(record_path(), folder / "second.json");
  const auto both = [&](const char* form) {
    return run_command({antcrew_path, "show", record_path(), folder / "second.json", "--as", form}).out;
  };
  CHECK(test::lines_in(both("csv")) == 1 + 2 * (test::lines_in(show({"--as", "csv"}).out) - 1));
  CHECK(contains(both("csv"), "second.json,"));
  CHECK(contains(both("text"), "Record " + folder.path() + "/second.json"));
  CHECK(contains(both("markdown"), "### Record "));
  CHECK(json::parse(both("json")).size() == 2);
}

TEST_CASE("scrubbed: no string of any form tells host, user, home or folders") {
  const TemporaryFolder folder;
  std::array<char, 256> host{};
  REQUIRE(::gethostname(host.data(), host.size() - 1) == 0);
  const passwd* entry = ::getpwuid(::getuid());
  REQUIRE(entry != nullptr);
  const std::string user = entry->pw_name;
  json record = json::parse(test::read_file(record_path()));
  const std::string tell =
      std::string("on ") + host.data() + " by " + user + " in " + entry->pw_dir + "/secret/work/file.cpp:12 ~nurse/x";
  record["title"] = record["agreement"] = record["build"]["flags"] = tell;
  for (json& cell : record["cells"])
    cell["faults"] = json::array({{{"kind", "threw"}, {"round", 1}, {"text", tell}, {"evidence", json::object()}}});
  test::write_file(folder / "told.json", record.dump());
  for (const char* form : {"text", "markdown", "csv", "json", "page"}) {
    CAPTURE(form);
    const std::string open = run_command({antcrew_path, "show", folder / "told.json", "--as", form}).out;
    CHECK(contains(open, "secret/work"));
    const std::string shut = run_command({antcrew_path, "show", folder / "told.json", "--as", form, "--anonymize"}).out;
    CHECK(shut.size() > 100);
    CHECK_FALSE(contains(shut, "secret"));
    CHECK_FALSE(contains(shut, "nurse"));
    CHECK_FALSE(contains(shut, "by " + user + " in"));
    CHECK_FALSE(contains(shut, std::string("on ") + host.data() + " by"));
    CHECK(contains(shut, "file.cpp:12"));
  }
}

TEST_CASE("a study program makes a page beside its record, and its result in any form") {
  const TemporaryFolder folder;
  const Outcome ran =
      run_command({tides, "--sizes", "500", "--rounds", "2", "--workers", "1", "--save", folder / "r.json", "--page"});
  CHECK(contains(ran.out, "Page: " + (folder / "r.html")));
  CHECK(contains(test::read_file(folder / "r.html"), "Content-Security-Policy"));
  const Outcome csv = run_command({tides, "--sizes", "500", "--rounds", "2", "--workers", "1", "--save",
                                   folder / "s.json", "--as", "csv", "--quiet"});
  CHECK(csv.out.rfind("record,variant,", 0) == 0);
  CHECK(contains(csv.err, "Record: " + (folder / "s.json")));
}

TEST_CASE("earlier names are taken with a notice: the form table, and --list") {
  const Outcome table = show({"--as", "table"});
  CHECK(table.exit == 0);
  CHECK(table.out == show({}).out);
  CHECK(contains(table.err, "--as table is now --as text"));
  const Outcome list = run_command({tides, "--list"});
  CHECK(list.exit == 0);
  CHECK(list.out == run_command({tides, "--dry-run"}).out);
  CHECK(contains(list.err, "--list is now --dry-run"));
  const Outcome json = run_command({tides, "--dry-run", "--as", "json"});
  CHECK(json::parse(json.out)["studies"][0]["variants"].size() > 1);
}

TEST_CASE("every command that prints has a form for programs") {
  const TemporaryFolder folder;
  const auto in_store = [&](std::vector<std::string> words) {
    words.insert(words.begin(), antcrew_path);
    words.insert(words.end(), {"--store", folder / "store", "--as", "json"});
    const Outcome outcome = run_command(words);
    CAPTURE(outcome.err);
    CHECK((outcome.exit == 0 || outcome.exit == 1 || outcome.exit == 4));
    return json::parse(outcome.out);
  };
  CHECK(in_store({"import", record_path()})["stored"][0]["number"] == 1);
  CHECK(in_store({"mark", "1", "--label", "kept", "--note", "as released"})["marked"][0]["labels"][0] == "kept");
  CHECK(in_store({"list"})["runs"].size() == 1);
  CHECK(in_store({"show", "last"})["cells"].size() > 2);
  CHECK(in_store({"explain", "last"}).is_object());
  const json guard = in_store({"guard", "last", "--speedup", "1000"});
  CHECK(guard["outcome"] == "failed");
  CHECK(guard["checks"].size() == 1);
  CHECK(in_store({"remove", "kept", "--dry-run"})["would_be_removed"][0] == 1);
  CHECK(in_store({"remove", "kept"})["removed"][0] == 1);
  CHECK(in_store({"list"})["runs"].empty());
  const Outcome sweep =
      run_command({antcrew_path, "sweep", "--dry-run", "--as", "json", "--workers", "2", "--", "echo", "@(workers)"});
  CHECK(json::parse(sweep.out)["commands"][1]["words"][1] == "2");
  check_refused(run_command({antcrew_path, "mark", "1", "--as", "xml"}), 2,
                "no form 'xml' of a mark; choose from text, json");
}

TEST_CASE("several records make a page of a history, whose scripts and policy are those of every page") {
  const TemporaryFolder folder;
  json made = json::parse(test::read_file(record_path()));
  made["run"] = std::string(32, 'a');
  made["created"] = "2026-01-01T00:00:00Z";
  test::write_file(folder / "as released.json", made.dump());
  const Outcome page = run_command({antcrew_path, "show", record_path(), folder / "as released.json", "--as", "page"});
  CHECK(page.exit == 0);
  CHECK(contains(page.out, "Content-Security-Policy"));
  CHECK(contains(page.out, "2 runs of "));
  CHECK(contains(page.out, ">as released</td>"));
  CHECK(contains(page.out, "<details id=\"beside-0-1\">"));
  check_refused(run_command({antcrew_path, "show", record_path(), record_path(), "--as", "page"}), 2,
                "this run is named twice");
  // One record is one page, whatever its file is called; a label may stand for several.
  std::filesystem::copy(record_path(), folder / "a,b.json");
  CHECK_FALSE(contains(run_command({antcrew_path, "show", folder / "a,b.json", "--as", "page"}).out, "Run after run"));
  const std::string store = folder / "store";
  run_command({antcrew_path, "import", record_path(), folder / "as released.json", "--store", store});
  for (const char* run : {"1", "2"}) run_command({antcrew_path, "mark", run, "--label", "both", "--store", store});
  CHECK(contains(run_command({antcrew_path, "show", "both", "--as", "page", "--store", store}).out, "2 runs of "));
}
