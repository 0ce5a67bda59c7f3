// The quick reader of JSON against the usual one: the same values, of the same kinds, and the same errors.
#include "antcrew/store/internal/quick_json.hpp"

#include <doctest/doctest.h>

#include <random>
#include <string>
#include <vector>

#include "antcrew/record/record_json.hpp"
#include "store/stored_runs.hpp"

using namespace antcrew;
using namespace antcrew::layers;

namespace {

void tell(const Json& value, std::string& told) {
  told += static_cast<char>('0' + static_cast<int>(value.kind()));
  if (value.is_array()) {
    for (const Json& one : value.items()) tell(one, told);
  } else if (value.is_object()) {
    for (const json::Member& one : value.members()) {
      told += one.name + ":";
      tell(one.value, told);
    }
  } else {
    told += value.dump();
  }
  told += ';';
}

std::string read(const std::string& text, json::Value (*parse)(std::string_view)) {
  std::string told;
  try {
    tell(parse(text), told);
  } catch (const json::SyntaxError& error) {
    told = error.what() + std::to_string(error.byte) + (error.out_of_range ? " out of range" : "");
  }
  return told;
}

bool same(const std::string& text) {
  const std::string quick = read(text, &internal::parse_quickly);
  const std::string usual = read(text, &Json::parse);
  CAPTURE(text.substr(0, 200));
  CAPTURE(quick);
  CAPTURE(usual);
  CHECK(quick == usual);
  return quick == usual;
}

}  // namespace

TEST_CASE("the quick reader of JSON gives the same value or the same error") {
  const auto nested = [](std::size_t deep) { return std::string(deep, '[') + std::string(deep, ']'); };
  for (const std::string& text :
       {std::string(),
        std::string(" "),
        std::string("\xEF\xBB\xBF[1]"),
        std::string("[1] 2"),
        std::string("nul"),
        std::string("{\"a\": "),
        std::string("[\"a\0b\"]", 7),
        std::string("[\"\\u0000\"]"),
        std::string("[0, -0, -0.0, 1e3, 1E+2, 9223372036854775807, 9223372036854775808, -9223372036854775808]"),
        std::string("[18446744073709551615]"),
        std::string("[18446744073709551616]"),
        std::string("[-9223372036854775809, 1]"),
        std::string("1e999"),
        std::string("-1e999"),
        std::string("[01]"),
        std::string("[1.]"),
        std::string("[.5]"),
        std::string("[1e]"),
        std::string("[+1]"),
        std::string("[5e-324, 2.2250738585072011e-308, 1e-400, 0.1, 123456789.123456789e-300]"),
        std::string("[NaN]"),
        std::string("[Infinity]"),
        std::string("['a']"),
        std::string("[1,]"),
        std::string(R"({"b": 1, "a": [{"x": "word"}], "b": 2})"),
        std::string(R"({"": {}, "c": [], "d": [[]]})"),
        std::string(R"(["\ud83d\ude00", "\ud83d", 1])"),
        std::string(R"(["\ude00"])"),
        std::string("[\"\xC3\x28\"]"),
        std::string("[\"\xED\xA0\x80\"]"),
        std::string("[\"a\tb\"]"),
        std::string(R"(["\/\b\f\n\r\t\\\""])"),
        std::string("// no\n[1]"),
        nested(999),
        nested(1000),
        nested(1001),
        nested(2000),
        std::string(5000, '[')}) {
    same(text);
  }
}

TEST_CASE("the quick reader of JSON agrees about damaged records") {
  const std::string whole = to_json(test::run_of("Tide heights"));
  REQUIRE(same(whole));
  constexpr std::string_view bits = "{}[],:\"\\0123456789.eE+-\x01\xC3 utfnl";
  std::mt19937 random(28);
  int agreed = 0;
  for (int k = 0; k < 3000; ++k) {
    std::string text = whole;
    for (std::size_t change = 1 + random() % 3; change > 0; --change) {
      const std::size_t place = random() % text.size();
      switch (random() % 4) {
        case 0:
          text[place] = bits[random() % bits.size()];
          break;
        case 1:
          text.erase(place, 1 + random() % 9);
          break;
        case 2:
          text.insert(place, 1, bits[random() % bits.size()]);
          break;
        default:
          text.insert(place, text.substr(random() % text.size(), random() % 40));
          break;
      }
      if (text.empty()) text = " ";
    }
    if (!same(text)) break;
    ++agreed;
  }
  CHECK(agreed == 3000);
}
