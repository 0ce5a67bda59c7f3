// Every id has words: a claim of its own, never the bare id.
#include <doctest/doctest.h>

#include <string>
#include <vector>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/finding_ids.hpp"
#include "antcrew/report/findings.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;

TEST_CASE("every finding there can be says something in words") {
  const Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
                                         test::cell_with("split", 2, std::vector<double>(9, 0.5))});
  const Analysed study = analyse(record);
  for (const std::string& id : finding_ids()) {
    CAPTURE(id);
    Finding finding;
    finding.id = id;
    finding.of = &study.cells[1];
    const std::string claim = claim_of(finding);
    CHECK(claim != id);
    CHECK(claim.find(' ') != std::string::npos);
    advice_for(finding);
  }
}

TEST_CASE("that nothing is wrong says how much small losses come to, where that is much") {
  Finding fine;
  fine.id = "nothing-wrong";
  CHECK(claim_of(fine).find("together") == std::string::npos);
  fine.figures["small_losses_share"] = 0.115;
  const std::string claim = claim_of(fine);
  CAPTURE(claim);
  CHECK(claim == "no loss of 5 % or more by itself; smaller ones take 12 % of its workers' time together");
}
