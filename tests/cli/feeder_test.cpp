// The protection of the transformer bank: what it must switch off and what it must leave alone, each by itself.

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne::test;
using Json = nlohmann::json;

namespace {

std::string verdict_of(const TestFolder& folder, const std::string& run, const std::string& requirement) {
  const Json all = Json::parse(slurp(folder / (run + "/verdicts.json")));
  for (const Json& r : all.at("requirements")) {
    if (r.at("name") == requirement) return r.at("verdict");
  }
  return "?";
}

}  // namespace

TEST_CASE(
    "The protection of the bank acts on what is inside, and on nothing else, but for the fault that it is known not to "
    "see") {
  const std::string bench = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/feeder-protection/protection.dyne";
  const TestFolder folder;
  const auto run = [&](const std::string& words, const std::string& name) {
    const Output o = run_isodyne("run " + bench + " " + words + " --no-report --out " + name, folder.path());
    INFO(words << "\n" << o.err);
    CHECK(o.status <= 1);
  };
  for (const char* inside : {"turns", "phase_ground", "windings"}) {
    if (kSanitized && inside != std::string("turns")) continue;
    run("in_service --fault " + std::string(inside), inside);
    CHECK(verdict_of(folder, inside, "FP-1/" + std::string(inside)) == "held");
    CHECK(verdict_of(folder, inside, "FP-2") == "held");
  }
  for (const char* outside : {"pumps_three", "pumps_one", "bus_one"}) {
    if (kSanitized && outside != std::string("pumps_three")) continue;
    run("in_service --fault " + std::string(outside), outside);
    CHECK(verdict_of(folder, outside, "FP-1/" + std::string(outside)) == "held");
    CHECK(verdict_of(folder, outside, "FP-2") == "not put to the test");
  }
  run("in_service", "healthy");
  CHECK(verdict_of(folder, "healthy", "FP-3") == "held");
  run("energise", "energise");
  CHECK(verdict_of(folder, "energise", "FP-1/energised") == "held");
  run("in_service --fault turn_ground", "turn_ground");
  CHECK(verdict_of(folder, "turn_ground", "FP-1/turn_ground") == "broken");
  // What a fault would put there is in no picture of the bench.
  REQUIRE(run_isodyne("draw " + bench + " --out feeder.svg", folder.path()).status == 0);
  const std::string picture = slurp(folder / "feeder.svg");
  CHECK(has(picture, "site"));
  CHECK_FALSE(has(picture, "turn_ground"));
  // The relay acts on the site without an actuator.
  CHECK(has(picture, "relay&#45;&gt;site"));
}
