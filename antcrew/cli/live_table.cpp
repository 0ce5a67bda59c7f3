#include "antcrew/cli/live_table.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <sstream>

#include "antcrew/analysis/analysed.hpp"
#include "antcrew/cli/exit.hpp"
#include "antcrew/machine/clock.hpp"
#include "antcrew/report/headline.hpp"
#include "antcrew/report/progress_table.hpp"

namespace antcrew::cli_layer {
namespace {

constexpr std::int64_t between_lines_ns = 100'000'000;
constexpr std::int64_t between_tables_ns = 500'000'000;
constexpr std::int64_t cost_factor = 250;

bool can_be_drawn_on() {
  const char* terminal = std::getenv("TERM");
  return terminal != nullptr && std::string(terminal) != "dumb" && *terminal != '\0';
}

}  // namespace

LiveTable::LiveTable(bool wanted) : on_(wanted && ::isatty(STDERR_FILENO) != 0), whole_(can_be_drawn_on()) {
  winsize size{};
  if (!on_ || ::ioctl(STDERR_FILENO, TIOCGWINSZ, &size) != 0) return;
  if (size.ws_col > 1) columns_ = size.ws_col - 1u;
  if (size.ws_row > 1) rows_ = size.ws_row;
}

void LiveTable::begin(const Record& frame) {
  if (!on_ || !whole_) return;
  record_ = frame;
  begun_ = true;
}

void LiveTable::add(const RecordStep& step) {
  if (!begun_) return;
  RecordStep copy = step;
  begun_ = apply(record_, std::move(copy));
}

std::string LiveTable::table_for(const Progress& progress) {
  const std::int64_t start = now_ns();
  if (!begun_ || start < next_table_ns_) return table_;
  const Analysed study = analyse(record_);
  // What is wider than the terminal would take two lines of it, and clearing would leave one behind.
  table_.clear();
  std::istringstream lines(progress_table(study, progress.point, Look(columns_), std::max<std::size_t>(rows_, 5) - 3));
  for (std::string line; std::getline(lines, line);) table_ += printable(line, columns_) + "\n";
  next_table_ns_ = now_ns() + std::max(between_tables_ns, cost_factor * (now_ns() - start));
  return table_;
}

void LiveTable::show(const Progress& p) {
  const std::int64_t now = now_ns();
  if (!on_ || now - shown_ns_ < between_lines_ns) return;
  std::string table = table_for(p);
  if (whole_ && !note_.empty()) table += printable(note_, columns_) + "\n";
  const std::string at = begun_ && p.point < record_.points.size() ? point_in_words(record_.points[p.point]) : "";
  std::string line = fmt::format("{:3.0f} %  {:.0f} s left  {}  {}, {} worker{}", p.share * 100, p.left_s,
                                 printable(at, 40), printable(p.variant, 40), p.workers, p.workers == 1 ? "" : "s");
  clear();
  lines_ = static_cast<std::size_t>(std::count(table.begin(), table.end(), '\n'));
  const std::string text = table + printable(line, columns_);
  std::fputs((takes_utf8() ? text : plain_signs(text)).c_str(), stderr);
  std::fflush(stderr);
  shown_ns_ = now;
}

void LiveTable::note(const std::string& text) {
  note_ = text;
}

void LiveTable::clear() {
  if (shown_ns_ == 0) return;
  std::fputs("\r", stderr);
  if (lines_ > 0) std::fprintf(stderr, "\033[%zuA", lines_);
  std::fputs(whole_ ? "\033[J" : "\033[K", stderr);
  std::fflush(stderr);
  shown_ns_ = 0;
  lines_ = 0;
}

}  // namespace antcrew::cli_layer
