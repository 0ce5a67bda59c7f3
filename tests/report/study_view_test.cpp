// What is said of a study is said alike in every form.
#include "antcrew/report/study_view.hpp"

#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "analysis/planted_sums.hpp"
#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/markdown.hpp"
#include "antcrew/report/page.hpp"
#include "antcrew/report/result.hpp"
#include "antcrew/report/study_json.hpp"
#include "antcrew/report/table.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::cell_with;
using test::contains;

namespace {

// One variant whose second worker gained little, and one that is wrong.
Record little_gained() {
  Record record = test::record_of(
      {cell_with("baseline", 1, std::vector<double>(12, 10.0)), cell_with("halved", 1, std::vector<double>(12, 10.5)),
       cell_with("halved", 2, std::vector<double>(12, 9.0)), cell_with("hasty", 2, std::vector<double>(12, 0.5))});
  record.cells[3].faults = {{Fault::Kind::wrong_answer, 1, "3 of 9 values differ"}};
  for (Trial& trial : record.cells[3].trials) trial.agreed = false;
  return record;
}

}  // namespace

TEST_CASE("a view tells the findings of the analysis, in its order, each with its words") {
  const Record record = little_gained();
  const Analysed study = analyse(record);
  const StudyView view(study);
  const std::vector<Finding> findings = findings_of(study);
  const std::vector<const FindingView*> told = view.findings();
  REQUIRE(told.size() == findings.size());
  REQUIRE(!findings.empty());
  for (std::size_t k = 0; k < told.size(); ++k) {
    CHECK(told[k]->numbers.id == findings[k].id);
    CHECK(told[k]->numbers.of == findings[k].of);
    CHECK(told[k]->claim == claim_of(findings[k]));
    CHECK(told[k]->advice == advice_for(findings[k]));
    CHECK(told[k]->whose.empty() == (findings[k].of == nullptr));
  }
}

TEST_CASE("cells keep their order and have a text a column; only a measured best one is marked") {
  const Record record = little_gained();
  const Analysed study = analyse(record);
  const StudyView view(study);
  REQUIRE(view.cells.size() == study.cells.size());
  int best = 0;
  for (std::size_t k = 0; k < view.cells.size(); ++k) {
    CHECK(view.cells[k].numbers == &study.cells[k]);
    CHECK(view.cells[k].texts.size() == 11);
    CHECK(view.cells[k].measured);
    best += view.cells[k].best ? 1 : 0;
  }
  CHECK(best <= 1);
  CHECK_FALSE(view.cells[3].best);
  CHECK(view.rounds.most == 12);
}

TEST_CASE("the sentence and the first claim are the same words in every form") {
  const LaneSums sums = test::sums_with({{LaneState::lock, 8}, {LaneState::imbalance, 1}});
  const Record record = test::record_with({sums, sums, sums}, 10, 30);
  const Analysed study = analyse(record);
  const StudyView view(study);
  const std::string json = nlohmann::json::parse(study_json(view)).at("headline");
  CHECK(json == view.sentence);
  for (const std::string& text : {result_text(view, Look(500)), table_text(view, Look()), explanation(view, Look())}) {
    CAPTURE(text);
    CHECK(contains(text, view.sentence));
  }
  REQUIRE(!view.explained.empty());
  REQUIRE(!view.explained.front().findings.empty());
  const FindingView& first = view.explained.front().findings.front();
  CHECK(first.numbers.id == "lock-wait");
  CHECK(first.share == "20 %");
  CAPTURE(first.claim);
  CHECK(contains(explanation(view, Look()), first.claim));
  const auto explained = nlohmann::json::parse(explanation_json(view));
  bool in_json = false;
  for (const auto& finding : explained.at("findings")) in_json = in_json || finding.at("claim") == first.claim;
  CHECK(in_json);
  // What is escaped there is made of the same words.
  CHECK(contains(markdown_text(view), markdown_escaped(view.sentence)));
  CHECK(contains(page_html(view), "<h1>"));
}
