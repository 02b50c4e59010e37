// JSON of others: what is no whole number, or does not fit, is refused instead of made into something.

#include "isodyne/core/json.h"

#include <limits>

#include <catch2/catch.hpp>

using namespace isodyne;

TEST_CASE("Whole numbers of JSON are whole, and fit") {
  const auto read = [](const char* text) { return *parse_json(text); };
  CHECK(read("12").get<std::int64_t>() == 12);
  CHECK(read("-3").get<int>() == -3);
  CHECK(read("3.0").get<int>() == 3);
  CHECK(read("9223372036854775807").get<std::int64_t>() == std::numeric_limits<std::int64_t>::max());
  CHECK(read("18446744073709551615").get<std::uint64_t>() == std::numeric_limits<std::uint64_t>::max());
  for (const char* wrong : {"1.18447e+20", "-1e300", "2.5", "18446744073709551615", "9223372036854775808", "true",
                            "\"3\"", "null", "[3]", "99999999999999999999999999"}) {
    INFO(wrong);
    CHECK_THROWS_WITH(read(wrong).get<std::int64_t>(), Catch::Contains("there must be a whole number that fits"));
  }
  CHECK_THROWS(read("2147483648").get<int>());
  CHECK_THROWS(read("-1").get<std::uint64_t>());
  CHECK_THROWS(read("[1, 1e20]").get<std::vector<std::int64_t>>());
  // What is no whole number is as ever.
  CHECK(read("1e300").get<double>() == 1e300);
  CHECK(read("true").get<bool>());
  CHECK(read("[1.5, 2]").get<std::vector<double>>() == std::vector<double>{1.5, 2});
}
