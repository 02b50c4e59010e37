// The converter of the ferry: it connects, steps, trips where it must and nowhere else, and its gates are looked at to
// the nanosecond.

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne::test;
using Json = nlohmann::json;

TEST_CASE("The ferry feeds the quay as she should, and what is wrong with her is found") {
  const std::string bench = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/shore-converter/shore.dyne";
  const TestFolder folder;
  struct Case {
    const char* words;
    std::vector<std::pair<std::string, std::string>> verdicts;
  };
  std::vector<Case> cases = {
      {"feed",
       {{"SC-1", "held"}, {"SC-2", "held"}, {"SC-3", "held"}, {"SC-4", "held"}, {"SC-5", "held"}, {"SC-6", "held"}}},
      {"in_service --fault slow_driver", {{"SC-1", "broken"}}},
      {"in_service --fault three_phases", {{"SC-7/three_phases", "held"}, {"SC-6", "held"}}},
      {"in_service --fault earthed", {{"SC-7/earthed", "held"}}},
      {"in_service --fault sag", {{"SC-7/sag", "held"}, {"SC-1", "held"}}},
      {"from_steady", {{"SC-3", "held"}, {"SC-4", "held"}}}};
  if (kSanitized) cases.resize(1);
  for (std::size_t i = 0; i < cases.size(); ++i) {
    const std::string name = "run" + std::to_string(i);
    const Output o = run_isodyne("run " + bench + " " + cases[i].words + " --no-report --out " + name, folder.path());
    INFO(cases[i].words << "\n" << o.out << o.err);
    CHECK(o.status <= 1);
    const Json all = Json::parse(slurp(folder / (name + "/verdicts.json")));
    for (const auto& [requirement, verdict] : cases[i].verdicts) {
      INFO(requirement);
      std::string said;
      for (const Json& r : all.at("requirements")) {
        if (r.at("name") == requirement) said = r.at("verdict");
      }
      CHECK(said == verdict);
    }
    if (cases[i].words == std::string("in_service --fault slow_driver")) {
      // The fault begins at 300 ms; the next edge of that leg is 300 ns of overlap, within the period.
      const double at = all.at("requirements")[0].at("first_breach_s");
      CHECK(at > 0.3);
      CHECK(at < 0.30005);
    }
  }
}
