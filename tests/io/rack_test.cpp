#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/io/rack_text.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr const char* kModules = R"(
module Analogue { inputs 4  as 4 mA .. 20 mA  limits 3.6 mA .. 21 mA  counts 0 .. 16000  word 16 bit signed }
module Lines    { inputs 8 of bool }
module Out      { outputs 2  as 0 V .. 10 V  limits 0 V .. 10.5 V  counts 0 .. 1000  word 10 bit
                  outputs 2 of bool }
)";

/// A rack with comments in every place where a spreadsheet could lose them.
constexpr const char* kRack = R"(
use "modules.dyne"
bench B {
  step 10 ms   # of everything
  let water : m = if time < 1 s then 2.5 m else 11 m
  sensor level { of water  range 0 m .. 10 m  every 10 ms }
  sensor other { of water / 2  range 0 m .. 10 m  every 10 ms }
  sensor wet   { of water > 3 m  every 10 ms }
  ## of the pump
  actuator speed : % { range 0 % .. 100 %  start 25 % }
  actuator lamp : bool
  # the cabinet
  rack cabinet {
    every 20 ms
    ## into the controller
    slot 1 : Analogue {
      channel 1 : level in levels, safety   # the first one
      # a spare one, for tests
      channel 3 : dummy = 12 mA
    }
    slot 4 : Lines { channel 8 : wet  in levels }
    slot 2 : Out {
      channel 1 : speed
      channel 4 : lamp off
    }
  }
}
fault open_wire { on level.signal  force 0 mA  from 500 ms }
fault leak      { on speed.signal  offset 1 V  from 500 ms }
)";

struct Files {
  TestFolder folder;
  Files() {
    folder.write("modules.dyne", kModules);
    folder.write("bench.dyne", kRack);
  }
  Output io(const std::string& arguments) const { return run_isodyne("io " + arguments, folder.path()); }
  std::string bench() const { return slurp(folder / "bench.dyne"); }
};

std::shared_ptr<const program::Program> racked() {
  return program_of(std::string(kModules) + std::string(kRack).substr(std::string("\nuse \"modules.dyne\"").size()));
}

std::string once_replaced(std::string text, const std::string& from, const std::string& to) {
  const std::size_t at = text.find(from);
  REQUIRE(at != std::string::npos);
  return text.replace(at, from.size(), to);
}

}  // namespace

TEST_CASE("A module gives its channels their electrical form, counts and word") {
  const auto p = racked();
  Seen seen(p, {"level", "level.signal", "level.counts", "dummy", "dummy.counts", "speed.signal", "lamp"});
  run_for(seen, 2);
  CHECK(seen.values[1][10] == Approx(8e-3));
  CHECK(seen.values[2][10] == 4000);
  CHECK(seen.last("level.signal") == Approx(21e-3));  // 11 m are 21.6 mA, more than the wire carries
  CHECK(seen.last("level.counts") == 17000);
  CHECK(seen.last("level") == Approx(10.625));
  CHECK(seen.last("dummy") == Approx(12e-3));
  CHECK(seen.last("dummy.counts") == 8000);
  CHECK(seen.values[5][0] == Approx(2.5));  // the start of an actuator is on the wire
}

TEST_CASE("A fault on the wire of a channel reaches its counts") {
  const auto p = racked();
  Seen seen(p, {"level", "level.counts", "level.signal"});
  bench::RunPlan plan;
  plan.faults = {0};
  plan.longest = std::chrono::milliseconds(800);
  run_bench(seen, plan);
  CHECK(seen.last("level.signal") == 0);
  CHECK(seen.last("level.counts") == -4000);
  CHECK(seen.last("level") == Approx(-2.5));
}

TEST_CASE("An actuator drives through its word and its wire") {
  program::Actuator a;
  a.range = {0, 1};
  a.to_counts = program::Linear{0, 1, 0, 1000};
  a.to_signal = program::Linear{0, 1, 0, 10};
  a.signal_limits = {0, 9};
  a.word = {10, false, false, 0, 1023};
  io::ActuatorChannel channel(a);
  io::Sample got;
  CHECK(channel.pass(0.3333, Time{}, {}, got) == Approx(0.333));
  CHECK(got.counts == 333);
  CHECK(got.signal == Approx(3.33));
  CHECK(channel.pass(0.95, Time{1}, {}, got) == Approx(0.9));
  CHECK(channel.saturation().count == 1);
  engine::TapState tap;
  tap.any_on = tap.on = true;
  tap.kind = program::FaultKind::offset;
  tap.amount = 1;
  CHECK(channel.pass(0.3333, Time{2}, {&tap, nullptr}, got) == Approx(0.433));
}

TEST_CASE("Platinum has the resistances of IEC 60751, and gives the temperature back") {
  const std::string text = R"(
use library "modules.dyne"
bench B { step 100 ms
  let t : degC = -200 degC + time * 8 K/s
  sensor warm { of t  every 100 ms }
  rack r { slot 1 : Platinum4 { channel 1 : warm } }
})";
  Seen seen(program_of(text), {"warm.signal", "warm", "warm.counts"});
  run_for(seen, 100);
  // Table 1 of IEC 60751:2008, in ohm.
  const std::pair<double, double> table[] = {{-200, 18.52}, {-100, 60.26}, {0, 100.00},  {100, 138.51},
                                             {200, 175.86}, {400, 247.09}, {600, 313.71}};
  for (const auto& [celsius, ohm] : table) {
    const auto i = static_cast<std::size_t>(std::lround((celsius + 200) / 0.8));
    CHECK(seen.values[0][i] == Approx(ohm).margin(0.006));
    CHECK(seen.values[1][i] == Approx(celsius + 273.15).margin(0.05));
    CHECK(seen.values[2][i] == Approx(celsius * 10).margin(0.5));
  }
}

TEST_CASE("A channel that is off is not sampled, and does not drive") {
  const auto p = program_of(std::string(kModules) + R"(
bench B { step 1 ms
  sensor level { of 2 m + time * 1 m/s  range 0 m .. 10 m  every 1 ms }
  rack r { slot 1 : Analogue { channel 1 : level off } }
})");
  Seen seen(p, {"level", "level.counts"});
  run_for(seen, 0.1);
  CHECK(seen.last("level.counts") == 0);
  CHECK(seen.last("level") == 0);
}

TEST_CASE("A table goes to a spreadsheet and back without touching the text") {
  const Files files;
  const Output table = files.io("table bench.dyne --csv");
  REQUIRE(table.status == 0);
  CHECK(table.out.find("cabinet,1,3,Analogue,input") != std::string::npos);
  files.folder.write("same.csv", table.out);
  CHECK(files.io("table bench.dyne --take same.csv").out == "Nothing differs: nothing was written.\n");
  CHECK(files.bench() == kRack);
}

TEST_CASE("Elements of a vector go to a spreadsheet and back, are bound one by one, and found by the vector") {
  TestFolder folder;
  const std::string text =
      "use library \"modules.dyne\"\nbench B {\n  step 10 ms\n"
      "  sensor level { of [1 m, 2 m, 3 m]  range 0 m .. 10 m  every 10 ms }\n  actuator drive : gate[2]\n"
      "  rack box {\n    slot 1 : CurrentIn8 {\n      channel 1 : level[2]\n    }\n"
      "    slot 2 : GatesOut8 {\n      channel 4 : drive[1]\n    }\n  }\n}\n";
  folder.write("b.dyne", text);
  const auto io = [&](const std::string& words) { return run_isodyne("io " + words, folder.path()); };
  const Output table = io("table b.dyne --csv");
  folder.write("t.csv", table.out);
  CHECK(io("table b.dyne --take t.csv").out == "Nothing differs: nothing was written.\n");
  folder.write("t.csv", once_replaced(table.out, "level[2]", "level[3]"));
  const Output taken = io("table b.dyne --take t.csv");
  INFO(taken.err);
  CHECK(taken.out == "1 channel changed. Wrote b.dyne.\n");
  CHECK(slurp(folder / "b.dyne") == once_replaced(text, "channel 1 : level[2]", "channel 1 : level[3]"));
  CHECK(io("bind b.dyne box.1.5 'level[1]'").status == 0);
  const Output listed = io("list b.dyne level");
  CHECK(listed.out.find("level[1]") != std::string::npos);
  CHECK(listed.out.find("level[3]") != std::string::npos);
  CHECK(listed.out.find("drive[1]") == std::string::npos);
  CHECK(io("list b.dyne drive").out.find("of gate clock 5 ns latency 100 ns") != std::string::npos);
  // Of what is no vector, or not of its length, nothing is written.
  folder.write("t.csv", once_replaced(table.out, "level[2]", "level[4]"));
  CHECK(io("table b.dyne --take t.csv").status == 2);
  folder.write("t.csv", once_replaced(table.out, "level[2]", "level[2] }"));
  CHECK(io("table b.dyne --take t.csv").err.find("is no name") != std::string::npos);
}

TEST_CASE("What a spreadsheet changed is changed in the text, and nothing else") {
  const Files files;
  std::string table = files.io("table bench.dyne --csv").out;
  // A byte-order mark, semicolons, other columns, another order: what spreadsheets make of a table.
  Csv csv = read_csv(table);
  std::string edited = "\xef\xbb\xbf\"Name\";\"Note\";\"Groups\";\"Rack\";\"Slot\";\"Channel\";\"Value\";\"On\"\r\n";
  for (std::size_t i = 1; i < csv.rows.size(); ++i) {
    const auto cell = [&](std::size_t c) { return csv.rows[i].text(c); };
    std::string name = cell(6), value = cell(7), groups = cell(10), on = cell(9);
    const std::string where = cell(1) + "." + cell(2);
    if (where == "1.1") groups = "levels";
    if (where == "1.2") name = "other", groups = "levels";
    if (where == "1.3") value = "4 mA";
    if (where == "4.8") name = groups = on = "";
    if (where == "4.1") name = "wet";
    if (where == "2.4") on = "yes";
    edited += csv_line({name, "", groups, cell(0), cell(1), cell(2), value, on}, ';');
  }
  files.folder.write("edited.csv", edited);
  const Output output = files.io("table bench.dyne --take edited.csv");
  INFO(output.err);
  REQUIRE(output.status == 0);
  CHECK(output.out == "6 channels changed. Wrote bench.dyne.\n");
  std::string expected = kRack;
  expected = once_replaced(expected, "channel 1 : level in levels, safety   # the first one",
                           "channel 1 : level in levels   # the first one\n      channel 2 : other in levels");
  expected = once_replaced(expected, "dummy = 12 mA", "dummy = 4 mA");
  expected = once_replaced(expected, "slot 4 : Lines { channel 8 : wet  in levels }",
                           "slot 4 : Lines {\n      channel 1 : wet\n    }");
  expected = once_replaced(expected, "lamp off", "lamp");
  CHECK(files.bench() == expected);
  CHECK(run_isodyne("check bench.dyne", files.folder.path()).status == 0);
}

TEST_CASE("A table with a mistake is refused with its line, and changes nothing") {
  const Files files;
  const auto refused = [&](const std::string& table, const std::string& why) {
    files.folder.write("bad.csv", table);
    const Output output = files.io("table bench.dyne --take bad.csv");
    INFO(table << "\n" << output.err);
    CHECK(output.status == 2);
    CHECK(output.err.find(why) != std::string::npos);
    CHECK(files.bench() == kRack);
  };
  refused("", "there is nothing in bad.csv");
  refused("rack,slot,name\n", "bad.csv:1: there is no column `channel`");
  refused("rack,slot,channel,name\ncabinet,9,1,level\n", "bad.csv:2: the bench has no channel cabinet.9.1");
  refused("rack,slot,channel,name\ncabinet,1,x,level\n", "bad.csv:2: slot and channel are whole numbers");
  refused("rack,slot,channel,name\ncabinet,1,1,level\n\ncabinet,1,1,level\n",
          "bad.csv:4: channel cabinet.1.1 stands in line 2");
  refused("rack,slot,channel,name\ncabinet,1,1,\"level\n", "a quote opens here that never closes");
  refused("rack,slot,channel,name\ncabinet,1,1,level; }\n", "is no name");
  refused("rack,slot,channel,name,module\ncabinet,1,1,level,Lines\n", "slot 1 has module Analogue, not Lines");
  refused("rack,slot,channel,name,on\ncabinet,1,1,level,maybe\n", "`on` is yes or no, not `maybe`");
  // In order as a table, but not as a bench.
  refused("rack,slot,channel,name\ncabinet,1,2,speed\n",
          "`speed` is an actuator, and channel 2 of module Analogue is an input");
  refused("rack,slot,channel,name\ncabinet,1,2,level\n", "has a place already, channel cabinet.1.1");
  refused("rack,slot,channel,name,value\ncabinet,1,2,more,12 mA } bench C {\n", "nothing was written");
}

TEST_CASE("`io bind` binds, makes and frees, and says what it did") {
  const Files files;
  CHECK(files.io("bind bench.dyne 1.2 other --groups levels,spare").out ==
        "Channel cabinet.1.2 carries other. Wrote bench.dyne.\n");
  CHECK(files.bench().find("# the first one\n      channel 2 : other in levels, spare\n") != std::string::npos);
  CHECK(files.io("bind bench.dyne cabinet.1.4 tide \"time * 1 m/s\" --range \"0 m .. 20 m\"").status == 0);
  CHECK(files.bench().find("channel 4 : tide = time * 1 m/s range 0 m .. 20 m\n") != std::string::npos);
  const Output horn = files.io("bind bench.dyne 2.3 horn --unit bool");
  INFO(horn.err);
  CHECK(horn.status == 0);
  CHECK(files.bench().find("  actuator horn : bool\n  # the cabinet\n  rack cabinet {") != std::string::npos);
  CHECK(files.bench().find("      channel 1 : speed\n      channel 3 : horn\n      channel 4 : lamp off\n") !=
        std::string::npos);
  CHECK(files.io("bind bench.dyne 2.2 fan --unit % --range \"0 % .. 100 %\"").status == 0);
  CHECK(files.bench().find("  actuator fan : % { range 0 % .. 100 % }\n") != std::string::npos);
  CHECK(files.bench().find("      channel 2 : fan\n") != std::string::npos);
  CHECK(files.io("bind bench.dyne 1.2 --remove").out ==
        "Channel cabinet.1.2 is free; it carried other. Wrote bench.dyne.\n");
  CHECK(files.io("bind bench.dyne 1.3 --remove").status == 0);
  CHECK(files.bench().find("# a spare one, for tests\n      channel 4 : tide") != std::string::npos);
  const std::string before = files.bench();
  CHECK(files.io("bind bench.dyne 1.9 other").err.find("bench B has no channel 1.9") != std::string::npos);
  CHECK(files.io("bind bench.dyne 1.2 nobody").status == 2);
  CHECK(files.io("bind bench.dyne 1.2").status == 2);
  CHECK(files.io("bind bench.dyne 1.2 level --remove").status == 2);
  CHECK(files.bench() == before);
}

TEST_CASE("Racks can be asked what is where, and what is free") {
  const Files files;
  const auto list = nlohmann::json::parse(files.io("list bench.dyne levels --json").out);
  REQUIRE(list.size() == 2);
  CHECK(list[0]["channel"] == "cabinet.1.1");
  CHECK(list[0]["counts"] == "0 .. 16000, 16 bit signed");
  CHECK(list[1]["name"] == "wet");
  const auto groups = nlohmann::json::parse(files.io("groups bench.dyne --json").out);
  REQUIRE(groups.size() == 2);
  CHECK(groups[0]["slots"].size() == 2);
  const auto free = nlohmann::json::parse(files.io("free bench.dyne --json").out);
  CHECK(free["free"].size() == 2 + 7 + 2);
  CHECK(free["without_channel"] == nlohmann::json::array({"other"}));
  CHECK(files.io("list bench.dyne nothing").err.find("no channel, group or rack is called `nothing`") !=
        std::string::npos);
}

TEST_CASE("Tables are read as spreadsheets write them") {
  const Csv csv = read_csv("\xef\xbb\xbf a ; \"b;\"\"c\"\"\" ;d\r\n\r\n1,5;;\"two\nlines\"\n;;\nlast;");
  CHECK(csv.trouble.empty());
  CHECK(csv.separator == ';');
  REQUIRE(csv.rows.size() == 3);
  CHECK(csv.rows[0].fields[0].text == "a");
  CHECK(csv.rows[0].fields[1].text == "b;\"c\"");
  CHECK(csv.rows[1].line == 3);
  CHECK(csv.rows[1].fields[2].text == "two\nlines");
  CHECK(csv.rows[2].line == 6);
  CHECK(csv.rows[2].text(7).empty());
  CHECK(csv_number("1,5", csv.decimal_comma()) == 1.5);
  CHECK(csv_number("1.5", true) == 1.5);
  CHECK_FALSE(csv_number("1,5", false));
  CHECK_FALSE(csv_number("1.000,5", true));
  CHECK_FALSE(csv_number("nan", false));
  CHECK(read_csv("a\tb,c\n").rows[0].fields[1].text == "b,c");
  CHECK(csv_line({"a", "b,c", "say \"x\"", " d"}) == "a,\"b,c\",\"say \"\"x\"\"\",\" d\"\n");
  CHECK_FALSE(read_csv("\"a\" b\n").trouble.empty());
  CHECK(read_csv("").rows.empty());
  CHECK(read_csv("# plan; of today\na,b\n").rows[1].fields.size() == 2);
  CHECK(read_csv("#").rows.size() == 1);
  const Csv binary = read_csv(std::string("a,b\n\x1b[2J,1\n"));
  CHECK(binary.rows.empty());
  CHECK(binary.trouble_line == 2);
}
