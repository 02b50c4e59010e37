// The link of two bridges at 100 ns: regulated as it should be, swinging with wrong numbers, and biased by a late
// driver.

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne::test;
using Json = nlohmann::json;

TEST_CASE("The link of the quay is regulated, swings with numbers that are not right, and a late driver biases it") {
  const std::string bench = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/quay-link/link.dyne";
  const TestFolder folder;
  struct Case {
    const char* words;
    std::vector<std::pair<std::string, std::string>> verdicts;
  };
  std::vector<Case> cases = {
      {"hunting", {{"QL-1", "broken"}, {"QL-5", "held"}}},
      {"regulated", {{"QL-1", "held"}, {"QL-2", "held"}, {"QL-3", "held"}, {"QL-4", "held"}, {"QL-6", "held"}}},
      {"regulated --fault late_driver", {{"QL-1", "held"}, {"QL-4", "broken"}}},
      {"open_loop", {{"QL-3", "held"}, {"QL-4", "held"}, {"QL-6", "held"}}}};
  if (kSanitized) cases.resize(1);
  for (std::size_t i = 0; i < cases.size(); ++i) {
    const std::string name = "run" + std::to_string(i);
    const Output o = run_isodyne("run " + bench + " " + cases[i].words + " --no-report --out " + name, folder.path());
    INFO(cases[i].words << "\n" << o.out << o.err);
    CHECK(o.status <= 1);
    CHECK(has(o.out + o.err, "It began settled: a steady state"));
    const Json all = Json::parse(slurp(folder / (name + "/verdicts.json")));
    for (const auto& [requirement, verdict] : cases[i].verdicts) {
      INFO(requirement);
      std::string said;
      for (const Json& r : all.at("requirements")) {
        if (r.at("name") == requirement) said = r.at("verdict");
      }
      CHECK(said == verdict);
    }
  }
}
