// Tide heights in a program that knows from which size on to go parallel: it loads the rule that a study left.
//
//   by_rule --workers 2                              # learns: sequential against parallel, over the sizes
//   antcrew worth last --to tides.rule.json
//   by_rule --workers 2                              # finds the rule here, and tries it, too
//
// ESTUARY_RULE names the rule's file where it is another one.
#include <unistd.h>
#include <antcrew/studies.hpp>
#include <antcrew/study/rule.hpp>
#include <cstdio>
#include <cstdlib>
#include <optional>
#include <string>

#include "estuary/tide_heights.hpp"

namespace {

std::optional<antcrew::Rule> rule_here() {
  const char* named = std::getenv("ESTUARY_RULE");
  const std::string path = named != nullptr ? named : "tides.rule.json";
  if (named == nullptr && ::access(path.c_str(), R_OK) != 0) return std::nullopt;
  antcrew::Rule rule(path);
  if (!rule.applies()) std::fprintf(stderr, "The rule in %s does not apply: %s\n", path.c_str(), rule.reason().c_str());
  return rule;
}

std::vector<double> heights_by(antcrew::ThreadCrew& crew, const std::vector<estuary::Sounding>& soundings) {
  std::vector<double> result(soundings.size());
  crew.each(soundings.size(), [&](std::size_t i) { result[i] = estuary::height(soundings[i]); });
  return result;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace antcrew;
  std::optional<Rule> rule;
  try {
    rule = rule_here();
  } catch (const Error& error) {
    std::fprintf(stderr, "by_rule: %s\n", error.what());
    return 2;
  }
  Study tides("Tide heights by a rule", estuary::make_soundings, estuary::heights, within(1e-9));
  tides.sizes({2, 5, 10, 20, 50, 200, 1'000, 10'000});
  tides.variant<ThreadCrew>("always parallel",
                            [](const auto& soundings, auto& crew) { return heights_by(crew, soundings); });
  if (rule) {
    // The crew stands ready; the rule says whether a call is worth it.
    tides
        .variant<ThreadCrew>("by the rule",
                             [&rule](const std::vector<estuary::Sounding>& soundings, ThreadCrew& crew) {
                               const bool parallel = rule->workers_for(soundings.size()) > 1;
                               return parallel ? heights_by(crew, soundings) : estuary::heights(soundings);
                             })
        .chooses_workers();
  }
  return study_main(argc, argv, tides);
}
