// Native code, reference, advice and profile through the built program.

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using Json = nlohmann::json;

namespace {

constexpr const char* kBasin = R"(bench Basin {
  step 10 ms  method rk4
  record every 10 ms
  param area : m^2 = 3 m^2
  input inflow : m^3/s = 0.1 m^3/s
  ## water surface
  output state level : m = 1 m  limited 0 m .. 5 m
  output memory ticks : 1 = 0
  modes valve from shut { shut -> open when level > 1.5 m
    open -> shut when level < 1.2 m }
  level' = (inflow - (if valve is open then 0.3 m^2/s * level else 0 m^3/s)) / area
  every 50 ms { ticks := ticks + 1 }
}
scenario fill { hold 60 s }
)";

}  // namespace

TEST_CASE("Interpreter and native code leave the same recording, byte for byte") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  REQUIRE(run_isodyne("run b.dyne fill --no-report --interpret --out a", folder.path()).status == 0);
  for (const char* name : {"b", "c"})  // compiled, then from the cache
    REQUIRE(run_isodyne(std::string("run b.dyne fill --no-report --out ") + name, folder.path()).status == 0);
  CHECK(slurp(folder / "a/recording.h5") == slurp(folder / "b/recording.h5"));
  CHECK(slurp(folder / "a/recording.h5") == slurp(folder / "c/recording.h5"));
}

TEST_CASE("A run goes on by interpreter when there is no compiler, or a broken one, and says so in one line") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  for (const auto& [compiler, out] : {std::pair{"/bin/false", "a"}, std::pair{"no-such-compiler", "b"}}) {
    const Output o = shell(std::string("ISODYNE_CC=") + compiler +
                               " " ISODYNE_PROGRAM " run b.dyne --for '20000 s' --no-report --out " + out,
                           folder.path());
    CHECK(o.status == 0);
    CHECK(o.err.find("the interpreter runs") != std::string::npos);
    CHECK(std::count(o.err.begin(), o.err.end(), '\n') == 1);
  }
}

TEST_CASE("A full disk below the cache costs the cache, not the run") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  // A file system of 16 KiB in a name space of our own; where that is not allowed there is nothing to try.
  const std::string mount = "mkdir -p full && mount -t tmpfs -o size=16k none full";
  if (shell("unshare -rm sh -c '" + mount + "'", folder.path()).status != 0) {
    WARN("this machine does not let us mount a small file system");
    return;
  }
  const Output o =
      shell("unshare -rm sh -c '" + mount +
                " && XDG_CACHE_HOME=$PWD/full " ISODYNE_PROGRAM " run b.dyne --for \"20000 s\" --no-report --out r'",
            folder.path());
  INFO(o.err);
  CHECK(o.status == 0);
  CHECK(o.err.find("native code is not kept: ") != std::string::npos);
  CHECK(o.err.find("has only 16 KiB left") != std::string::npos);
  CHECK(std::count(o.err.begin(), o.err.end(), '\n') == 1);
}

TEST_CASE("The exported C compiles without a warning and computes what the run records") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  REQUIRE(run_isodyne("export c b.dyne --out c", folder.path()).status == 0);
  const Output built =
      shell("make -C c CFLAGS='-std=c11 -O2 -ffp-contract=off -Wall -Wextra -pedantic -Werror' 2>&1", folder.path());
  INFO(built.out);
  REQUIRE(built.status == 0);
  const Output printed = shell("c/main 60 6000 | tail -1", folder.path());
  REQUIRE(run_isodyne("run b.dyne fill --no-report --out r", folder.path()).status == 0);
  const Output recorded = shell(
      "/usr/bin/python3 -c \"import h5py; f = h5py.File('r/recording.h5'); "
      "print('%.9f,%.17g' % (f['time_ns'][-1] / 1e9, f['signals/level'][-1]))\"",
      folder.path());
  CHECK(printed.out == recorded.out);
  const std::string c = slurp(folder / "c/plant.c");
  CHECK(c.find("/* b.dyne:10:") != std::string::npos);  // the line of the equation
  CHECK(c.find("inflow") != std::string::npos);
}

TEST_CASE("reference stores a run that says how it was made, and how to repeat it") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  const Output o = run_isodyne("reference b.dyne fill --out r --json", folder.path());
  REQUIRE(o.status == 0);
  CHECK(Json::parse(o.out)["method"].get<std::string>().find("adaptive") != std::string::npos);
  CHECK(slurp(folder / "r/report.html").find("isodyne reference b.dyne fill") != std::string::npos);
}

TEST_CASE("advise recommends the largest step within the tolerance, and says which part is quick if none is") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  const Output o = run_isodyne("advise b.dyne fill --tolerance 1 --json --out advice", folder.path());
  INFO(o.err);
  REQUIRE(o.status == 0);
  const Json j = Json::parse(o.out);
  const Json& chosen = j["trials"][j["recommended"].get<std::size_t>()];
  CHECK(chosen["worst_share"].get<double>() <= 0.01);
  for (const Json& t : j["trials"]) {
    if (t.contains("worst_share") && t["worst_share"].get<double>() <= 0.01)
      CHECK(t["step_s"].get<double>() <= chosen["step_s"].get<double>());
  }
  CHECK(std::filesystem::file_size(folder / "advice/advice.png") > 10'000);

  folder.write("stiff.dyne",
               "model Quick { output state x : 1 = 0\n  x' = (sin(time / 1 s) - x) * 100000 / 1 s\n}\n"
               "bench Stiff { step 10 ms\n  part quick : Quick\n}\n");
  const Output none = run_isodyne("advise stiff.dyne --for '2 s' --tolerance 1e-9", folder.path());
  CHECK(none.status == 1);
  CHECK(none.out.find("The quickest part is `quick`, with a time constant down to 1e-05 s") != std::string::npos);
  CHECK(run_isodyne("advise b.dyne fill --tolerance none", folder.path()).status == 2);
  CHECK(run_isodyne("advise b.dyne fill --signal levle", folder.path()).err.find("did you mean `level`?") !=
        std::string::npos);
}

TEST_CASE("profile says what a step costs and where the time goes") {
  const TestFolder folder;
  folder.write("b.dyne", kBasin);
  const Output o = run_isodyne("profile b.dyne fill --json", folder.path());
  REQUIRE(o.status == 0);
  const Json j = Json::parse(o.out);
  CHECK(j["steps"] == 6000);
  CHECK(j["times"]["plant"]["median_s"].get<double>() > 0);
  CHECK(j["times"]["all of an instant"]["longest_s"] >= j["times"]["plant"]["median_s"]);
  double shares = 0;
  for (const Json& part : j["parts"]) shares += part["share"].get<double>();
  CHECK(shares == Approx(1));
}

TEST_CASE("list --timing shows groups, periods, and what is held at the borders") {
  const TestFolder folder;
  folder.write("b.dyne", R"(
model Lag { input u : 1
  output state y : 1 = 0
  y' = (u - y) / 2 ms
}
bench B { step 1 ms
  output state u : 1 = 1
  u' = -u / 1 s
  part lag : Lag  step 10 us  method implicit
  lag.u = u
})");
  const Output o = run_isodyne("list b.dyne --timing", folder.path());
  CHECK(o.status == 0);
  CHECK(o.out.find("10 µs  implicit") != std::string::npos);
  CHECK(o.out.find("rk4 1 ms  implicit 10 µs      1 ms      500 µs  u") != std::string::npos);
}
