// The examples with converters: the ferry that feeds the quay, and the link between a store and the quay's network.

#include <cmath>
#include <map>

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne::test;
using Json = nlohmann::json;

namespace {

/// A run of an example, and what its requirements are to come to.
struct ExampleRun {
  std::string words;
  std::vector<std::pair<std::string, std::string>> verdicts;
  std::string told;  ///< what it says beside that
};

/// Under the sanitizers the first only. Gives what each left in verdicts.json.
std::vector<Json> run_example(const std::string& bench, std::vector<ExampleRun> runs) {
  const TestFolder folder;
  std::vector<Json> left;
  if (kSanitized) runs.resize(1);
  for (const ExampleRun& run : runs) {
    const std::string name = "run" + std::to_string(left.size());
    const Output o = run_isodyne(
        "run " + kSource + "/examples/" + bench + " " + run.words + " --no-report --out " + name, folder.path());
    INFO(run.words << "\n" << o.out << o.err);
    CHECK(o.status <= 1);
    CHECK(has(o.out + o.err, run.told));
    left.push_back(Json::parse(slurp(folder / (name + "/verdicts.json"))));
    for (const auto& [requirement, verdict] : run.verdicts) {
      INFO(requirement);
      std::string said;
      for (const Json& r : left.back().at("requirements")) {
        if (r.at("name") == requirement) said = r.at("verdict");
      }
      CHECK(said == verdict);
    }
  }
  return left;
}

}  // namespace

TEST_CASE("The ferry feeds the quay as she should, and what is wrong with her is found") {
  const auto left = run_example(
      "shore-converter/shore.dyne",
      {{"feed",
        {{"SC-1", "held"}, {"SC-2", "held"}, {"SC-3", "held"}, {"SC-4", "held"}, {"SC-5", "held"}, {"SC-6", "held"}},
        ""},
       {"in_service --fault slow_driver", {{"SC-1", "broken"}}, ""},
       {"in_service --fault three_phases", {{"SC-7/three_phases", "held"}, {"SC-6", "held"}}, ""},
       {"in_service --fault earthed", {{"SC-7/earthed", "held"}}, ""},
       {"in_service --fault sag", {{"SC-7/sag", "held"}, {"SC-1", "held"}}, ""},
       {"from_steady", {{"SC-3", "held"}, {"SC-4", "held"}}, "It began settled: a steady state"}});
  if (kSanitized) return;
  // The fault begins at 300 ms; the next edge of that leg, within the period, is where both are on.
  const double at = left[1].at("requirements")[0].at("first_breach_s");
  CHECK(at > 0.3);
  CHECK(at < 0.30005);
}

TEST_CASE("The link of the quay is regulated, swings with numbers that are not right, and a late driver biases it") {
  const std::string settled = "It began settled: a steady state";
  run_example("quay-link/link.dyne",
              {{"hunting", {{"QL-1", "broken"}, {"QL-5", "held"}}, settled},
               {"regulated",
                {{"QL-1", "held"}, {"QL-2", "held"}, {"QL-3", "held"}, {"QL-4", "held"}, {"QL-6", "held"}},
                settled},
               {"regulated --fault late_driver", {{"QL-1", "held"}, {"QL-4", "broken"}}, settled},
               {"open_loop", {{"QL-3", "held"}, {"QL-4", "held"}, {"QL-6", "held"}}, settled}});
}

TEST_CASE("The launch makes her network, says with its frequency what is taken, and trips on a short") {
  const std::vector<std::pair<std::string, std::string>> good{{"BL-1", "held"}, {"BL-2", "held"}, {"BL-3", "held"},
                                                              {"BL-4", "held"}, {"BL-5", "held"}, {"BL-6", "held"},
                                                              {"BL-7", "held"}, {"BL-8", "held"}, {"BL-9", "held"}};
  run_example("battery-launch/launch.dyne",
              {{"voyage --fault bus_short", {{"BL-1", "held"}, {"BL-8", "held"}, {"BL-10/bus_short", "held"}}, ""},
               {"voyage", good, ""},
               {"late_return", good, ""},
               {"voyage --fault low_reading", {{"BL-10/low_reading", "held"}}, ""},
               {"voyage --fault dead_driver", {{"BL-7", "broken"}, {"BL-8", "held"}}, ""}});
}

TEST_CASE("A circuit is drawn with its elements, nodes and values, and says what there is to choose from") {
  const TestFolder folder;
  const std::string examples = kSource + "/examples/";
  const Output one = run_isodyne("draw " + examples + "quay-link/link.dyne dc --circuit --out dc.svg", folder.path());
  INFO(one.out << one.err);
  REQUIRE(one.status == 0);
  const std::string svg = slurp(folder / "dc.svg");
  for (const char* word : {"primary.one.high", "220 uF", "bus_out", "ground", "core 2", "62 turns", "dc of QuayLink",
                           "18 elements, 9 nodes"})
    CHECK(has(svg, word));
  CHECK(shell("xmllint --noout dc.svg", folder.path()).status == 0);
  // Faults that put something into the network are in its picture too.
  CHECK(run_isodyne("draw " + examples + "feeder-protection/protection.dyne --circuit --out f.png", folder.path())
            .status == 0);
  CHECK(run_isodyne("draw " + examples + "shore-converter/shore.dyne --circuit --out s.svg", folder.path()).status ==
        0);
  CHECK(has(slurp(folder / "s.svg"), "fault loose_plug"));
  const Output no = run_isodyne("draw " + examples + "shore-converter/shore.dyne hul --circuit", folder.path());
  CHECK(no.status != 0);
  CHECK(has(no.err, "circuits are in `hull`, `quay`"));
  const Output none = run_isodyne("draw " + examples + "canal-lock/lock.dyne --circuit", folder.path());
  CHECK(none.status != 0);
  CHECK(has(none.err, "there is no circuit in this bench"));
  CHECK(has(run_isodyne("draw " + examples + "quay-link/link.dyne dc", folder.path()).err, "add --circuit"));
  CHECK(has(run_isodyne("draw " + examples + "quay-link/link.dyne dc --circuit --out x.gif", folder.path()).err,
            "pictures are .svg, .png or .pdf"));
  folder.write("two.dyne",
               "use library \"circuits.dyne\"\nbench Two {\n  step 1 ms\n  node a, b : electric\n"
               "  part one : Resistor between a, ground\n  part two : Capacitor between a, ground\n"
               "  part three : Resistor between b, ground\n  part four : Capacitor between b, ground\n}\n");
  CHECK(has(run_isodyne("draw two.dyne --circuit", folder.path()).err, "it has 2 circuits"));
}

TEST_CASE("What a step of a network costs is told, in which combinations it was, and what was new in real time") {
  const TestFolder folder;
  folder.write("leg.dyne",
               "use library \"circuits.dyne\"\nbench Leg {\n  step 50 us\n  input on : bool = false\n"
               "  node a, b : electric\n  part s : VoltageSource between a, ground  step 1 us\n  s.voltage = 10 V\n"
               "  part k : Switch between a, b  step 1 us\n  k.close = on\n"
               "  part d : Diode between ground, b  step 1 us\n"
               "  part l : Inductor(inductance = 0.1 mH, resistance = 1 ohm) between b, ground  step 1 us\n}\n"
               "scenario go {\n  hold 10 ms\n  set on = true\n  hold 30 ms\n  set on = false\n  hold 20 ms\n}\n");
  const Output told = run_isodyne("profile leg.dyne go --json", folder.path());
  INFO(told.out << told.err);
  REQUIRE(told.status == 0);
  const Json network = Json::parse(told.out).at("networks").at(0);
  CHECK(network.at("steps") == 60'000);
  CHECK(network.at("made") == 2);  // closed; open while the diode goes on
  CHECK(network.at("forgotten") == 0);
  CHECK(network.at("mean_s") > 0);
  std::int64_t sum = 0;
  std::map<std::string, std::int64_t> steps;
  for (const Json& c : network.at("combinations")) {
    sum += c.at("steps").get<std::int64_t>();
    std::string on;
    for (const Json& name : c.at("on")) on += name.get<std::string>() + " ";
    steps[on] = c.at("steps");
  }
  CHECK(sum == 60'000);
  CHECK(steps.at("k ") == 30'000);
  // 10 A die away behind 0.7 V: L / R ln(1 + i R / v), of which the diode has a milliohm.
  CHECK(std::abs(double(steps.at("d ")) - 100 * std::log(1 + 10 * 1.001 / 0.7) / 1.001) <= 3);
  CHECK(steps.at("") == 30'000 - steps.at("d "));
  const Output table = run_isodyne("profile leg.dyne go", folder.path());
  CHECK(has(table.out, "made while it ran"));
  CHECK(has(table.out, "nothing conducts"));
  const Output paced = run_isodyne("run leg.dyne go --paced --no-report --out paced", folder.path());
  INFO(paced.out << paced.err);
  CHECK(has(paced.out + paced.err,
            "The network of `s` came into 2 combinations of its switches for the first time while it ran"));
}

TEST_CASE("Which sources go on within a step and which are held is listed") {
  const TestFolder folder;
  folder.write("two.dyne",
               "use library \"circuits.dyne\"\nbench Two {\n  step 1 ms\n  node a, b, c : electric\n"
               "  part smooth : VoltageSource between a, ground\n"
               "  smooth.voltage = 10 V * sin(2 * pi * 1 rad * 50 Hz * time)\n"
               "  part own : CurrentSource between b, ground\n  own.current = 1 mA / 1 V * r.v\n"
               "  part still : VoltageSource between c, ground\n  still.voltage = 5 V\n"
               "  part r : Resistor between a, b\n  part q : Resistor between b, c\n}\n");
  const Output o = run_isodyne("list two.dyne --timing --json", folder.path());
  INFO(o.out << o.err);
  const Json network = Json::parse(o.out).at("networks").at(0);
  CHECK(network.at("goes_on_within_a_step") == "smooth.voltage");
  CHECK(network.at("held_over_a_step") == "own.current");
  CHECK_FALSE(has(run_isodyne("list two.dyne --timing", folder.path()).out, "nothing is held"));
}

TEST_CASE("Converters are what an exact solution gives that shares nothing with the solver") {
  if (kSanitized) return;  // nothing but numbers, which the other build compares
  const TestFolder folder;
  const Output o =
      shell("/usr/bin/python3 -B " + kSource + "/scripts/exact_circuits.py " + std::string(ISODYNE_PROGRAM) + " 2",
            folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  CHECK(has(o.out, "quay link"));
  // The script's bounds are 2e-4 and 1e-3; what comes out lies far below.
  CHECK(has(o.out, "e-08 |"));
}
