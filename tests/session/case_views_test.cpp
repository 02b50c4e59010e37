// Looking into cases: against what is counted by hand.

#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/present/campaign_report.h"
#include "isodyne/session/case_views.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using session::CaseList;
using session::CaseResult;

namespace {

CaseResult one_case(std::int64_t number, const std::string& faults, double area, std::optional<double> margin) {
  CaseResult r;
  r.number = number;
  r.scenario = number % 2 == 0 ? "even" : "odd";
  r.faults = faults;
  r.setting = "code";
  r.values = {area};
  r.whole = true;
  session::SummaryRow row;
  row.name = "R-1";
  row.margin_unit = "cm";
  row.worst_margin = margin;
  row.answer = !margin ? judge::Answer::not_tested : *margin < 0 ? judge::Answer::broken : judge::Answer::held;
  r.rows.push_back(row);
  r.outcome = judge::answer_word(row.answer);
  return r;
}

session::CaseBookKey key() {
  session::CaseBookKey k;
  k.varied = {{"area", "m^2"}};
  return k;
}

std::vector<std::int64_t> numbers(const CaseList& list) {
  std::vector<std::int64_t> all;
  for (const CaseResult* r : list) all.push_back(r->number);
  return all;
}

}  // namespace

TEST_CASE("Cases are chosen, ordered and grouped by any of their columns") {
  const std::vector<CaseResult> all{one_case(1, "", 600, 2.5), one_case(2, "drift", 620.123456789, -1),
                                    one_case(3, "drift, slow", 640, -0.25), one_case(4, "slow", 660, std::nullopt),
                                    one_case(5, "slower", 1e-3, 0.5)};
  const CaseList list = session::list_of(all);
  const auto where = [&](const std::string& text) {
    const auto found = session::cases_where(key(), list, text);
    INFO(text << (found ? "" : found.failure().text()));
    REQUIRE(found);
    return numbers(*found);
  };
  using N = std::vector<std::int64_t>;
  CHECK(where("fault=slow") == N{3, 4});  // and not `slower`
  CHECK(where("fault = drift , fault=slow") == N{3});
  CHECK(where("fault=none") == N{1});
  CHECK(where("fault!=drift") == N{1, 4, 5});
  CHECK(where("area>620") == N{2, 3, 4});
  CHECK(where("area > 62000 dm^2, scenario=odd") == N{3});
  CHECK(where("area<=1000 mm^2") == N{5});
  CHECK(where("area = 620.123") == N{2});  // as it is printed
  CHECK(where("R-1=broken") == N{2, 3});
  CHECK(where("R-1.margin >= -0.25") == N{1, 3, 5});  // 4 has none, and is nowhere
  CHECK(where("R-1.margin != 0.5") == N{1, 2, 3});
  CHECK(where("R-1.margin < -2 mm") == N{2, 3});
  CHECK(where("case>=4, outcome=held") == N{5});
  for (const auto& [text, part] :
       {std::pair{"areas>3", "did you mean `area`?"}, std::pair{"area>3 s", "is no number in m^2"},
        std::pair{"scenario>odd", "not greater or less"}, std::pair{"broken", "is no condition"},
        std::pair{"", "is no condition"}, std::pair{"area>,", "is no number"}, std::pair{"R-2=held", "no column"}}) {
    const auto found = session::cases_where(key(), list, text);
    INFO(text);
    REQUIRE_FALSE(found);
    shows(found.failure().text(), part);
  }
  const auto sorted = [&](const std::string& by) {
    CaseList cases = list;
    const Status status = session::sort_cases(key(), cases, by);
    REQUIRE(status);
    return numbers(cases);
  };
  CHECK(sorted("area") == N{5, 1, 2, 3, 4});
  CHECK(sorted("area down") == N{4, 3, 2, 1, 5});
  CHECK(sorted("R-1.margin") == N{2, 3, 5, 1, 4});
  CHECK(sorted("R-1.margin down") == N{1, 5, 3, 2, 4});  // without a margin last, also then
  CaseList worst = list;
  session::worst_first(worst, "R-1");
  CHECK(numbers(worst) == N{2, 3, 5, 1, 4});
  const auto groups = session::groups_by(key(), list, "fault");
  REQUIRE(groups);
  std::string text;
  for (const auto& g : *groups) text += fmt::format("{} {}; ", g.name, g.cases.size());
  CHECK(text == "none 1; drift 2; slow 2; slower 1; ");
  // Near the edge: 3 is broken by the least, then 5.
  const auto near = session::nearness(all);
  double mean = (2.5 - 1 - 0.25 + 0.5) / 4, squares = 0;
  for (const double m : {2.5, -1.0, -0.25, 0.5}) squares += (m - mean) * (m - mean);
  CHECK(near.at(3).share == Approx(-0.25 / std::sqrt(squares / 4)));
  CHECK(std::isinf(near.at(4).share));
}

TEST_CASE("Many values of a number are grouped in equal parts of their range, each case in one") {
  std::vector<CaseResult> all;
  for (int i = 0; i <= 160; ++i) all.push_back(one_case(i + 1, "", 500 + i, 1));
  const auto groups = session::groups_by(key(), session::list_of(all), "area");
  REQUIRE(groups);
  REQUIRE(groups->size() == 8);
  CHECK((*groups)[0].name == "500 .. 520 m^2");
  std::size_t sum = 0;
  for (const auto& g : *groups) sum += g.cases.size();
  CHECK(sum == 161);
  CHECK((*groups)[7].cases.size() == 21);  // with the last
}

TEST_CASE("What explains breaches is the correlation ratio, and what is chance is nothing") {
  std::vector<CaseResult> all;
  // Broken: 9 of 10 with drift and 3 of 30 without; even and odd the same.
  for (int i = 0; i < 40; ++i) {
    const bool drift = i < 10;
    const bool broken = drift ? i != 0 : i % 10 == 5;
    all.push_back(one_case(i + 1, drift ? "drift" : "", 600 + (i * 7) % 40, broken ? -1 : 1));
  }
  CaseResult lost = one_case(41, "drift", 600, 1);  // no answer: does not count
  lost.whole = false;
  all.push_back(lost);
  const auto effects = session::effects(key(), session::list_of(all), "");
  REQUIRE(effects.size() >= 2);
  CHECK(effects[0].factor == "fault drift");
  const double mean = 12.0 / 40, total = 40 * mean * (1 - mean);
  const double between = 10 * (0.9 - mean) * (0.9 - mean) + 30 * (0.1 - mean) * (0.1 - mean);
  CHECK(effects[0].share == Approx((between - (total - between) / 38) / total));
  // Chi squared of the fourfold table: n (ad − bc)² / products of its margins; one degree of freedom: erfc.
  const double chi = 40.0 * std::pow(9 * 27 - 1 * 3, 2) / (10.0 * 30 * 12 * 28);
  CHECK(effects[0].chance == Approx(std::erfc(std::sqrt(chi / 2))));
  CHECK(effects[0].with == 9);
  CHECK(effects[0].of_with == 10);
  CHECK(effects[0].without == 3);
  CHECK(effects[0].of_without == 30);
  for (std::size_t i = 1; i < effects.size(); ++i) CHECK(effects[i].chance > 0.01);
  CHECK(session::effects(key(), {&all[1]}, "").empty());
}

TEST_CASE("The commands that look into cases say what they found, and a case is repeated as a run with all evidence") {
  const TestFolder folder;
  folder.write(
      "tank.dyne",
      "bench Tank {\n  step 10 ms  method rk4\n  input inflow : l/s = 2 l/s\n"
      "  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2\n  output state level : m = 0 m\n"
      "  level' = inflow / area\n}\nfault more { on inflow  times 2  from 3 s }\n"
      "measure middle { of level  mean }\nmeasure quarter { of level  mean  per 2500 ms }\n"
      "measure half { of level  rise_time to 50 mm  after level > 1 mm for 100 s }\n"
      "requirement high { always level <= 30 mm }\nscenario short { hold 10 s }\n"
      "campaign c { scenario short\n  fault none, more\n  vary area = 0.5 m^2, 0.8 m^2, 1 m^2, 2 m^2\n  keep none }\n");
  const std::string i = ISODYNE_PROGRAM;
  const Output o = shell(i + " campaign tank.dyne c", folder.path());
  INFO(o.out << o.err);
  REQUIRE(o.status == 1);
  const auto cases = [&](const std::string& words) {
    const Output said = shell(i + " cases campaigns/c.sqlite " + words, folder.path());
    INFO(words << said.out << said.err);
    CHECK(said.status == 0);
    return said.out;
  };
  // Without the fault 20 mm / area; with it 34 mm / area.
  shows(cases("why"), "fault more");
  shows(cases("--by area --requirement high"), "0.5 m^2      2     0       2");
  shows(cases("near 1"), "high     held       5 mm");  // case 2: 25 mm high
  shows(cases("worst 1"), "-38 mm");
  const std::string csv = cases("--where 'fault=more, area>1' --csv");
  shows(csv, "\n8,short,more,,2,held,1,,10,held,13.0000000000");
  CHECK(std::count(csv.begin(), csv.end(), '\n') == 2);
  shows(cases("--sort 'high.margin down' --csv"), "quarter missed\n4,short,,,2,");
  shows(cases("--where area=7"), "No case is so.");
  // Of a straight line of 2 mm/s its mean is half its end, and of the four quarters an eighth and seven of them.
  shows(cases("--case 3"), "middle           1    0.01 m    0.01 m               0");
  shows(cases("--case 3"), "quarter          4  0.0025 m  0.0175 m               0");
  shows(cases("--where 'middle.least > 12 mm, fault=none' --csv"), "\n1,short");
  CHECK(std::count(csv.begin(), csv.end(), '\n') == 2);
  shows(cases("--sort 'quarter.greatest down' --where fault=none"), "   1  broken");
  const Output again = shell(i + " cases campaigns/c.sqlite repeat 5 --out again", folder.path());
  INFO(again.out << again.err);
  CHECK(again.status == 1);
  shows(again.err, "The same as case 5, to the bit.");
  CHECK(std::filesystem::exists(folder / "again/report.html"));
  shows(slurp(folder / "again/verdicts.json"), "\"more\"");
  const auto list = nlohmann::json::parse(cases("--where 'fault=more, area>1' --json"));
  REQUIRE(list.size() == 1);
  CHECK(list[0]["case"] == 8);
  CHECK(list[0]["requirements"][0]["worst_margin"].get<double>() == Approx(13));
  CHECK(list[0]["measures"].size() == 3);
  // What no case could be is a slip; what none is, is not.
  shows(shell(i + " cases campaigns/c.sqlite --where fault=mroe", folder.path()).err, "did you mean `more`?");
  shows(cases("--where high=undecided"), "No case is so.");
  // The same seen from elsewhere; of another text it is not.
  CHECK(shell("mkdir other; cd other; " + i + " cases ../campaigns/c.sqlite repeat 4 --no-report", folder.path())
            .status == 0);
  folder.write("tank.dyne", slurp(folder / "tank.dyne") + "# changed\n");
  const Output changed = shell(i + " cases campaigns/c.sqlite repeat 5", folder.path());
  CHECK(changed.status == 2);
  shows(changed.err, "the bench is not the text that the cases are of");
  for (const char* wrong :
       {"repeat", "repeat 9", "repeat x", "why high more", "why low", "worst 0", "best", "--where x", "--by x",
        "--sort x", "repeat 5 --bench nowhere.dyne", "worst --csv", "why --json", "--csv --json", "--strict",
        "repeat 5 --where area=1", "--where fault=mroe", "--where high=brokn", "--requirement hihg"}) {
    INFO(wrong);
    CHECK(shell(i + " cases campaigns/c.sqlite " + wrong, folder.path()).status == 2);
  }
}

TEST_CASE("Cases without an answer are told apart wherever cases are counted, and are in no picture") {
  std::vector<CaseResult> all{one_case(1, "", 600, 2), one_case(2, "drift", 610, 3), one_case(3, "drift", 620, -1)};
  all[1].whole = false;  // it held as far as it went
  all[1].why = "diverged";
  CHECK_FALSE(session::is_answer(all[1]));
  all[2].whole = false;  // broken is broken
  CHECK(session::is_answer(all[2]));
  session::CaseBookKey k = key();
  k.bench = "B", k.campaign = "c", k.count = 3;
  k.factors = {{"scenario", {"odd", "even"}, 0, 0, {}},
               {"fault", {"none", "drift"}, 0, 0, {}},
               {"setting", {"code"}, 0, 0, {}},
               {"area", {}, 600, 620, {}}};
  const std::string html = present::campaign_html(k, all, "c.sqlite");
  shows(html, "2 cases did not come to the end");
  CHECK(has(html, "href=\"#case1\"><circle"));
  CHECK_FALSE(has(html, "href=\"#case2\"><circle"));
  CHECK(has(html, "href=\"#case3\"><path"));
  CHECK_FALSE(has(html, "case 2, held"));
  // Two results of a case differ in what they differ in.
  CaseResult other = all[0];
  CHECK(session::unlike(all[0], other).empty());
  other.rows[0].worst_margin = std::nextafter(2.0, 3.0);
  CHECK(session::unlike(all[0], other) == "R-1");
  other = all[0];
  other.simulated_s = 1;
  other.measures.push_back({"top", "m", 1, 0, 1.0, 1.0});
  CHECK(session::unlike(all[0], other) == "its end, measure top");
}
