#include <doctest/doctest.h>

#include <algorithm>

#include <nlohmann/json.hpp>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/base/units.hpp"
#include "antcrew/report/csv.hpp"
#include "antcrew/report/guard_text.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/markdown.hpp"
#include "antcrew/report/page.hpp"
#include "antcrew/report/table.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

const std::string hostile = "=cmd|'/C calc'!A0, \"q\" </script><script>alert(1)</script> | `x` & <img src=x onerror=y>";

Record small(const std::string& name) {
  return test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 1.0)),
                          test::cell_with(name, 2, {0.5, 0.51, 0.5, 0.49, 0.5, 0.5, 0.52, 0.5, 0.5})});
}

std::size_t count_of(const std::string& text, const std::string& part) {
  std::size_t count = 0;
  for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++count;
  return count;
}

// A reader by the RFC: fields of each line.
std::vector<std::vector<std::string>> parsed(const std::string& csv) {
  std::vector<std::vector<std::string>> rows(1, std::vector<std::string>(1));
  bool quoted = false;
  for (std::size_t k = 0; k < csv.size(); ++k) {
    const char c = csv[k];
    if (quoted) {
      if (c != '"') {
        rows.back().back() += c;
      } else if (k + 1 < csv.size() && csv[k + 1] == '"') {
        rows.back().back() += csv[++k];
      } else {
        quoted = false;
      }
    } else if (c == '"') {
      quoted = true;
    } else if (c == ',') {
      rows.back().emplace_back();
    } else if (c == '\r') {
      REQUIRE(csv[++k] == '\n');
      rows.emplace_back(1);
    } else {
      rows.back().back() += c;
    }
  }
  rows.pop_back();
  return rows;
}

}  // namespace

TEST_CASE("CSV: a row a cell, as many fields as heads, and no text that a spreadsheet would run") {
  Record record = small(hostile);
  record.points[0].dimensions["distinct"] = 100;
  const Analysed study = analyse(record);
  const auto rows = parsed(csv_text(cell_rows({{"a.json", &study}, {"b.json", &study}})));
  REQUIRE(rows.size() == 5);
  for (const auto& row : rows) CHECK(row.size() == rows[0].size());
  const auto column = [&](const char* head) {
    return static_cast<std::size_t>(std::find(rows[0].begin(), rows[0].end(), head) - rows[0].begin());
  };
  CHECK(rows[2][column("variant")] == "'" + hostile);
  CHECK(rows[2][column("workers")] == "2");
  CHECK(rows[2][column("dimension distinct")] == "100");
  CHECK(std::stod(rows[2][column("speedup")]) == doctest::Approx(2).epsilon(0.02));
  CHECK(rows[2][column("bounds_are")] == "95 % interval");
  CHECK(rows[1][column("speedup")].empty());  // the baseline has none
  CHECK(rows[4][column("record")] == "b.json");
  const auto trials = parsed(csv_text(trial_rows({{"a.json", &study}})));
  CHECK(trials.size() == 19);
  for (const auto& row : trials) CHECK(row.size() == trials[0].size());
  for (const char* text : {"=1+1", "+1", "-x", "@x"}) CHECK(csv_field(text) == std::string("\"'") + text + "\"");
  CHECK(csv_field("plain") == "plain");
  CHECK(csv_field("a,b") == "\"a,b\"");
  CHECK(csv_field("a\"b") == "\"a\"\"b\"");
}

TEST_CASE("fields between tabs: the same values, and no text that makes a border") {
  Rows rows{{"name", "time_s"}, {{"a\tb,c", 0.25}, {"=1", nullptr}}};
  CHECK(tsv_text(rows) == "name\ttime_s\na b,c\t0.25\n'=1\t\n");
}

TEST_CASE("Markdown: the sentence first, the table's figures as the terminal has them, names as text") {
  const Record record = small(hostile);
  const Analysed study = analyse(record);
  const std::string text = markdown_text(study);
  CHECK(text.rfind("**", 0) == 0);
  CHECK(contains(text, "2.00 (1.92 to 2.04)") == contains(table_text(study, Look()), "2.00 (1.92 to 2.04)"));
  CHECK_FALSE(contains(text, "<script>"));
  CHECK_FALSE(contains(text, " `x` "));
  // As many bars in each line of the table: a name cannot begin a column.
  std::size_t bars = 0;
  for (const std::size_t at : {text.find("\n| variant"), text.find("\n| =cmd"), text.find("\n| baseline")}) {
    REQUIRE(at != std::string::npos);
    const std::string line = text.substr(at + 1, text.find('\n', at + 1) - at - 1);
    const std::size_t here = count_of(line, "|") - count_of(line, "\\|");
    CHECK((bars == 0 || here == bars));
    bars = here;
  }
}

TEST_CASE(
    "page: one file that fetches nothing, with the sentence, the table and the figures, and names that stay text") {
  Record record = small(hostile);
  record.title = hostile;
  const Analysed study = analyse(record);
  const std::string page = page_html(study);
  CHECK(contains(page, "Content-Security-Policy"));
  CHECK(count_of(page, "'sha256-") == 4);
  CHECK_FALSE(contains(page, "<script>alert"));
  CHECK_FALSE(contains(page, "<img"));
  CHECK_FALSE(contains(page, "unsafe-"));
  CHECK(count_of(page, "<script>") == 3);
  CHECK(count_of(page, "</script>") == 4);
  CHECK(contains(page, "Permission is hereby granted"));
  const std::size_t from = page.find("id=\"study\">") + 11;
  const auto data = nlohmann::json::parse(page.substr(from, page.find("</script>", from) - from));
  CHECK(data["headline"] == headline(study));
  CHECK(data["cells"]["rows"].size() == 2);
  CHECK(data["title"] == hostile);  // text, in data
  // The table stands in the page itself, for those who run no scripts.
  const std::size_t table = page.find("<tbody>", page.find("id=\"cells\""));
  REQUIRE(table < from);
  const std::string body = page.substr(table, page.find("</tbody>", table) - table);
  CHECK(count_of(body, "<tr id=\"cell-") == 2);
  CHECK(contains(body, "&lt;/script&gt;"));
  CHECK(contains(body, "<td class=\"number\">2.0"));
  CHECK(data["trials"]["rows"].size() == 18);
  CHECK(page == page_html(study));
}

TEST_CASE("page: 60 cells of 30 rounds stay under 700 kB, 1,000 cells of 50 leave their trials out and say so") {
  const auto study_of = [](int cells, int rounds) {
    std::vector<Cell> all = {
        test::cell_with("baseline", 1, std::vector<double>(static_cast<std::size_t>(rounds), 1.0))};
    for (int c = 1; c < cells; ++c) {
      std::vector<double> times;
      for (int r = 0; r < rounds; ++r) times.push_back((1.0 + 0.01 * ((r * 7 + c) % 11)) / (1 + c % 8));
      all.push_back(test::cell_with("variant " + std::to_string(c / 8), 1 + c % 8, times));
    }
    return test::record_of(std::move(all));
  };
  const Record usual = study_of(60, 30);
  CHECK(page_html(analyse(usual)).size() < 700'000);
  const Record large = study_of(1000, 50);
  const std::string page = page_html(analyse(large));
  CHECK(contains(page, "The single trials are left out"));
  CHECK(page.size() < 3'000'000);
}

TEST_CASE("the page's first line ends where its sentence does, not inside a name") {
  const Record record = small("approx. sort");
  const std::string page = page_html(analyse(record));
  const std::size_t at = page.find("<h1>");
  REQUIRE(at != std::string::npos);
  const std::string first = page.substr(at, page.find("</h1>", at) - at);
  CHECK(contains(first, "&quot;approx. sort&quot; (ThreadCrew)"));
  CHECK(contains(first, "speedup"));
  CHECK(first.back() == '.');
}

TEST_CASE("what XML has no way to write is left out of a guard's report") {
  Record record = small("it");
  record.title = "Tides \x01\xEF\xBF\xBF& <heights>";
  const Analysed study = analyse(record);
  Requirements required;
  required.all_hold = true;
  const std::vector<const Analysed*> runs{&study};
  const std::string xml = guard_junit(guard(runs, required, nullptr), runs);
  CHECK(xml.find('\x01') == std::string::npos);
  CHECK(xml.find("\xEF\xBF\xBF") == std::string::npos);
  CHECK(contains(xml, "&amp; &lt;heights&gt;"));
}
