// Gates and vectors through the whole program: one controller as a library in C, a program in Python and a part, and
// the wrong answers that a controller can give.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/record/recording.h"
#include "ports/peers.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const char* const kBench = R"(use library "circuits.dyne"
model Hull {
  terminal earth : electric
  input gate : gate[2]
  node plus : electric
  node out : electric[2]
  part s : VoltageSource between plus, earth
  s.voltage = 100 V
  part high[2] : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between plus, out[index]
  part low[2] : Transistor(resistance = 0.001 mohm, open_resistance = 1e6 Mohm) between out[index], earth
  part choke[2] : Inductor(inductance = 1 mH) between out[index], earth
  high[*].gate = gate
  low[*].gate = [not gate[1], not gate[2]]
}
model Drive {
  input i : A[2]
  input go : bool
  output g : gate[2]
  output seen : A[2]
  part wave[2] : Modulator(frequency = 20 kHz, carrier = rising, update = at_once, dead_time = 0 us)
  wave[1].reference = -0.26
  wave[2].reference = 0.5
  wave[*].enable = true
  g = [wave[1].upper, not wave[2].upper]
  seen = i
}
bench Pulses {
  step 50 us
  part hull : Hull at ground step 1 us
  hull.gate = g
  input go : bool = true
  actuator g : gate[2] { clock 5 ns  latency 100 ns  start false }
  sensor i { of hull.choke[*].i  every 50 us }
  controller drive {
    every 50 us
    reads i, go
    writes g, seen : A[2]
    setting code = library "drive.so"
    setting script = program "./drive.py"
    setting logic = part Drive()
  }
  record i, hull.choke[1].i, hull.choke[2].i, drive.seen every 50 us
}
scenario look { hold 5 ms }
requirement P-1 { never (g[1] and g[2]) }
measure gap { of not g[1] and not g[2]  shortest }
requirement P-2 { always gap >= 18999 ns }
## asked at instants of the bench, at none of which it is on
requirement P-3 { never g[1] falls }
)";

const char* const kDrive = R"(#include "drive_channels.h"
const isodyne_controller_info isodyne_info = DRIVE_INFO;
int isodyne_init(void **self, int64_t period_ns) { *self = 0; return period_ns == DRIVE_PERIOD_NS ? 0 : 1; }
int isodyne_step(void *self, int64_t t, const drive_reads *r, drive_writes *w) {
  (void)self; (void)t;
  w->g[0] = (isodyne_gate){.on = r->go, .edges = 1, .at_ns = {18500}};
  w->g[1] = (isodyne_gate){.on = false, .edges = 1, .at_ns = {37500}};
  for (int k = 0; k < 2; ++k) w->seen[k] = r->i[k];
  WRONG
  return 0;
}
void isodyne_close(void *self) { (void)self; }
)";

void make_pulses(TestFolder& folder, const std::string& wrong = "") {
  folder.write("pulses.dyne", kBench);
  folder.write("drive.c", kDrive);
  REQUIRE(run_isodyne("export header pulses.dyne --out drive_channels.h", folder.path()).status == 0);
  REQUIRE(run_isodyne("export layout pulses.dyne --out layout.json", folder.path()).status == 0);
  compile_c(folder, "drive.c", "'-DWRONG=" + wrong + "' -fPIC -shared -o drive.so");
  folder.write("drive.py", fmt::format(R"(#!/usr/bin/env python3
import os, sys
sys.path.insert(0, "{}/clients")
import isodyne_link
with isodyne_link.Link("layout.json") as link:
    for _, r in link:
        link.answer(g=[(r["go"], [18500]), (False, [37500])], seen=r["i"])
)",
                                       kSource));
  std::filesystem::permissions(folder / "drive.py", std::filesystem::perms::owner_all);
}

}  // namespace

TEST_CASE("Gates and vectors of a library, a program and a part drive one bench alike") {
  TestFolder folder;
  make_pulses(folder);
  std::map<std::string, std::vector<double>> first;
  for (const char* setting : {"code", "script", "logic"}) {
    const Output o = run_isodyne(fmt::format("run pulses.dyne look --setting {0} --out {0}", setting), folder.path());
    INFO(setting << "\n" << o.out << o.err);
    REQUIRE(o.status == 0);
    auto recording = record::Recording::open(folder / (std::string(setting) + "/recording.h5"));
    REQUIRE(recording);
    const auto column = [&](const std::string& name) { return (*recording)->signal(name).value(); };
    for (const char* name : {"hull.choke[1].i", "hull.choke[2].i", "drive.seen[2]", "i[1]"}) {
      const std::vector<double> values = column(name);
      REQUIRE(values.size() == 101);
      INFO(name);
      if (std::string(setting) == "logic") {
        // What a modulator takes over at an instant acts 1 ns later, which the clock makes 5 ns a period.
        for (std::size_t k = 0; k < values.size(); ++k)
          CHECK(values[k] == Approx(first[name][k]).margin(1e-6 + 0.5e-3 * static_cast<double>(k)));
      } else if (first.contains(name)) {
        CHECK(values == first[name]);
      } else {
        first[name] = values;
      }
    }
    // 18.5 us and 12.5 us on in each period but the first; the edges come 100 ns late.
    for (std::size_t k = 2; k < 101; ++k) {
      const double periods = static_cast<double>(k - 1);
      CHECK(first["hull.choke[1].i"][k] == Approx(100 * 18.5e-6 * periods / 1e-3).margin(1e-6));
      CHECK(first["hull.choke[2].i"][k] == Approx((100 * 12.5e-6 * periods - 100 * 100e-9) / 1e-3).margin(0.0100001));
      CHECK(first["drive.seen[2]"][k] == first["hull.choke[2].i"][k - 1]);  // valid one period after it was read
    }
  }
}

TEST_CASE("Edges of gates are recorded with their instants, and judged again from there") {
  TestFolder folder;
  make_pulses(folder);
  std::string text = kBench;
  text.replace(text.find("  record i,"), 0, "  record g every edge\n");
  folder.write("edges.dyne", text);
  const Output o = run_isodyne("run edges.dyne look --setting code --out a", folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  auto recording = record::Recording::open(folder / "a/recording.h5");
  REQUIRE(recording);
  CHECK((*recording)->at_edges("g[1]"));
  const auto values = (*recording)->signal("g[1]").value();
  const record::Instants& times = (*recording)->times_of("g[1]");
  std::vector<std::int64_t> edges;
  for (std::size_t i = 1; i < times.size(); ++i) {
    if (values[i] != values[i - 1]) edges.push_back(times[i]);
  }
  REQUIRE(edges.size() >= 2 * 98);
  for (std::size_t k = 0; k < edges.size(); ++k)
    CHECK(edges[k] == 50'100 + static_cast<std::int64_t>(k / 2) * 50'000 + (k % 2 == 0 ? 0 : 18'500));
  const Output again = run_isodyne("judge a --out b.json", folder.path());
  INFO(again.out << again.err);
  CHECK(has(again.out, "P-1          held"));
  CHECK(has(again.out, "P-3          held"));
  CHECK_FALSE(has(again.out, "edge"));
  CHECK(has(again.out, "P-2          held"));
  // The same where something else has rows between its edges.
  text.replace(text.find("  record i,"), 0, "  record hull.high[1].v every 1 us\n");
  text.replace(text.find("requirement P-3"), 0, "requirement P-4 { always hull.high[1].v < 200 V }\n");
  folder.write("rows.dyne", text);
  CHECK(run_isodyne("run rows.dyne look --setting code --out d", folder.path()).status == 0);
  const Output measured = run_isodyne("measure d gap", folder.path());
  INFO(measured.out << measured.err);
  CHECK(has(measured.out, "1.9e-05 s"));
  // And what was recorded more seldom than it was looked at is told.
  const Output thin_measure = run_isodyne("measure d 'of hull.s.i  most'", folder.path());
  INFO(thin_measure.out << thin_measure.err);
  CHECK(has(thin_measure.out, "of something that `measure_1` reads; the run looked every 1 µs"));
  // Without the edges nobody can say it again: what the run said counts, and is said to.
  CHECK(run_isodyne("run pulses.dyne look --setting code --out c", folder.path()).status == 0);
  const Output thin = run_isodyne("judge c", folder.path());
  INFO(thin.out << thin.err);
  CHECK(has(thin.out + thin.err, "edge"));
}

TEST_CASE("Edges that cannot be end the run and say which") {
  struct Wrong {
    const char* code;
    const char* said;
  };
  for (const Wrong& w :
       {Wrong{"w->g[1].edges = 17;", "it wrote 17 edges to the gate `g[1]`, which takes 16 a period at most"},
        Wrong{"w->g[0] = (isodyne_gate){.edges = 3, .at_ns = {10, 30, 20}};",
              "edge 3 that it wrote to the gate `g[0]` is at 20 ns, before the one in front of it"},
        Wrong{"w->g[0].at_ns[0] = 50001;",
              "edge 1 that it wrote to the gate `g[0]` is at 50001 ns of a period of 50 µs"},
        Wrong{"w->g[1].at_ns[0] = -1;", "edge 1 that it wrote to the gate `g[1]` is at -1 ns of a period of 50 µs"}}) {
    TestFolder folder;
    make_pulses(folder, w.code);
    const Output o = run_isodyne("run pulses.dyne look --setting code --out a", folder.path());
    INFO(o.out << o.err);
    CHECK(o.status == 3);
    CHECK(has(o.out + o.err, w.said));
  }
}
