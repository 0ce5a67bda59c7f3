#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/conclusion.hpp"
#include "antcrew/log/phase.hpp"
#include "antcrew/record/record_json.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/grid.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/notes.hpp"
#include "antcrew/report/study_json.hpp"
#include "antcrew/report/table.hpp"
#include "antcrew/report/text.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::cell_with;
using test::contains;

namespace {

Record sample() {
  Record record = test::record_of({cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}),
                                   cell_with("split evenly over all", 1, {10.5, 10.4, 10.6, 10.5, 10.5, 10.4, 10.6}),
                                   cell_with("split evenly over all", 2, {5.2, 5.3, 5.1, 5.2, 5.25, 5.15, 5.2}),
                                   cell_with("never waited", 2, {1e-6, 1e-6, 1e-6, 1e-6, 1e-6, 1e-6, 1e-6})});
  record.cells[3].faults = {{Fault::Kind::wrong_answer, 1, "3 of 9 values differ"}};
  for (Trial& trial : record.cells[3].trials) trial.agreed = false;
  return record;
}

std::size_t widest(const std::string& text) {
  std::size_t widest = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    widest = std::max(widest, display_width(text.substr(at, end - at)));
    at = end + 1;
  }
  return widest;
}

}  // namespace

namespace {

std::string headline_of(const Record& record) {
  const Analysed study = analyse(record);
  return headline(study);
}

}  // namespace

TEST_CASE("a warning that many cells share is told of two, and how many more there are") {
  const auto table_with = [](std::size_t of) {
    const Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 2)),
                                           test::cell_with("split", 2, std::vector<double>(9, 1))});
    Analysed study = analyse(record);
    Finding rare;
    rare.id = "rare-long-calls";
    rare.of = &study.cells[1];
    rare.figures = {{"speedup_by_means", 1.2}, {"speedup", 2.0}};
    study.remarks.assign(of, rare);
    const std::string text = table_text(study, {});
    std::size_t told = 0;
    for (std::size_t at = text.find("by the mean of"); at != std::string::npos;
         at = text.find("by the mean of", at + 1))
      ++told;
    return std::pair{told, text.find("The same of 3 more") != std::string::npos};
  };
  CHECK(table_with(5) == std::pair{std::size_t{2}, true});
  CHECK(table_with(3) == std::pair{std::size_t{3}, false});
  CHECK(table_with(1) == std::pair{std::size_t{1}, false});
}

TEST_CASE("numbers with units") {
  CHECK(duration_text(1.2345) == "1.23 s");
  CHECK(duration_text(0.0123) == "12.3 ms");
  CHECK(duration_text(123.4e-6) == "123 µs");
  CHECK(duration_text(-5e-9) == "-5.00 ns");
  CHECK(duration_text(0.9996e-3) == "1.00 ms");
  CHECK(duration_text(3600) == "3600 s");
  CHECK(duration_text(Estimate{0.0123, 0.0119, 0.0131, 7, true}) == "12.3 ms (11.9 to 13.1)");
  CHECK(duration_text(Estimate{0.0123, 0.0122, 0.0124, 7, true}) == "12.3 ms (12.2 to 12.4)");
  CHECK(duration_text(Estimate{0.123456, 0.123451, 0.123461, 7, true}) == "123.456 ms (123.451 to 123.461)");
  CHECK(ratio_text({0.065, 0.022, 0.102, 7, true}) == "0.065 (0.022 to 0.102)");
  CHECK(ratio_text({2.91, 2.7, 3.1, 7, true}) == "2.9 (2.7 to 3.1)");
  CHECK(ratio_text({1.934, 1.92, 1.95, 7, true}) == "1.93 (1.92 to 1.95)");
  CHECK(ratio_text({0.012, 0.011, 0.013, 7, true}) == "0.012 (0.011 to 0.013)");
  CHECK(percent_text(0.957) == "96 %");
  CHECK(percent_text(-0.001) == "0 %");
  CHECK(count_text(1234567) == "1,234,567");
  CHECK(count_text(100) == "100");
  CHECK(bytes_text(1536) == "1.5 KiB");
  CHECK(display_width("µs × 2") == 6);
}

TEST_CASE("the sentence above the table says what was found, with its interval") {
  const Record record = sample();
  CHECK(headline(analyse(record)) ==
        "Best: \"split evenly over all\" (ThreadCrew) with 2 workers at size 1,000: speedup 1.92 (1.89 to 1.95), "
        "efficiency 96 %. Preliminary: not confirmed in fresh rounds.");
}

TEST_CASE("too few rounds look like few rounds") {
  CHECK(ratio_text({0.81, 0.81, 0.81, 1, false}) == "0.8, seen once");
  CHECK(ratio_text({0.81, 0.79, 0.83, 3, false}) == "0.81, seen 0.79–0.83");
  CHECK(duration_text(Estimate{0.0123, 0.0119, 0.0131, 4, false}) == "12.3 ms, seen 11.9–13.1");
  CHECK(duration_text(Estimate{0.0123, 0.0123, 0.0123, 1, false}) == "12.3 ms, seen once");
  const Record few = test::record_of({cell_with("baseline", 1, {10, 10}), cell_with("a", 2, {5, 5.2})});
  const std::string text = table_text(analyse(few), 0);
  CHECK(contains(text, "1.96, seen 1.92–2.00"));
  CHECK(contains(text, "too few"));
  CHECK(contains(text, "under 6 rounds no interval is claimed"));
  const auto json = nlohmann::json::parse(study_json(analyse(few)));
  CHECK(json.at("cells").at(1).at("verdict") == "too few rounds");
  CHECK(json.at("cells").at(1).at("speedup").contains("least_seen"));
  CHECK_FALSE(json.at("cells").at(1).at("speedup").contains("low"));
}

TEST_CASE("what there was no time for is told, with the budget that has it") {
  Record record = sample();
  record.left_out = {{LeftOut::What::rounds, 0, 131}, {LeftOut::What::confirming, 0, 160}};
  const std::string text = text_of(notes_of(analyse(record)));
  CHECK(contains(text, "  rounds at size 1,000: too few for intervals\n"));
  CHECK(contains(text, "  confirming the best in fresh rounds\n"));
  CHECK(contains(text, "A budget of about 160 s is enough for the missing figures (--budget 160)."));
  CHECK(text.find("--budget") == text.rfind("--budget"));  // one advice
  CHECK_FALSE(contains(text, "131"));
  // Never the one that was given, nor less.
  record.plan.budget_s = 160;
  CHECK(advised_budget_s(record) == doctest::Approx(180));
  CHECK(contains(text_of(notes_of(analyse(record))), "--budget 180"));
  // What the figures lack goes before looks and checks, however dear these are.
  record.left_out.push_back({LeftOut::What::metering, 0, 4000, 3});
  CHECK(advised_budget_s(record) == doctest::Approx(180));
  record.left_out = {record.left_out.back()};
  CHECK(advised_budget_s(record) == doctest::Approx(4000));
  record.left_out.clear();
  CHECK(advised_budget_s(record) == 0);
}

TEST_CASE("the sentence claims nothing that the figures do not carry") {
  const std::vector<double> ten(7, 10);
  const Record slower = test::record_of({cell_with("baseline", 1, ten), cell_with("a", 2, std::vector<double>(7, 20))});
  CHECK(contains(headline(analyse(slower)), "No variant is shown to beat the baseline"));
  const Record few = test::record_of({cell_with("baseline", 1, {10, 10}), cell_with("a", 2, {5, 5})});
  CHECK(contains(headline(analyse(few)), "Too few rounds to call"));
  CHECK(contains(headline(analyse(few)), "give it more time with --budget"));
  Record broken = sample();
  broken.cells.erase(broken.cells.begin() + 1, broken.cells.begin() + 3);
  CHECK(contains(headline(analyse(broken)), "No variant is valid"));
  const Record tied = test::record_of({cell_with("baseline", 1, ten), cell_with("a", 2, {5, 5.1, 5, 5.1, 5, 5.1, 5}),
                                       cell_with("b", 2, {5.1, 5, 5.1, 5, 5.1, 5, 5.05})});
  CHECK(contains(headline(analyse(tied)), "Among the best:"));
  CHECK(contains(headline(analyse(tied)), "Statistically indistinguishable from \"b\""));
}

TEST_CASE("the table shows no speedup for a wrong answer, and why") {
  const Record record = sample();
  const std::string text = table_text(analyse(record), 0);
  CHECK(
      contains(text, "wrong answer: \"never waited\" (ThreadCrew) with 2 workers at size 1,000: 3 of 9 values differ"));
  const std::size_t row = text.find("  never waited");
  REQUIRE(row != std::string::npos);
  const std::string line = text.substr(row, text.find('\n', row) - row);
  CHECK(contains(line, "wrong answer"));
  CHECK_FALSE(contains(line, "%"));
  CHECK_FALSE(contains(line, "10000000"));
}

TEST_CASE("the table's rows fit the terminal, giving up the least important columns first") {
  const Record record = sample();
  const Analysed study = analyse(record);
  for (const std::size_t width : {100u, 80u}) {
    CAPTURE(width);
    const std::string text = table_text(study, width);
    const std::size_t table = text.find("  variant");
    REQUIRE(table != std::string::npos);
    CHECK(widest(text) <= width);
    for (const char* head : {"variant", "workers", "time", "speedup", "efficiency", "verdict"})
      CHECK(contains(text, head));
    CHECK(contains(text, "Not shown at this width"));
  }
  CHECK(contains(table_text(study, 100), "overhead"));
  CHECK_FALSE(contains(table_text(study, 0), "Not shown at this width"));
}

TEST_CASE("on 100 columns every column that is promised is there, whatever the verdicts are") {
  Record record = sample();
  record.cells[1].faults = {{Fault::Kind::left_work, 1, "its work went on"}};
  record.cells[2].variant = record.cells[1].variant = "in chunks of 256";
  const std::string text = table_text(analyse(record), 100);
  const std::string heads = text.substr(text.find("  variant"), 100);
  for (const char* head : {"workers", "time", "speedup", "efficiency", "overhead", "busy", "verdict"})
    CHECK(contains(heads, head));
  CHECK(contains(text, "left work running: \"in chunks of 256\""));
}

TEST_CASE("derived figures as JSON, with units in the names and null for what does not exist") {
  const Record record = sample();
  const auto json = nlohmann::json::parse(study_json(analyse(record)));
  CHECK(json.at("title") == "Made by hand");
  CHECK(json.at("machine").at("usable_processors") == 4);
  const auto& best = json.at("cells").at(2);
  CHECK(best.at("variant") == "split evenly over all");
  CHECK(best.at("crew") == "ThreadCrew");
  CHECK(best.at("kind") == "variant");
  CHECK(best.at("workers") == 2);
  CHECK(best.at("size") == 1000);
  CHECK(best.at("verdict") == "holds");
  CHECK(best.at("time_s").at("median").get<double>() == doctest::Approx(5.2));
  CHECK(best.at("speedup").at("median").get<double>() == doctest::Approx(10 / 5.2));
  CHECK(best.at("efficiency").get<double>() == doctest::Approx(10 / 10.4));
  CHECK(best.at("overhead_s").get<double>() == doctest::Approx(0.4));
  CHECK(best.at("relative_overhead").get<double>() == doctest::Approx(0.04));
  CHECK(best.at("serial_fraction").get<double>() == doctest::Approx(-0.0095238));  // 0.04 over the baseline
  CHECK(best.at("serial_fraction_over") == "own time with one worker");
  CHECK(best.at("serial_fraction_interval").is_object());
  const auto& wrong = json.at("cells").at(3);
  CHECK(wrong.at("verdict") == "wrong answer");
  CHECK(wrong.at("speedup").is_null());
  CHECK(wrong.at("efficiency").is_null());
  CHECK(json.at("cells").at(0).at("kind") == "baseline");
}

TEST_CASE("work that nobody waited for is told, with the variant and how much of it") {
  Record record = sample();
  CHECK_FALSE(contains(text_of(notes_of(analyse(record))), "never awaited"));
  for (Trial& trial : record.cells[2].trials) trial.counters[internal::unwaited_work] = 3;
  const std::string text = text_of(notes_of(analyse(record)));
  const std::size_t at = text.find("Tasks started but never awaited");
  REQUIRE(at != std::string::npos);
  CHECK(contains(text.substr(at, 300), "\"split evenly over all\""));
  CHECK(contains(text.substr(at, 300), ": 3 per call"));
}

TEST_CASE("colours say what words say, and the table without them is the same") {
  const Record record = sample();
  const Analysed study = analyse(record);
  const std::string plain = table_text(study, 100);
  std::string coloured = table_text(study, Look(100, true));
  CHECK(contains(coloured, "\033[31mwrong answer\033[0m"));
  CHECK(contains(coloured, "\033[32mvalid"));
  for (std::size_t at = 0; (at = coloured.find('\033', at)) != std::string::npos;)
    coloured.erase(at, coloured.find('m', at) - at + 1);
  CHECK(coloured == plain);
}

TEST_CASE("efficiency per processor stands only where processors limit") {
  Record record = test::record_of({cell_with("baseline", 1, {10, 10, 10, 10, 10, 10, 10}),
                                   cell_with("waits", 64, {0.2, 0.2, 0.2, 0.2, 0.2, 0.2, 0.2}),
                                   cell_with("computes", 64, {2.6, 2.6, 2.6, 2.6, 2.6, 2.6, 2.6})});
  for (Trial& trial : record.cells[1].trials) trial.user_s = 0.01;
  for (Trial& trial : record.cells[2].trials) trial.user_s = 10;
  const Analysed study = analyse(record);
  const std::string text = table_text(study, 200);
  CHECK_FALSE(contains(text, "[1250 %]"));
  CHECK(contains(text, "[96 %]"));
}

TEST_CASE("a phase of one worker is told as such, and compared by its wall time") {
  Record record = sample();
  for (std::size_t cell : {0u, 2u}) {
    for (Trial& trial : record.cells[cell].trials) {
      trial.phases["merge"] = {2, 1, 2, 1};
      trial.phases["work"] = {8, cell == 0 ? 1 : 2, cell == 0 ? 8.0 : 4.0, cell == 0 ? 1 : 2};
    }
  }
  const Analysed study = analyse(record);
  CHECK(contains(text_of(notes_of(study)), "merge alone 1 (one worker at a time), work alone 2; the whole"));
}

TEST_CASE("an unoptimised build, and one with a sanitizer, say so first") {
  Record record = sample();
  record.build.optimised = false;
  CHECK(headline_of(record).rfind("Built without optimisation, so these times say nothing", 0) == 0);
  record.build.sanitizers = "address";
  CHECK(headline_of(record).rfind("Built with a sanitizer", 0) == 0);
}

TEST_CASE("a record from outside brings no control characters, and long names are cut") {
  Record record = sample();
  record.title = "Tide\x1b[2J\n heights \xff";
  record.cells[1].variant = record.cells[2].variant = std::string(500, 'x');
  const Record read = record_from_json(to_json(record), "here");
  const Analysed study = analyse(read);
  const std::string text = table_text(study, 100);
  CHECK(text.find('\x1b') == std::string::npos);
  CHECK(contains(text, "Tide [2J  heights \xEF\xBF\xBD"));
  CHECK(contains(text, std::string(39, 'x') + "…"));
  CHECK_FALSE(contains(text, std::string(100, 'x')));
}

TEST_CASE("speedup to a read answer, of the first call, and what is kept on purpose") {
  Record record = sample();
  for (Trial& trial : record.cells[0].trials) trial.compare_s = 0.1;
  for (Trial& trial : record.cells[2].trials) trial.compare_s = 1.1;
  record.cells[0].cold_s = {12};
  record.cells[2].cold_s = {24};
  record.cells[2].keeps = "the plan";
  const Analysed study = analyse(record);
  CHECK(*study.cells[2].read_speedup == doctest::Approx(10 / 6.2));
  CHECK(*study.cells[2].first_speedup == doctest::Approx(0.5));
  const std::string notes = text_of(notes_of(study));
  CHECK(contains(notes, "speedup to a read answer 1.6, to the return of the call 1.9"));
  CHECK(
      contains(notes, "keeps the plan; its first call takes 24.0 s, later ones 5.20 s; speedup of the first call 0.5"));
}

TEST_CASE("what was not checked for want of time is said") {
  Record record = sample();
  record.left_out = {{LeftOut::What::checks, 0, 130, 3}, {LeftOut::What::confirming, 0, 0, 0}};
  const Analysed study = analyse(record);
  CHECK(contains(text_of(notes_of(study)), "another input for 3 cells at size 1,000\n"));
  CHECK(contains(text_of(notes_of(study)), "A budget of about 130 s is enough (--budget 130)."));
  CHECK_FALSE(contains(text_of(notes_of(study)), "--budget 0"));
}

TEST_CASE("an explanation begins with what was found, and its largest loss comes first, with what to try") {
  Record record = test::record_of(
      {cell_with("baseline", 1, {28, 28, 28, 28, 28, 28, 28}), cell_with("planted", 4, {10, 10, 10, 10, 10, 10, 10})});
  internal::LaneSums sums;
  sums.wall_s = 10;
  sums.lanes = 4;
  sums.parts_s[internal::LaneState::serial] = 4;
  sums.parts_s[internal::LaneState::serial_wait] = 12;
  sums.parts_s[internal::LaneState::lock] = 3;
  sums.parts_s[internal::LaneState::running] = 21;
  sums.serial_cpu_s = 4;
  sums.cpu_frames_s = sums.cpu_tree_s = 25;
  sums.serials = {{"tides.cpp:41", "", "merge\x1b[2J", 4, 1}};
  sums.locks = {{"map", 7, 3, 20, 2}};
  sums.slowdown = 0.012;
  record.cells[1].metered = {sums, sums, sums};
  const Analysed study = analyse(record);
  const std::string text = explanation(study, Look());
  CHECK(text.find("Made by hand") == 0);
  const std::size_t serial = text.find("1. 30 %: ");
  const std::size_t lock = text.find("2. 8 %: ");
  REQUIRE(serial != std::string::npos);
  REQUIRE(lock != std::string::npos);
  CHECK(serial < lock);
  CHECK(contains(text, "phase 'merge"));
  CHECK(contains(text, "Try: make this stretch a loop of the crew"));
  CHECK(contains(text, "Without it speedup 4 at most"));
  CHECK(contains(text, "slowed it by 1.2 %"));
  CHECK(text.find('\x1b') == std::string::npos);
  CHECK(contains(table_text(study, 0), "30 %: 4.00 s of a call runs on one worker"));
  CHECK(!cannot_explain(study));

  const auto json = nlohmann::json::parse(explanation_json(study));
  CHECK(json["findings"][0]["id"] == "sequential-stretch");
  CHECK(json["findings"][0]["class"] == "loss");
  CHECK(json["findings"][0]["share"].get<double>() == doctest::Approx(0.3));
  CHECK(json["ledgers"].size() == 3);
  double parts = 0;
  for (const auto& part : json["ledgers"][0]["parts_s"]) parts += part.get<double>();
  CHECK(parts == doctest::Approx(40));
  double losses = json["ledgers"][0]["unattributed_s"];
  for (const auto& loss : json["ledgers"][0]["losses"]) losses += loss["loss_s"].get<double>();
  CHECK(losses == doctest::Approx(40 - 28));

  record.cells[1].metered.clear();
  const Analysed without = analyse(record);
  CHECK(contains(explanation(without, Look()), "is not told"));
  CHECK(cannot_explain(without));
}

TEST_CASE("metered calls come back from a record's file as they were, to six digits") {
  Record record = sample();
  internal::LaneSums sums;
  sums.wall_s = 1.25;
  sums.lanes = 3;
  sums.parts_s[internal::LaneState::no_work] = 0.5;
  sums.slowdown = 0.01;
  sums.withheld = "because";
  sums.delay_known = false;
  sums.by_place = {
      {"a.cpp:1", "even", 3, 9, 6, 1, 1, 2, 0.5, 0.25, 0, 0.5, {0.1, 0.1, 0.1, 0.1, 0.1}, 1, 2, 1, 0.5, 1, 1}};
  sums.locks = {{"map", 1, 2, 3, 4}};
  sums.phases["merge"][internal::LaneState::serial] = 0.125;
  record.cells[1].metered = {sums};
  const std::string text = to_json(record);
  const Record again = record_from_json(text, "here");
  CHECK(again.cells[1].metered == record.cells[1].metered);
  CHECK(again.cells[0].metered.empty());
}
