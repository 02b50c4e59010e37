// Parts on cores of their own, as a user meets them.

#include <fstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support.h"

using namespace isodyne::test;

namespace {

/// Three reaches of a canal in a ring, two of them on cores of their own.
std::string canal(const std::string& step) {
  return fmt::format(R"(
model Reach {{
  input u : m
  output state h : m = 2 m
  state far : m = 1.5 m
  h' = (u - h) / 3 s + 0.1 m/s * sin(time / 1 s)
  far' = (h - far) / 500 ms
}}
bench Canal {{
  step 1 ms
  part upper : Reach {0}
  part middle : Reach {0} on core 1
  part lower : Reach {0} on core 2
  upper.u = lower.far
  middle.u = upper.far
  lower.u = middle.far
}}
)",
                     step);
}

}  // namespace

TEST_CASE("However many cores step it, and by whatever code, a recording is the same to the bit") {
  const TestFolder folder;
  for (const std::string step : {"", "step 100 us"}) {
    folder.write("canal.dyne", canal(step));
    const char* ways[] = {"--cores 1", "--cores 2", "--cores 3", "--cores 1 --interpret", "--cores 3 --interpret"};
    for (std::size_t i = 0; i < std::size(ways); ++i) {
      const auto run =
          run_isodyne(fmt::format("run canal.dyne --for \"5 s\" --no-report {} --out {}{}", ways[i], step.size(), i),
                      folder.path());
      INFO(run.err);
      REQUIRE(run.status == 0);
    }
    const std::string first = slurp(folder / fmt::format("{}0/recording.h5", step.size()));
    CHECK(first.size() > 1000);
    for (std::size_t i = 1; i < std::size(ways); ++i)
      CHECK(slurp(folder / fmt::format("{}{}/recording.h5", step.size(), i)) == first);
  }
}

TEST_CASE("The delay of each cut between cores is listed") {
  const TestFolder folder;
  folder.write("canal.dyne", canal("step 100 us"));
  const auto listed = run_isodyne("list canal.dyne --timing", folder.path());
  REQUIRE(listed.status == 0);
  CHECK(listed.out.find("rk4 100 µs, core 0  rk4 100 µs, core 1      1 ms      500 µs  upper.far") !=
        std::string::npos);
  const auto j = nlohmann::json::parse(run_isodyne("list canal.dyne --timing --json", folder.path()).out);
  REQUIRE(j["groups"].size() == 4);
  CHECK(j["groups"][2]["core"] == "2");
  CHECK(j["borders"].size() == 3);
}

TEST_CASE("A paced run steps on the cores it asks for, and tells what each took") {
  const TestFolder folder;
  folder.write("canal.dyne", canal(""));
  const auto run = run_isodyne("run canal.dyne --for \"300 ms\" --paced --no-report --out a", folder.path());
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto all = nlohmann::json::parse(slurp(folder / "a/verdicts.json"));
  CHECK(all["method"] == "rk4 at 1 ms, rk4 at 1 ms on core 1, rk4 at 1 ms on core 2");
  const auto& timing = all["timing"];
  const auto crew = timing["crew"];
  std::size_t rows = 0;
  for (const auto& row : timing["times"]) {
    if (row["name"].get<std::string>().starts_with("parts on core")) {
      ++rows;
      CHECK(row["count"] == timing["steps"]);
    }
  }
  CHECK(rows == crew.size());
  // Three cores are wanted; what the machine cannot give is said.
  if (crew.size() < 2) CHECK(run.out.find("the bench asks for 3 cores and gets") != std::string::npos);
}

TEST_CASE("C for one thread is refused where it would give other values, and equal where it would not") {
  const TestFolder folder;
  folder.write("canal.dyne", canal("step 100 us"));
  const auto refused = run_isodyne("export c canal.dyne --out c", folder.path());
  CHECK(refused.status == 2);
  CHECK(refused.err.find("steps quicker than 1 ms") != std::string::npos);
  folder.write("canal.dyne", canal(""));
  CHECK(run_isodyne("export c canal.dyne --out c", folder.path()).status == 0);
  CHECK(shell("make -C c CFLAGS='-std=c11 -O1 -ffp-contract=off -Wall -Wextra -Werror'", folder.path()).status == 0);
}
