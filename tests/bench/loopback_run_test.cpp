#include <algorithm>
#include <cmath>
#include <numeric>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/bench/loopback_run.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using io::WireState;

namespace {

constexpr int kQuantities = 30, kLines = 12;

/// Many channels of several forms, cabled one to one.
std::string bench_text() {
  std::string channels, cables, reads, writes;
  for (int i = 0; i < kQuantities; ++i) {
    const char* form =
        i % 3 == 0
            ? "range 0 m .. 10 m  as 4 mA .. 20 mA  limits 3.6 mA .. 21 mA  counts 0 .. 32000  word 16 bit signed"
        : i % 3 == 1 ? "range -5 m .. 5 m  counts -2000 .. 2000  word 12 bit signed"
                     : "counts 100 per m  word 10 bit";
    const char* back =
        i % 3 == 0 ? "range 0 % .. 100 %  as 4 mA .. 20 mA  limits 0 mA .. 22 mA  counts 0 .. 32000  word 16 bit signed"
        : i % 3 == 1 ? "range 0 % .. 100 %  counts 0 .. 4000  word 12 bit"
                     : "range -20 % .. 80 %";
    channels +=
        fmt::format("  sensor s{} {{ of 1 m  {}  every 10 ms {} }}\n", i, form, i % 7 == 0 ? "filter 30 ms" : "");
    channels += fmt::format("  actuator a{} : % {{ {} }}\n", i, back);
    cables += fmt::format("  s{0} -> a{0}\n", i);
    reads += fmt::format("{}s{}", reads.empty() ? "" : ", ", i);
    writes += fmt::format("{}a{}", writes.empty() ? "" : ", ", i);
  }
  for (int i = 0; i < kLines; ++i) {
    channels += fmt::format("  sensor l{0} {{ of true  every 10 ms }}\n  actuator b{0} : bool\n", i);
    cables += fmt::format("  l{0} -> b{0}\n", i);
    reads += fmt::format(", l{}", i);
    writes += fmt::format(", b{}", i);
  }
  return fmt::format(
      "bench B {{ step 10 ms\n{}  controller c {{ every 10 ms\n  reads {}\n  writes {}\n  setting x = library \"x\" "
      "}}\n}}\n"
      "cables all {{\n{}}}\n",
      channels, reads, writes, cables);
}

std::vector<io::WireFinding> walked(const std::shared_ptr<const program::Program>& p, const program::Wiring& wiring,
                                    std::uint64_t seed = 1) {
  bench::WiringPort port(*p, p->controllers[0], wiring, seed);
  const auto result = bench::run_loopback(p, 0, p->controllers[0], port, seed);
  REQUIRE(result);
  return result->findings;
}

}  // namespace

TEST_CASE("Faultless wires are good, whatever the channels are") {
  const auto p = program_of(bench_text());
  for (const io::WireFinding& f : walked(p, bench::faultless(*p, 0)))
    CHECK(io::wire_word(f.state) == std::string("good"));
}

TEST_CASE("Every kind of defect is named, among many others and for many seeds") {
  const auto p = program_of(bench_text());
  for (std::uint64_t seed = 1; seed <= 40; ++seed) {
    INFO("seed " << seed);
    RandomStream random(seed, "defects");
    program::Wiring wiring = bench::faultless(*p, 0);
    std::vector<WireState> expected(wiring.wires.size(), WireState::good);
    std::vector<double> factor(wiring.wires.size(), 1);
    std::vector<std::size_t> other(wiring.wires.size(), 0);
    for (std::size_t i = 0; i < wiring.wires.size(); ++i) {
      program::Wire& w = wiring.wires[i];
      const bool line = i >= kQuantities;
      switch (static_cast<int>(random.uniform() * 12)) {
        case 0:
          expected[i] = WireState::inverted;
          w.inverted = true;
          factor[i] = -1;
          break;
        case 1:
          w.stuck = line ? 1 : 0.4;
          expected[i] = WireState::dead;
          break;
        case 2:
          if (line) break;
          expected[i] = WireState::scaled;
          w.times = factor[i] = random.uniform() < 0.5 ? 0.5 + 0.4 * random.uniform() : 1.2 + random.uniform();
          break;
        case 3:
          if (line) break;
          expected[i] = WireState::noisy;
          w.noise = 0.05;
          break;
        case 4: {  // crossed with the next one, if both are of one kind and still whole
          const std::size_t k = i + 3;
          if (k >= wiring.wires.size() || (k >= kQuantities) != line || expected[i] != WireState::good) break;
          std::swap(w.actuator, wiring.wires[k].actuator);
          expected[i] = expected[k] = WireState::crossed;
          other[i] = k;
          other[k] = i;
          i = k;  // what lies between stays good
          break;
        }
        default:
          break;
      }
    }
    const auto found = walked(p, wiring, seed);
    for (std::size_t i = 0; i < found.size(); ++i) {
      INFO("cable " << i << ", expected " << io::wire_word(expected[i]));
      CHECK(io::wire_word(found[i].state) == std::string(io::wire_word(expected[i])));
      if (expected[i] == WireState::crossed) CHECK(found[i].other == other[i]);
      if (expected[i] == WireState::scaled || (expected[i] == WireState::inverted && i < kQuantities))
        CHECK(found[i].factor == Approx(factor[i]).epsilon(0.02));
    }
  }
}

TEST_CASE("A wire that is not there reads like nothing") {
  const auto p = program_of(bench_text());
  program::Wiring wiring = bench::faultless(*p, 0);
  for (const std::size_t i : {0, 4, 9, 35}) wiring.wires[i].actuator = program::kNone;
  const auto found = walked(p, wiring);
  for (std::size_t i = 0; i < found.size(); ++i) {
    const bool cut = i == 0 || i == 4 || i == 9 || i == 35;
    CHECK(io::wire_word(found[i].state) == std::string(cut ? "open" : "good"));
  }
}

TEST_CASE("Two sides that read one current in two ways are scaled against each other") {
  const auto p = program_of(R"(
bench B { step 10 ms
  sensor level { of 1 m  range 0 m .. 10 m  as 4 mA .. 20 mA  counts 0 .. 32000  word 16 bit  every 10 ms }
  actuator gap : % { range 0 % .. 100 %  as 0 mA .. 20 mA  counts 0 .. 32000  word 16 bit }
  controller c { every 10 ms  reads level  writes gap  setting x = library "x" }
}
cables plug { level -> gap })");
  const auto found = walked(p, bench::faultless(*p, 0));
  CHECK(found[0].state == WireState::scaled);
  CHECK(found[0].factor == Approx(0.8).epsilon(1e-3));
  CHECK(found[0].offset == Approx(0.2).epsilon(1e-3));
}

TEST_CASE("The levels of no two outputs are alike") {
  std::vector<std::vector<double>> lines;
  for (std::size_t i = 0; i < 2000; ++i) lines.push_back(io::levels_of(i, true, 0, 1));
  std::sort(lines.begin(), lines.end());
  CHECK(std::adjacent_find(lines.begin(), lines.end()) == lines.end());
  CHECK(io::levels_of(3, false, 0.5, 1) != io::levels_of(4, false, 0.5, 1));
  CHECK(io::levels_of(3, false, 0.5, 1)[2] == 0.5);
}

TEST_CASE("`io loopback` walks over a port to whatever is there") {
  const TestFolder folder;
  folder.write("bench.dyne", R"(
bench B { step 10 ms
  sensor level { of 1 m  range 0 m .. 10 m  counts 0 .. 1000  word 10 bit  every 10 ms }
  sensor other { of 1 m  range 0 m .. 10 m  every 10 ms }
  sensor wet   { of true  every 10 ms }
  actuator gap  : % { range 0 % .. 100 %  counts 0 .. 1000  word 10 bit }
  actuator fan  : % { range 0 % .. 100 % }
  actuator lamp : bool
  frame up   { words 1  bits from low  bytes from high
    field level bits 0 .. 9 of word 0
    spare       bits 10 .. 63 of word 0 }
  frame down { words 1  bits from low  bytes from high
    field gap   bits 0 .. 9 of word 0
    spare       bits 10 .. 63 of word 0 }
  controller plc { every 10 ms  reads up, other, wet  writes down, fan, lamp  setting device = library "plc" }
}
cables plug {
  level -> gap
  other -> fan
  wet   -> lamp
})");
  folder.write("plc.c", R"(
#include "plc_channels.h"
const isodyne_controller_info isodyne_info = PLC_INFO;
int isodyne_init(void **self, int64_t period_ns) { (void)period_ns; *self = 0; return 0; }
int isodyne_step(void *self, int64_t t, const plc_reads *r, plc_writes *w) {
  (void)self; (void)t;
  down_set_gap(&w->down, up_get_level(&r->up));
  w->fan = r->other / 10 * 0.75;
  w->lamp = !r->wet;
  return 0;
}
void isodyne_close(void *self) { (void)self; }
)");
  REQUIRE(run_isodyne("export header bench.dyne --out plc_channels.h", folder.path()).status == 0);
  const Output compiled =
      shell(fmt::format("{} -std=c11 -Wall -Wextra -Wpedantic -Werror -fPIC -shared -I{}/include -o "
                        "libplc.so plc.c",
                        ISODYNE_C_COMPILER, ISODYNE_SOURCE_FOLDER),
            folder.path());
  INFO(compiled.err);
  REQUIRE(compiled.status == 0);
  const Output output = run_isodyne("io loopback bench.dyne --setting device --json", folder.path());
  INFO(output.err);
  CHECK(output.status == 1);
  const auto j = nlohmann::json::parse(output.out);
  CHECK(j["over"] == "controller plc, setting device");
  CHECK(j["wires"][0]["state"] == "good");
  CHECK(j["wires"][1]["state"] == "scaled");
  CHECK(j["wires"][1]["factor"].get<double>() == Approx(0.75).epsilon(0.01));
  CHECK(j["wires"][2]["state"] == "inverted");
  CHECK(run_isodyne("io loopback bench.dyne --setting none", folder.path()).err.find("it has device") !=
        std::string::npos);
  CHECK(run_isodyne("io loopback bench.dyne plag", folder.path()).err.find("did you mean `plug`?") !=
        std::string::npos);
}

TEST_CASE("The plugs of the swing bridge are found to be wrong, each in its way") {
  const std::string bridge = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/swing-bridge/bridge.dyne";
  const auto states = [&](const std::string& wiring, int status) {
    const Output output = run_isodyne("io loopback " + bridge + " " + wiring + " --json");
    CHECK(output.status == status);
    std::string all;
    const auto j = nlohmann::json::parse(output.out);
    for (const auto& w : j["wires"]) all += w["state"].get<std::string>() + " ";
    return all;
  };
  CHECK(states("plug", 0) == "good good good good ");
  CHECK(states("first_plug", 1) == "inverted crossed crossed open ");
  CHECK(states("second_plug", 1) == "scaled good dead good ");
}
