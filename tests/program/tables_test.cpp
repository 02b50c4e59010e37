// Tables: values against an independent package, and files.

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/program/tables.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using program::LookupTable;

namespace {
LookupTable line(LookupTable::Method method, LookupTable::Outside outside) {
  LookupTable t;
  t.x = {0, 1, 2.5, 3, 6};
  t.z = {1, 4, 4.5, 4.25, 0};
  t.method = method;
  t.outside = outside;
  prepare(t);
  return t;
}

double value_at(const LookupTable& t, double x) {
  return program::look_up(program::Op::table1, program::plain(t), x, 0);
}
double slope_at(const LookupTable& t, double x) {
  return program::look_up(program::Op::slope1, program::plain(t), x, 0);
}
}  // namespace

TEST_CASE("The cubic table agrees with SciPy's PCHIP interpolator") {
  const TestFolder folder;
  const std::string script = folder.write("pchip.py", R"(
from scipy.interpolate import PchipInterpolator
p = PchipInterpolator([0, 1, 2.5, 3, 6], [1, 4, 4.5, 4.25, 0])
for i in range(61): print('%.17g %.17g' % (p(i / 10), p(i / 10, 1)))
)");
  const Output output = shell("/usr/bin/python3 " + script);
  REQUIRE(output.status == 0);
  std::istringstream lines(output.out);
  const LookupTable t = line(LookupTable::Method::cubic, LookupTable::Outside::held);
  double value = 0, slope = 0;
  for (int i = 0; i <= 60; ++i) {
    REQUIRE(lines >> value >> slope);
    INFO("at " << 0.1 * i);
    CHECK(value_at(t, i / 10.0) == Approx(value).margin(1e-12));
    if (i > 0 && i < 60) CHECK(slope_at(t, i / 10.0) == Approx(slope).margin(1e-11));
  }
}

TEST_CASE("What holds outside a table is what it says") {
  const LookupTable held = line(LookupTable::Method::linear, LookupTable::Outside::held);
  CHECK(value_at(held, -3) == 1);
  CHECK(value_at(held, 9) == 0);
  CHECK(slope_at(held, 9) == 0);
  const LookupTable extended = line(LookupTable::Method::linear, LookupTable::Outside::extended);
  CHECK(value_at(extended, -1) == Approx(-2));
  CHECK(value_at(extended, 9) == Approx(-4.25));
  const LookupTable repeated = line(LookupTable::Method::linear, LookupTable::Outside::repeated);
  CHECK(value_at(repeated, 7) == Approx(4));
  CHECK(value_at(repeated, -5) == Approx(4));
  const LookupTable steps = line(LookupTable::Method::hold, LookupTable::Outside::held);
  CHECK(value_at(steps, 0.99) == 1);
  CHECK(value_at(steps, 1) == 4);
  CHECK(value_at(steps, 6) == 0);
  CHECK(std::isnan(value_at(extended, std::nan(""))));
}

TEST_CASE("A table with two arguments is bilinear") {
  const auto program = program_of(R"(
table map(n: rpm, q: Nm) -> W = [0 rpm: [0 Nm: 1 W, 10 Nm: 2 W], 1000 rpm: [0 Nm: 3 W, 10 Nm: 8 W]] linear outside held
bench B { step 1 ms
  let a = map(500 rpm, 5 Nm)
  let b = map(2000 rpm, 20 Nm)
  let c : W[2] = map([0 rpm, 1000 rpm], 10 Nm)
})");
  Seen seen(program, {"a", "b", "c[1]", "c[2]"});
  run_for(seen, 0);
  CHECK(seen.last("a") == Approx(3.5));
  CHECK(seen.last("b") == Approx(8));
  CHECK(seen.last("c[1]") == Approx(2));
  CHECK(seen.last("c[2]") == Approx(8));
}

namespace {
std::string check_with_file(const std::string& declaration, const std::string& csv) {
  const TestFolder folder;
  folder.write("bench.dyne",
               declaration + "\nbench B { step 1 ms\n let p = plan(15 s)\n}\nrequirement R { always p > 0 kW }");
  folder.write("plan.csv", csv);
  const Output output = run_isodyne("check bench.dyne", folder.path());
  return output.err + output.out;
}
constexpr const char* kPlan = "table plan(t: s) -> kW from \"plan.csv\" linear outside held";
}  // namespace

TEST_CASE("A table from a file takes its units from the header and its columns by title") {
  const TestFolder folder;
  folder.write("bench.dyne", std::string(kPlan) + R"(
table other(t: s) -> degC from "plan.csv" column "air" hold
bench B { step 1 ms
  let p = plan(90 s)
  let t = other(60 s)
}
requirement R1 { always p within 0.001 kW of 1.5 kW }
requirement R2 { always t within 0.001 K of 12 degC }
)");
  folder.write("plan.csv", "# made up\ntime [min], power [MW], air [degC]\n0, 0.001, 10\n1, 0.001, 12\n2, 0.002, 14\n");
  const Output output = run_isodyne("run bench.dyne --for '10 ms' --no-report --out r", folder.path());
  INFO(output.out << output.err);
  CHECK(output.status == 0);
}

TEST_CASE("Mistakes in a table's file are shown in the file") {
  const auto says = [](const std::string& all, const char* part) {
    INFO(all);
    CHECK(all.find(part) != std::string::npos);
  };
  says(check_with_file(kPlan, "t, p\n0, 1\n"), "plan.csv:1:1: error: column `t` has no unit");
  says(check_with_file(kPlan, "t [s], p [V]\n0, 1\n"),
       "plan.csv:1:8: error: this column is V (voltage), but the table says W (active power)");
  says(check_with_file(kPlan, "t [s], p [kW]\n0, 1\n5, x\n"), "plan.csv:3:4: error: `x` is not a number");
  says(check_with_file(kPlan, "t [s], p [kW]\n0, 1\n0, 2\n"), "plan.csv:3:1: error: the points of a table must rise");
  says(check_with_file(kPlan, "t [s], p [kW]\n0, 1\n5\n"), "this row is shorter than the header");
  says(check_with_file(kPlan, ""), "`plan.csv` is empty");
  says(check_with_file("table plan(t: s) -> kW from \"plan.csv\" column \"powr\" linear",
                       "t [s], power [kW]\n0, 1\n1, 1\n"),
       "did you mean `power`?");
  says(check_with_file("table plan(t: s) -> kW from \"nothing.csv\" linear", ""), "nothing.csv");
}
