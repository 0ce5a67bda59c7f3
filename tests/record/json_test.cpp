// JSON as it is written, against a parser that is not ours, and what is refused.
#include "antcrew/record/json.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <limits>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <string>
#include <vector>

#include "antcrew/base/error.hpp"
#include "antcrew/record/record_json.hpp"

using antcrew::Json;

TEST_CASE("numbers are written short, read as what they were, and told from whole ones") {
  CHECK(Json(0.1).dump() == "0.1");
  CHECK(Json(3.0).dump() == "3.0");
  CHECK(Json(-0.0).dump() == "-0.0");
  CHECK(Json(1e-5).dump() == "1e-05");
  CHECK(Json(1.5e300).dump() == "1.5e+300");
  CHECK(Json(123456789012345.0).dump() == "123456789012345.0");
  CHECK(Json(std::numeric_limits<double>::infinity()).dump() == "null");
  CHECK(Json(std::numeric_limits<std::int64_t>::min()).dump() == "-9223372036854775808");
  CHECK(Json(std::numeric_limits<std::uint64_t>::max()).dump() == "18446744073709551615");
  std::mt19937_64 random(7);
  for (int k = 0; k < 20'000; ++k) {
    const std::uint64_t bits = random();
    double value = 0;
    static_assert(sizeof value == sizeof bits);
    __builtin_memcpy(&value, &bits, sizeof value);
    if (!std::isfinite(value)) continue;
    REQUIRE(nlohmann::json::parse(Json(value).dump()).get<double>() == value);
    REQUIRE(Json::parse(Json(value).dump()).get<double>() == value);
  }
}

TEST_CASE("any bytes make a text that another parser reads, escaped or not") {
  std::mt19937 random(7);
  for (int k = 0; k < 5'000; ++k) {
    std::string bytes(random() % 12, ' ');
    for (char& c : bytes) c = static_cast<char>(random() % 3 == 0 ? random() % 256 : 0xE0 + random() % 32);
    const auto plain = nlohmann::json::parse(Json(bytes).dump()).get<std::string>();
    REQUIRE(nlohmann::json::parse(Json(bytes).dump(-1, true)).get<std::string>() == plain);
    REQUIRE(Json::parse(Json(bytes).dump()).get<std::string>() == plain);
  }
  CHECK(Json("a\"\\\n\x01").dump() == "\"a\\\"\\\\\\n\\u0001\"");
}

TEST_CASE("objects keep their order, and a fault says where it is") {
  const Json json = Json::parse(R"({"b": 1, "a": [{"x": "word"}], "b": 2})");
  CHECK(json.dump() == R"({"b":2,"a":[{"x":"word"}]})");
  CHECK(json.dump(1) == "{\n \"b\": 2,\n \"a\": [\n  {\n   \"x\": \"word\"\n  }\n ]\n}");
  try {
    json.at("a").at(0).at("x").get<int>();
    FAIL("a word taken for a number");
  } catch (const antcrew::json::FieldError& error) {
    CHECK(std::string(error.what()) == "type must be number, but is string");
    CHECK(antcrew::json::path_in(json, error.at) == "/a/0/x");
  }
  CHECK(Json{{"one", 1}, {"two", {1, 2}}}.dump() == R"({"one":1,"two":[1,2]})");
  CHECK(Json(std::map<std::string, std::vector<bool>>{{"k", {true, false}}}).dump() == R"({"k":[true,false]})");
}

TEST_CASE("text that is no JSON is refused, also where it is nested without end") {
  CHECK_FALSE(Json::parsed("{\"a\": ").has_value());
  CHECK_FALSE(Json::parsed("").has_value());
  CHECK_FALSE(Json::parsed("1e999").has_value());
  CHECK_FALSE(Json::parsed(std::string(1'000'000, '[')).has_value());
  CHECK_THROWS_WITH_AS(antcrew::record_layer::record_from_json(std::string(1'000'000, '['), "deep.json"),
                       "deep.json: values in it are nested more than 1,000 deep; give a record that a study saved",
                       antcrew::Error);
  CHECK(Json::parsed(std::string(900, '[') + std::string(900, ']')).has_value());
}
