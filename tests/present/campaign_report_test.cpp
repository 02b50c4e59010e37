// The report about a campaign: what it says is what is in the cases, whatever their names are.

#include <cmath>
#include <regex>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/present/campaign_report.h"
#include "isodyne/present/dot_chart.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using session::CaseResult;

namespace {

std::vector<CaseResult> many_cases(std::int64_t count) {
  std::vector<CaseResult> all;
  for (std::int64_t n = 1; n <= count; ++n) {
    CaseResult r;
    r.number = n;
    r.scenario = "s<1>";
    r.faults = n % 3 == 0 ? "drift" : n % 3 == 1 ? "" : "drift, slow";
    r.values = {static_cast<double>(n)};
    r.whole = n != 2;
    r.why = n == 2 ? "`x` & <script>alert(1)</script>" : "";
    r.command = fmt::format("isodyne run b.dyne s --with x={}", n);
    session::SummaryRow row;
    row.name = "R-\"1\"";
    row.margin_unit = "m";
    row.worst_margin = static_cast<double>(n) - 5.5;
    row.answer = *row.worst_margin < 0 ? judge::Answer::broken : judge::Answer::held;
    row.tests = 1;
    r.outcome = judge::answer_word(row.answer);
    r.rows.push_back(row);
    all.push_back(r);
  }
  return all;
}

session::CaseBookKey some_key(std::int64_t count) {
  session::CaseBookKey key;
  key.bench = "Tank & <b>", key.campaign = "nightly", key.meanings = {{"R-\"1\"", "It <holds>."}}, key.seed = "7", key.count = count;
  key.varied = {{"x", "m"}};
  key.factors = {{"scenario", {"s<1>"}, 0, 0, {}},
                 {"fault", {"none", "drift", "drift, slow"}, 0, 0, {}},
                 {"setting", {""}, 0, 0, {}},
                 {"x", {}, 1, static_cast<double>(count), {}}};
  return key;
}

std::size_t count_of(const std::string& text, const std::string& part) {
  std::size_t count = 0;
  for (std::size_t at = 0; (at = text.find(part, at)) != std::string::npos; at += part.size()) ++count;
  return count;
}

}  // namespace

TEST_CASE("The report about a campaign has every case, its verdicts, and nothing of names that is HTML") {
  const std::string html = present::campaign_html(some_key(40), many_cases(20), "c.sqlite");
  CHECK_FALSE(has(html, "<script>alert"));
  shows(html, "&lt;script&gt;alert(1)");
  shows(html, "Tank &amp; &lt;b&gt;: campaign nightly");
  shows(html, "5 of 20 cases are broken");
  shows(html, "The campaign has 40 cases; of 20 nothing is known.");
  shows(html, "1 case did not come to the end");
  shows(html,
        "<td class=\"n\">15</td><td class=\"n\">5</td><td class=\"n\">0</td><td class=\"n\">0</td><td class=\"n\">-4.5 "
        "m</td>");
  for (int n = 1; n <= 20; ++n) CHECK(count_of(html, fmt::format("<tr id=\"case{}\">", n)) == 1);
  // Each point of the scatter leads to its case; what is broken is a cross.
  CHECK(count_of(html, "<a href=\"#case17\"><circle") == 1);
  CHECK(count_of(html, "<a href=\"#case4\"><path") == 1);
  CHECK(count_of(html, "<circle") == 15);
  // Worst of the faults: none has case 1, drift alone 3.
  shows(html, "none, R-&quot;1&quot;: case 1, broken");
  shows(html, "drift, R-&quot;1&quot;: case 3, broken");
}

TEST_CASE("A report about very many cases shows those nearest the edge, and says how many it does not") {
  const std::string html = present::campaign_html(some_key(5000), many_cases(5000), "c.sqlite");
  shows(html, "The 2000 nearest the edge of 5000");
  shows(html, "Of so many points 3500 are not drawn: those with the greatest margins.");
  CHECK(has(html, "<tr id=\"case2000\">"));
  CHECK_FALSE(has(html, "<tr id=\"case2001\">"));
  CHECK_FALSE(has(html, "#case2001\""));
  CHECK(html.size() < 3'000'000);
}

TEST_CASE("Points of a chart are where their numbers say") {
  present::DotChart chart{
      "x", "y", {{0, 0, false, "a", ""}, {10, 5, true, "b", ""}, {5, 2.5, false, "c", ""}}, false, 0.0, {}, {}};
  const std::string svg = present::svg_of(chart);
  std::smatch first, second;
  const std::regex circle("<circle cx=\"([0-9.]+)\" cy=\"([0-9.]+)\" r=\"3\"[^>]*><title>a</title>");
  const std::regex middle("<circle cx=\"([0-9.]+)\" cy=\"([0-9.]+)\" r=\"3\"[^>]*><title>c</title>");
  REQUIRE(std::regex_search(svg, first, circle));
  REQUIRE(std::regex_search(svg, second, middle));
  // A range of 0 to 10 with 4 % on each side, from 62 to 390; of 0 to 5 from 218 up to 10.
  CHECK(std::stod(first[1]) == Approx(62 + 0.04 / 1.08 * 328).margin(0.06));
  CHECK(std::stod(first[2]) == Approx(218 - 0.04 / 1.08 * 208).margin(0.06));
  CHECK(std::stod(second[1]) == Approx((62 + 390) / 2.0).margin(0.06));
  CHECK(std::stod(second[2]) == Approx((218 + 10) / 2.0).margin(0.06));
  CHECK(present::round_numbers(0, 10, 5) == std::vector<double>{0, 2, 4, 6, 8, 10});
  CHECK(present::round_numbers(-0.13, 0.14, 5).size() == 5);
  CHECK(present::round_numbers(3, 3, 5).empty());
  CHECK(present::round_numbers(0, HUGE_VAL, 5).empty());
}
