// A rule that a program loads.
#include <doctest/doctest.h>

#include "antcrew/base/error.hpp"
#include "antcrew/study/rule.hpp"
#include "support/command.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

const FileBuild build{"g++ 12", "-O3", "Release", true, ""};

std::string rule_text(const std::string& steps, const std::string& more = {}) {
  return R"({"format": "antcrew-rule", "version": 1, "variant": "split evenly", "crew": "ThreadCrew", "processor": "made up",
  "compiler": "g++ 12", "flags": "-O3", )" +
         more + R"("steps": )" + steps + "}";
}

Rule rule(const std::string& text, const FileBuild& of = build, const std::string& processor = "made up",
          int usable = 8) {
  return Rule::from_text(text, "tides.rule.json", of, processor, usable);
}

std::string refused(const std::string& text) {
  try {
    rule(text);
  } catch (const Error& error) {
    return error.id() + ": " + error.what();
  }
  return "";
}

}  // namespace

TEST_CASE("a rule answers by size, and never with more workers than there are processors") {
  const std::string text = rule_text(R"([{"from_size": 1000, "workers": 2}, {"from_size": 50000, "workers": 16}])");
  const Rule wide = rule(text);
  CHECK(wide.applies());
  CHECK(wide.variant() == "split evenly (ThreadCrew)");
  for (const auto& [size, workers] : {std::pair<std::size_t, int>{0, 1}, {999, 1}, {1000, 2}, {49'999, 2}, {50'000, 8}})
    CHECK(wide.workers_for(size) == workers);
  CHECK(rule(text, build, "made up", 1).workers_for(1'000'000) == 1);
  CHECK(rule(rule_text("[]")).workers_for(1'000'000) == 1);
}

TEST_CASE("with fewer processors than it was measured with, a rule answers what paid with so few") {
  const std::string text = rule_text(R"([{"from_size": 100, "workers": 8}, {"from_size": 5000, "workers": 16}])",
                                     R"("with_fewer": [{"most_workers": 2, "steps": []},
        {"most_workers": 4, "steps": [{"from_size": 3000, "workers": 4}]},
        {"most_workers": 8, "steps": [{"from_size": 100, "workers": 8}]}], )");
  CHECK(rule(text, build, "made up", 16).workers_for(5000) == 16);
  CHECK(rule(text, build, "made up", 15).workers_for(5000) == 8);
  for (const int usable : {4, 7}) {
    CHECK(rule(text, build, "made up", usable).workers_for(2999) == 1);
    CHECK(rule(text, build, "made up", usable).workers_for(3000) == 4);
  }
  for (const int usable : {1, 2, 3}) CHECK(rule(text, build, "made up", usable).workers_for(1'000'000) == 1);
  CHECK(rule(text, build, "made up", 2).applies());
  // As many as there may be worker counts in a study.
  std::string many;
  for (int most = 2; most < 200; ++most)
    many += (many.empty() ? "" : ", ") + std::string(R"({"most_workers": )") + std::to_string(most) +
            R"(, "steps": [{"from_size": 7, "workers": )" + std::to_string(most) + "}]}";
  const std::string wide = rule_text(R"([{"from_size": 7, "workers": 200}])", R"("with_fewer": [)" + many + "], ");
  CHECK(rule(wide, build, "made up", 150).workers_for(7) == 150);
  CHECK(test::contains(refused(rule_text("[]", R"("with_fewer": 4, )")), "'with_fewer' is no list"));
  CHECK(test::contains(refused(rule_text("[]", R"("with_fewer": [{"most_workers": 2, "steps": []}, {"most_workers": 2,
                                              "steps": []}], )")),
                       "in the order of 'most_workers'"));
  CHECK(test::contains(refused(rule_text("[]", R"("with_fewer": [{"most_workers": 2}], )")), "no list 'steps'"));
}

TEST_CASE("on another machine or for another build it says so and stays sequential") {
  const std::string text = rule_text(R"([{"from_size": 1, "workers": 4}])");
  FileBuild other = build;
  other.flags = "-O0";
  for (const Rule& elsewhere : {rule(text, build, "another one"), rule(text, other)}) {
    CHECK_FALSE(elsewhere.applies());
    CHECK(elsewhere.workers_for(1'000'000) == 1);
    CHECK(test::contains(elsewhere.reason(), "it was measured with another"));
  }
}

TEST_CASE("a rule of an optimised build is none for one that is not, also where nobody tells flags") {
  std::string text = rule_text(R"([{"from_size": 1, "workers": 4}])", R"("optimised": true, )");
  FileBuild unknown{"g++ 12", "unknown", "unknown", true, ""};
  text.replace(text.find("-O3"), 3, "unknown");
  CHECK(rule(text, unknown).applies());
  unknown.optimised = false;
  CHECK_FALSE(rule(text, unknown).applies());
  CHECK(test::contains(rule(text, unknown).reason(), "another optimisation: 'on', here 'off'"));
  CHECK(test::contains(refused(rule_text("[]", R"("optimised": "yes", )")), "neither true nor false"));
}

TEST_CASE("loading a rule throws nothing: what cannot be used does not apply, and says why") {
  for (const char* path : {"/nowhere/tides.rule.json", "/", "/dev/null"}) {
    const Rule none = Rule::load(path);
    CHECK_FALSE(none.applies());
    CHECK(none.workers_for(1'000'000) == 1);
    CHECK(test::contains(none.reason(), path));
  }
}

TEST_CASE("what is no rule is refused in one sentence") {
  CHECK(test::contains(refused(""), "rule.syntax"));
  CHECK(test::contains(refused("{}"), "this is no rule"));
  CHECK(test::contains(refused("[1]"), "this is no rule"));
  CHECK(test::contains(refused(R"({"format": "antcrew-rule", "version": 9})"), "rule.version"));
  CHECK(test::contains(refused(R"({"format": "antcrew-rule"})"), "'version'"));
  CHECK(test::contains(refused(rule_text("5")), "'steps'"));
  CHECK(test::contains(refused(rule_text(R"([{"from_size": 1}])")), "a step without"));
  CHECK(test::contains(refused(rule_text(R"([{"from_size": -1, "workers": 2}])")), "a step without"));
  CHECK(test::contains(refused(rule_text(R"([{"from_size": 1, "workers": 0}])")), "a step without"));
  CHECK(test::contains(refused(rule_text(R"([{"from_size": 5, "workers": 2}, {"from_size": 5, "workers": 4}])")),
                       "order of sizes"));
  CHECK_THROWS_WITH_AS(Rule("/nowhere/tides.rule.json"), doctest::Contains("cannot be read"), Error);
}
