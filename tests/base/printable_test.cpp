#include "antcrew/base/printable.hpp"

#include <doctest/doctest.h>

using namespace antcrew;
using namespace antcrew::layers;

TEST_CASE("no control character and no broken UTF-8 gets through") {
  CHECK(printable("depth at low tide") == "depth at low tide");
  CHECK(printable("a\x1b[31mb\r\nc\td\x7f") == "a [31mb  c d ");
  CHECK(printable("\xC2\x9B"
                  "2J") == " 2J");                                             // a control of eight bits
  CHECK(printable("x\xFFy\xC3") == "x\xEF\xBF\xBDy\xEF\xBF\xBD");              // not UTF-8, and cut off
  CHECK(printable("\xC0\xAF") == "\xEF\xBF\xBD\xEF\xBF\xBD");                  // overlong
  CHECK(printable("\xED\xA0\x80") == "\xEF\xBF\xBD\xEF\xBF\xBD\xEF\xBF\xBD");  // a surrogate
  CHECK(printable("\xE2\x80\xAEgauge") == "gauge");                            // turns the direction of writing
  CHECK(printable("Rücklauf – 水位") == "Rücklauf – 水位");
}

TEST_CASE("long texts are cut by columns, not by bytes") {
  CHECK(printable("gauges", 6) == "gauges");
  CHECK(printable("gauges!", 6) == "gauge…");
  CHECK(printable("Rückläufe", 5) == "Rück…");
  CHECK(printable("水位水位", 5) == "水位…");
  CHECK(display_width(printable("水位水位水位", 8)) <= 8);
  CHECK(display_width("水位") == 4);
  CHECK(display_width("e\xCC\x81") == 1);  // a combining mark
}

TEST_CASE("the last line that says something, past rules and blanks") {
  CHECK(last_saying_line("first\nno leave to run\n-----\n\n") == "no leave to run");
  CHECK(last_saying_line("one line") == "one line");
  CHECK(last_saying_line("\xc3\xa4\n====") == "\xc3\xa4");
  CHECK(last_saying_line("***\n---\n") == "---");
  CHECK(last_saying_line(" \n\n") == "");
  CHECK(last_saying_line("") == "");
}
