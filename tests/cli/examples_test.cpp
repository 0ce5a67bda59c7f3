// Every example, small and from outside: all its variants give the baseline's answer.
#include <doctest/doctest.h>

#include <nlohmann/json.hpp>
#include <set>

#include "support/command.hpp"

using nlohmann::json;
using test::run_command;
using test::TemporaryFolder;

namespace {

// The studies of one example; each must have these variants, none of them with a fault.
void check_example(const std::string& name, const std::vector<std::string>& options, std::size_t study,
                   const std::set<std::string>& variants) {
  CAPTURE(name);
  const TemporaryFolder folder;
  const std::string record = folder / "record.json";
  std::vector<std::string> words = {std::string(ANTCREW_EXAMPLES) + "/" + name, "--study", std::to_string(study)};
  words.insert(words.end(), options.begin(), options.end());
  words.insert(words.end(), {"--workers", "1,3", "--rounds", "2", "--save", record});
  const test::Outcome ran = run_command(words);
  CAPTURE(ran.err);
  CHECK(ran.exit != 2);
  CHECK(ran.exit != 3);
  const json kept = json::parse(test::read_file(record));
  std::set<std::string> seen;
  for (const json& cell : kept.at("cells")) {
    CAPTURE(cell.at("variant").get<std::string>());
    CHECK(cell.at("faults").empty());
    CHECK_FALSE(cell.at("trials").empty());
    if (cell.at("kind") == "variant") {
      seen.insert(cell.at("variant").get<std::string>() + " (" + cell.at("crew").get<std::string>() + ")");
    }
  }
  CHECK(seen == variants);
}

}  // namespace

TEST_CASE("gauges") {
  check_example("gauges", {"--sizes", "10"}, 1,
                {"threads by hand (Workers)", "split evenly (ThreadCrew)", "one by one (ThreadCrew)",
                 "halved and stolen (TaskCrew)"});
}

TEST_CASE("silt") {
  check_example("silt", {"--sizes", "60"}, 1,
                {"new threads each step (Workers)", "threads at a barrier (Workers)", "rows shared out (ThreadCrew)",
                 "rows shared out (TaskCrew)"});
}

TEST_CASE("channels") {
  check_example("channels", {"--sizes", "30"}, 1,
                {"first branches split evenly (ThreadCrew)", "futures, 6 forks deep (Workers)",
                 "every fork a task (TaskCrew)", "tasks down to 10 forks (TaskCrew)"});
}

TEST_CASE("catalogue, counted and sorted") {
  check_example("catalogue", {"--sizes", "20k"}, 1,
                {"one map, locked (ThreadCrew)", "a map for each worker (ThreadCrew)", "KeyMap (ThreadCrew)",
                 "KeyMap (TaskCrew)"});
  check_example("catalogue", {"--sizes", "20k"}, 2,
                {"two halves by hand (Workers)", "sort (ThreadCrew)", "sort (TaskCrew)"});
}

TEST_CASE("convoy") {
  check_example("convoy", {"--sizes", "20"}, 1,
                {"a thread for each stage (Workers)", "all decoded, then packed (ThreadCrew)", "pipeline (ThreadCrew)",
                 "pipeline (TaskCrew)"});
}

TEST_CASE("archive") {
  check_example("archive", {"--sizes", "5"}, 1,
                {"threads (ThreadCrew)", "threads (TaskCrew)", "processes, a vector for each log (ProcessCrew)",
                 "processes, copied (ProcessCrew)", "processes, zero-copy (ProcessCrew)",
                 "processes, common array (ProcessCrew)"});
}

TEST_CASE("loggers, which answer on this machine only") {
  check_example("loggers", {"--sizes", "12", "--dimension", "delay_ms=1"}, 1,
                {"connected anew each time (ThreadCrew)", "a connection each (ThreadCrew)",
                 "a connection each (TaskCrew)", "a process each (ProcessCrew)"});
  const std::string loggers = std::string(ANTCREW_EXAMPLES) + "/loggers";
  const test::Outcome refused = run_command({"env", "ESTUARY_LOGGERS_AT=0.0.0.0", loggers, "--quick"});
  CHECK(refused.exit == 2);
  CHECK(refused.err.find("on this machine only") != std::string::npos);
  CHECK(run_command({"pgrep", "-x", "loggers"}).out.empty());
}

TEST_CASE("coprocessor: a step that does not wait for the device is caught, the others hold") {
  const TemporaryFolder folder;
  const std::string record = folder / "record.json";
  const test::Outcome ran = run_command(
      {std::string(ANTCREW_EXAMPLES) + "/coprocessor", "--sizes", "20k", "--rounds", "2", "--save", record});
  CAPTURE(ran.err);
  CHECK(ran.exit == 4);  // two rounds are too few
  const json kept = json::parse(test::read_file(record));
  for (const json& cell : kept.at("cells")) {
    CAPTURE(cell.at("variant").get<std::string>());
    CHECK(cell.at("faults").empty() == (cell.at("variant") != "not waited for"));
    CHECK(cell.at("trials").empty() == false);
  }
  CHECK(ran.out.find("wrong answer: \"not waited for\"") != std::string::npos);
  CHECK(run_command({ANTCREW_COMMAND, "show", record, "--all"}).out.find("compute alone") != std::string::npos);
}

TEST_CASE("by_rule: learns, asks what it is worth, and follows its rule; one of another machine it does not follow") {
  const TemporaryFolder folder;
  const std::string program = std::string(ANTCREW_EXAMPLES) + "/by_rule";
  const auto measure = [&](const std::string& sizes, const std::string& record) {
    return run_command({program, "--sizes", sizes, "--workers", "2", "--rounds", "11", "--budget", "0", "--no-confirm",
                        "--instrument", "none", "--quiet", "--save", folder / record},
                       folder.path());
  };
  // A machine that others keep busy may leave every cell too noisy, now and then.
  test::Outcome worth;
  for (int attempt = 0; attempt < 4; ++attempt) {
    const std::string record = "learn-" + std::to_string(attempt) + ".json";
    CHECK(test::contains(measure("2,50k", record).out, "always parallel"));
    worth = run_command({ANTCREW_COMMAND, "worth", folder / record, "--to", folder / "tides.rule.json"});
    if (worth.exit != 2 || !test::contains(worth.err, "no variant is valid")) break;
  }
  CAPTURE(worth.err);
  if (worth.exit == 2 && test::contains(worth.err, "no variant is valid")) {
    MESSAGE("too noisy four times: nothing to learn from");
    return;
  }
  CHECK(worth.exit != 2);
  if (worth.exit == 3) return;
  // What it does for very small sizes is one worker's work, on purpose.
  json rule = json::parse(test::read_file(folder / "tides.rule.json"));
  rule["steps"] = {{{"from_size", 100'000'000}, {"workers", 2}}};
  test::write_file(folder / "tides.rule.json", rule.dump());
  const test::Outcome used = measure("20k", "use.json");
  CAPTURE(used.out);
  CHECK(test::contains(used.out, "by the rule"));
  CHECK_FALSE(test::contains(used.out, "did not use its workers"));
  for (const json& cell : json::parse(test::read_file(folder / "use.json")).at("cells")) {
    CHECK(cell.at("faults").empty());
    CHECK(cell.value("chooses_workers", false) == (cell.at("variant") == "by the rule"));
  }
  rule["processor"] = "Estuary 9000";
  test::write_file(folder / "tides.rule.json", rule.dump());
  const test::Outcome elsewhere = measure("2", "elsewhere.json");
  CHECK(test::contains(elsewhere.err, "does not apply: it was measured with another processor"));
  test::write_file(folder / "tides.rule.json", "{}");
  CHECK(measure("2", "damaged.json").exit == 2);
}
