#include <doctest/doctest.h>

#include <algorithm>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/analysis/findings.hpp"
#include "antcrew/base/printable.hpp"
#include "antcrew/report/findings.hpp"
#include "antcrew/report/internal/ledger_words.hpp"
#include "antcrew/report/table.hpp"
#include "support/command.hpp"
#include "support/records.hpp"

using namespace antcrew;
using namespace antcrew::layers;
using test::contains;

namespace {

bool is_ascii(const std::string& text) {
  for (const char c : text) {
    if (static_cast<unsigned char>(c) > 126) return false;
  }
  return true;
}

}  // namespace

TEST_CASE("without UTF-8 every line is as wide as it was, in ASCII alone") {
  Record record = test::record_of({test::cell_with("baseline", 1, std::vector<double>(9, 123e-6)),
                                   test::cell_with("größer 漢字 é", 2, {1e-6, 2e-6, 1.5e-6})});
  for (Cell& cell : record.cells) cell.tree_bytes = {5'000'000};
  const Analysed study = analyse(record);
  const std::string table = table_text(study, Look(100));
  const std::string plain = plain_signs(table);
  CHECK_FALSE(is_ascii(table));
  CHECK(is_ascii(plain));
  CHECK(contains(plain, "123 us"));
  std::size_t at = 0, plain_at = 0;
  while (at < table.size()) {
    const std::size_t end = table.find('\n', at), plain_end = plain.find('\n', plain_at);
    REQUIRE((end != std::string::npos && plain_end != std::string::npos));
    CHECK(display_width(table.substr(at, end - at)) == plain_end - plain_at);
    at = end + 1;
    plain_at = plain_end + 1;
  }
}

TEST_CASE("a ledger's bar is fifty signs in the shares of its parts, and names those of 5 % and more") {
  internal::LaneParts parts;
  parts[LaneState::running] = 2;
  parts[LaneState::imbalance] = 1.9;
  parts[LaneState::lock] = 0.1;
  const std::string text = ledger_bar(parts, 4);
  const std::string bar = text.substr(2, text.find('\n') - 2);
  CHECK(bar.size() == 50);
  CHECK(std::count(bar.begin(), bar.end(), '#') == 25);
  CHECK(std::count(bar.begin(), bar.end(), 'L') == 1);
  CHECK(contains(text, "# at work 50 %, ~ idle at the join 48 %"));
  CHECK_FALSE(contains(text, "at a lock"));
  CHECK(ledger_bar(parts, 0).empty());
}

TEST_CASE("a study with forty variants and names of eighty characters fits eighty columns") {
  std::vector<Cell> cells = {test::cell_with("baseline", 1, std::vector<double>(7, 1.0))};
  for (int v = 0; v < 40; ++v)
    cells.push_back(test::cell_with(std::string(76, 'n') + std::to_string(v), 2, std::vector<double>(7, 0.5)));
  const Record record = test::record_of(cells);
  const std::string table = table_text(analyse(record), Look(80));
  std::size_t at = 0;
  while (at < table.size()) {
    const std::size_t end = table.find('\n', at);
    CHECK(display_width(table.substr(at, end - at)) <= 80);
    at = end + 1;
  }
}
