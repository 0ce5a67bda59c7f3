#include "antcrew/base/units.hpp"

#include <doctest/doctest.h>

#include "antcrew/base/error.hpp"
#include "antcrew/base/range.hpp"

using namespace antcrew;
using namespace antcrew::layers;

TEST_CASE("counts with every suffix that is offered") {
  CHECK(parse_count("250", "x") == 250);
  CHECK(parse_count("10k", "x") == 10'000);
  CHECK(parse_count("2M", "x") == 2'000'000);
  CHECK(parse_count("1.5G", "x") == 1'500'000'000);
  CHECK(parse_count("64Ki", "x") == 65'536);
  CHECK(parse_count("1e6", "x") == 1'000'000);
  CHECK(parse_count("10'000", "x") == 10'000);
  CHECK(parse_counts("1, 2,4k", "x") == std::vector<std::size_t>{1, 2, 4000});
}

TEST_CASE("a count that cannot be read names the option, the text and what to write") {
  for (const char* bad : {"", "abc", "10q", "-3", "1.5", "1e30", "nan", "inf", "10 k", "0x10", "1e400"}) {
    CAPTURE(bad);
    try {
      parse_count(bad, "--sizes");
      FAIL("accepted");
    } catch (const Error& error) {
      const std::string text = error.what();
      CHECK(error.kind() == Error::Kind::bad_input);
      CHECK(error.id() == "units.count");
      CHECK(text.find("--sizes: '" + std::string(bad) + "'") == 0);
      CHECK(text.find("write a whole number") != std::string::npos);
      CHECK(text.find('\n') == std::string::npos);
    }
  }
  CHECK_THROWS_AS(parse_counts("", "x"), Error);
  CHECK_THROWS_AS(parse_counts("1,,2", "x"), Error);
  CHECK_THROWS_AS(parse_counts("1,2,", "x"), Error);
}

TEST_CASE("even parts cover every index once, in order, and differ by one at most") {
  for (const std::size_t n : {0u, 1u, 7u, 64u, 1001u}) {
    for (const std::size_t parts : {1u, 2u, 3u, 16u, 100u}) {
      std::size_t next = 0;
      for (std::size_t k = 0; k < parts; ++k) {
        const Range part = even_part(n, parts, k);
        CHECK(part.first == next);
        CHECK(part.size() >= n / parts);
        CHECK(part.size() <= n / parts + 1);
        next = part.last;
      }
      CHECK(next == n);
    }
  }
}

TEST_CASE("an error is one line even when it quotes several") {
  const Error error(Error::Kind::bad_input, "a.b", "two\nlines", "file\tname", "do this");
  CHECK(std::string(error.what()) == "file name: two lines; do this");
}
