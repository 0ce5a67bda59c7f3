// What findings advise can be done: every option that one names is there.
#include <doctest/doctest.h>

#include <regex>
#include <set>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/finding_ids.hpp"
#include "antcrew/report/findings.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

void collect(const std::string& text, std::set<std::string>& options) {
  static const std::regex option("--[a-z][a-z-]+");
  for (auto found = std::sregex_iterator(text.begin(), text.end(), option); found != std::sregex_iterator(); ++found)
    options.insert(found->str());
}

}  // namespace

TEST_CASE("every option that a finding names is one of a study's, or of the command's") {
  std::set<std::string> known;
  for (const std::vector<std::string>& help :
       std::vector<std::vector<std::string>>{{std::string(ANTCREW_EXAMPLES) + "/tides", "--help"},
                                             {ANTCREW_COMMAND, "sweep", "--help"},
                                             {ANTCREW_COMMAND, "show", "--help"},
                                             {ANTCREW_COMMAND, "explain", "--help"}}) {
    const test::Outcome outcome = test::run_command(help);
    CHECK(outcome.exit == 0);
    collect(outcome.out, known);
  }
  REQUIRE(known.count("--budget") == 1);
  const Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
                                         test::cell_with("split", 2, std::vector<double>(9, 0.5))});
  Record commands = record;
  for (Cell& cell : commands.cells) cell.command = {"split"};
  const Analysed of_code = analyse(record);
  const Analysed of_commands = analyse(commands);
  std::set<std::string> named;
  for (const std::string& id : finding_ids()) {
    for (const Analysed* study : {&of_code, &of_commands}) {
      for (const char* or_else : {"", "noise", "work-inflation-one-worker", "work-inflation-machine"}) {
        Finding finding;
        finding.id = id;
        finding.kind = Finding::Kind::loss;
        finding.of = &study->cells[1];
        finding.or_else = or_else;
        finding.sure = finding.or_else.empty() ? Finding::Sure::measured : Finding::Sure::open;
        collect(claim_of(finding), named);
        collect(advice_for(finding), named);
        collect(worth_of(finding), named);
      }
    }
  }
  CHECK(named.size() > 4);
  for (const std::string& option : named) {
    CAPTURE(option);
    CHECK(known.count(option) == 1);
  }
}
