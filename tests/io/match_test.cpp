#include <algorithm>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/random.h"
#include "isodyne/core/units.h"
#include "isodyne/io/match.h"
#include "isodyne/io/parameters.h"
#include "isodyne/io/rack_text.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kExamples = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/";

io::TagList tags_of(const std::string& text) {
  const auto list = io::read_tags(text, "tags.csv", {});
  INFO((list ? "" : list.failure().text()));
  REQUIRE(list);
  return *list;
}

io::MatchChannel channel(const std::string& name, bool in, const std::string& unit, const std::string& doc = "") {
  io::MatchChannel c{name, doc, in, {}, {}, {}, ""};
  c.type.kind = unit == "bool" ? program::Type::Kind::boolean : program::Type::Kind::real;
  if (unit != "bool") {
    c.unit = *parse_unit(unit);
    c.type.dimension = c.unit.dimension;
    c.word = {16, true, false, -32768, 32767};
  }
  return c;
}

std::vector<std::string> proposed(const std::vector<io::MatchChannel>& channels, const std::vector<io::Tag>& tags) {
  std::vector<std::string> names;
  for (const io::Match& m : io::match(channels, tags, {}))
    names.push_back(m.tag < 0 ? "" : tags[static_cast<std::size_t>(m.tag)].name);
  return names;
}

/// Made-up names of a waterway, as two people would write them.
struct TwoHands {
  std::vector<io::MatchChannel> channels;
  std::vector<io::Tag> tags;
  std::vector<std::size_t> right;  ///< per channel
};

TwoHands two_hands(std::size_t count, std::uint64_t seed) {
  struct Word {
    const char *full, *brief;
  };
  static constexpr Word kPlaces[] = {{"upper", "up"},    {"lower", "low"},   {"middle", "mid"}, {"north", "n"},
                                     {"south", "s"},     {"chamber", "chm"}, {"basin", "bas"},  {"spillway", "spill"},
                                     {"intake", "intk"}, {"culvert", "culv"}};
  static constexpr Word kThings[] = {{"gate", "gate"},    {"paddle", "pdl"}, {"pump", "pmp"},   {"valve", "vlv"},
                                     {"barrier", "barr"}, {"wedge", "wdg"},  {"screen", "scr"}, {"winch", "wnch"}};
  static constexpr Word kWhats[] = {
      {"level", "lvl"},   {"flow", "flw"},   {"pressure", "press"},   {"position", "pos"}, {"speed", "spd"},
      {"current", "cur"}, {"torque", "trq"}, {"temperature", "temp"}, {"closed", "shut"},  {"opened", "open"}};
  RandomStream random(seed, "names");
  TwoHands t;
  std::vector<std::pair<double, std::size_t>> order;
  for (std::size_t i = 0; i < count; ++i) {
    const Word &place = kPlaces[i % 10], &thing = kThings[i / 10 % 8], &what = kWhats[i / 80 % 10];
    const std::size_t number = i / 800 + 1;
    t.channels.push_back(channel(fmt::format("{}_{}_{}_{}", place.full, thing.full, number, what.full), true, "m"));
    order.emplace_back(random.uniform(), i);
    const bool brief = random.uniform() < 0.5;
    io::Tag tag;
    const auto cap = [](std::string s) {
      s[0] = static_cast<char>(s[0] - 'a' + 'A');
      return s;
    };
    const auto either = [&](const Word& w) {
      return cap(brief && what.full != std::string("closed") ? w.brief : w.full);
    };
    tag.name = fmt::format("{}{}{:02}_{}", either(place), either(thing), number,
                           cap(what.full == std::string("closed") ? "closed"
                               : brief                            ? what.brief
                                                                  : what.full));
    tag.known_type = io::tag_type("INT");
    tag.type = "INT";
    tag.address = fmt::format("%IW{}", 2 * i);
    tag.place = io::tag_address(tag.address);
    t.tags.push_back(tag);
  }
  std::sort(order.begin(), order.end());
  std::vector<io::Tag> shuffled;
  t.right.resize(count);
  for (const auto& [key, i] : order) {
    t.right[i] = shuffled.size();
    shuffled.push_back(t.tags[i]);
  }
  t.tags = std::move(shuffled);
  return t;
}

}  // namespace

TEST_CASE("Names are taken apart as people put them together") {
  using Parts = std::vector<std::string>;
  CHECK(io::name_parts("upperGate_open-2") == Parts{"upper", "gate", "open", "2"});
  CHECK(io::name_parts("LT1_LevelChamber") == Parts{"lt", "1", "level", "chamber"});
  CHECK(io::name_parts("PLCAlarm.007") == Parts{"plc", "alarm", "7"});
  CHECK(io::name_parts("").empty());
  CHECK(io::name_parts("Höhe") == Parts{"höhe"});
}

TEST_CASE("Addresses and types are those of IEC 61131-3") {
  CHECK(io::tag_address("%IX0.3")->numbers == std::vector<int>{0, 3});
  CHECK(io::tag_address("%qw258")->bits == 16);
  CHECK(io::tag_address("%QW258")->area == 'Q');
  CHECK(io::tag_address("%MD2.7.1")->bits == 32);
  CHECK(io::tag_address("%ML0")->bits == 64);
  CHECK(io::tag_address("%I7")->bits == 1);
  for (const char* wrong : {"", "IX0.3", "%", "%I", "%IX", "%IX0.", "%IX.3", "%ZX0", "%IW-2", "%IW2a", "%IQ3",
                            "%IW1.2.3.4.5.6.7.8.9", "%IW99999999999999"}) {
    INFO(wrong);
    CHECK_FALSE(io::tag_address(wrong));
  }
  CHECK(io::tag_type("int")->lowest() == -32768);
  CHECK(io::tag_type("UDINT")->highest() == 4294967295.0);
  CHECK(io::tag_type("STRING") == nullptr);
}

TEST_CASE("The canal lock's own tag list is matched without a mistake") {
  const Output output = run_isodyne("io match " + kExamples + "canal-lock/lock.dyne --json");
  INFO(output.err);
  CHECK(output.status == 0);
  const auto j = nlohmann::json::parse(output.out);
  const std::pair<const char*, const char*> right[] = {{"chamber_level", "LT1_LevelChamber"},
                                                       {"pound_level", "LT2_LevelPoundUp"},
                                                       {"tail_level", "LT3_LevelTail"},
                                                       {"upper_open", "UpGate_Opened"},
                                                       {"upper_shut", "UpGate_Shut"},
                                                       {"lower_open", "LowGate_Opened"},
                                                       {"lower_shut", "LowGate_Shut"},
                                                       {"berth_taken", "Boat_InBerth"},
                                                       {"gate_taken", "Boat_InGate"},
                                                       {"request", "KeeperRequest"},
                                                       {"fill_paddle", "Paddle_Fill"},
                                                       {"drain_paddle", "Paddle_Drain"},
                                                       {"upper_gate", "UpGate_Motor"},
                                                       {"lower_gate", "LowGate_Motor"},
                                                       {"upper_light", "Light_Upper"},
                                                       {"lower_light", "Light_Lower"},
                                                       {"alarm", "Alarm"},
                                                       {"phase", "SeqPhase"}};
  REQUIRE(j["matches"].size() == std::size(right));
  for (std::size_t i = 0; i < std::size(right); ++i) {
    CHECK(j["matches"][i]["channel"] == right[i].first);
    CHECK(j["matches"][i]["tag"] == right[i].second);
  }
  CHECK(j["tags_without_channel"] == nlohmann::json::array({"Horn"}));
}

TEST_CASE("Two people's names for the same things find each other") {
  const TwoHands t = two_hands(1600, 1);
  const auto matches = io::match(t.channels, t.tags, {});
  std::size_t correct = 0, wrong = 0;
  for (std::size_t i = 0; i < matches.size(); ++i) {
    if (matches[i].tag == static_cast<int>(t.right[i]))
      ++correct;
    else if (matches[i].tag >= 0)
      ++wrong;
  }
  CHECK(correct >= 1550);
  CHECK(wrong <= 20);
}

TEST_CASE("A tag is proposed once, and what is like nothing gets none") {
  const io::TagList list = tags_of("name,type\nLevel,INT\nHorn,BOOL\n");
  const auto names =
      proposed({channel("level", true, "m"), channel("level_2", true, "m"), channel("xyz", true, "m")}, list.tags);
  CHECK(names == std::vector<std::string>{"Level", "", ""});
}

TEST_CASE("Direction, unit and type decide between names that are alike") {
  const io::TagList list = tags_of(
      "name,address,type,unit\nGate_Pos_1,%QW0,INT,mm\nGate_Pos_2,%IX0.0,BOOL,\nGate_Pos_3,%IW2,INT,kPa\nGate_Pos_4,%"
      "IW4,INT,cm\n");
  CHECK(proposed({channel("gate_position", true, "m")}, list.tags) == std::vector<std::string>{"Gate_Pos_4"});
  CHECK(proposed({channel("gate_position", true, "bool")}, list.tags) == std::vector<std::string>{"Gate_Pos_2"});
  CHECK(proposed({channel("gate_position", false, "m")}, list.tags) == std::vector<std::string>{"Gate_Pos_1"});
}

TEST_CASE("What is wrong between a channel and its tag is said") {
  const io::TagList list = tags_of(
      "name,address,type,unit\n"
      "A,%QW0,INT,m\nB,%IX0.0,BOOL,\nC,%IW2,USINT,m\nD,%IB4,USINT,mm\nE,,STRING,\nF,%IW6,INT,furlong\nG,IW8,INT,\n");
  const auto says = [&](std::size_t tag, const std::string& what) {
    const auto troubles = io::troubles_between(channel("level", true, "m"), list.tags[tag]);
    std::string all;
    for (const std::string& t : troubles) all += t + "; ";
    INFO(all);
    CHECK(all.find(what) != std::string::npos);
  };
  says(0, "%QW0 is an output of the controller, level goes to it");
  says(1, "a BOOL cannot hold level");
  says(2, "USINT has 8 bits at %IW2, but its address is of 16 bits");
  says(3, "USINT holds 0 .. 255, and level counts -32768 .. 32767");
  says(3, "a factor between them");
  says(4, "STRING is not a type that a channel can have");
  says(5, "furlong is not a unit");
  says(6, "IW8 is no address such as %IW4 or %QX0.3");
  CHECK(io::troubles_between(channel("level", true, "m"), tags_of("name,type\nL,INT\n").tags[0]).empty());
}

TEST_CASE("Tag lists are read as they come") {
  const io::TagList list = tags_of(
      "\xef\xbb\xbf\"Comment\";TYPE;\"Name\"\r\n\"one; two\";BOOL;\"a\"\r\n;;\r\nx;INT;\r\ny;int;b\r\n\"\";REAL;A\r\n");
  REQUIRE(list.tags.size() == 3);
  CHECK(list.tags[0].comment == "one; two");
  CHECK(list.tags[1].known_type->bits == 16);
  REQUIRE(list.troubles.size() == 2);
  CHECK(list.troubles[0] == "tags.csv:4: a tag without a name");
  CHECK(list.troubles[1] == "tags.csv:6: tag A stands in line 2 already");
  CHECK(tags_of("name,type,address\na,INT,%IW2\nb,INT,%iw2\n").troubles[0] ==
        "tags.csv:3: a and b have one address, %iw2");
  CHECK(io::read_tags("Symbol,type\n", "t.csv", {})
            .failure()
            .text()
            .find("there is no column `name`; there are Symbol, type") != std::string::npos);
  program::TagColumns columns;
  columns.name = "Symbool";
  CHECK(io::read_tags("Symbol,type\n", "t.csv", columns).failure().text().find("did you mean `Symbol`?") !=
        std::string::npos);
  CHECK_FALSE(io::read_tags("", "t.csv", {}));
  CHECK_FALSE(io::read_tags("name,type\n\"a,INT\n", "t.csv", {}));
}

TEST_CASE("A list of a hundred thousand tags is read and matched") {
  std::string text = "name;type;address\n";
  for (int i = 0; i < 100'000; ++i) text += fmt::format("Tank{}_Level;INT;%IW{}\n", i, 2 * i);
  const io::TagList list = tags_of(text);
  CHECK(list.tags.size() == 100'000);
  const auto names = proposed({channel("tank_77777_level", true, "m"), channel("tank_3_level", true, "m")}, list.tags);
  CHECK(names == std::vector<std::string>{"Tank77777_Level", "Tank3_Level"});
}

TEST_CASE("The table keeps what people confirmed and tells what changed") {
  const TestFolder folder;
  folder.write("bench.dyne", R"(
bench B { step 10 ms
  sensor tank_level { of 2 m  range 0 m .. 10 m  counts 0 .. 1000  word 12 bit  every 10 ms }
  sensor pump_runs  { of true  every 10 ms }
  actuator valve : % { range 0 % .. 100 %  counts 0 .. 1000  word 12 bit }
  controller plc { every 10 ms  reads tank_level, pump_runs  writes valve, alarm : bool
    tags "tags.csv"
    setting x = library "x" }
})");
  folder.write("tags.csv",
               "name,address,type\nTank_Lvl,%IW0,INT\nPump_Run,%IX4.0,BOOL\nValve,%QW0,INT\nTank_Other,%IW2,INT\n");
  const Output first = run_isodyne("io match bench.dyne --out map.csv", folder.path());
  CHECK(first.status == 1);
  CHECK(first.out.find("Without a tag: alarm.") != std::string::npos);
  CHECK(first.out.find("3 of 4 channels have a tag; 1 of 4 tags have no channel.") != std::string::npos);
  std::string map = slurp(folder / "map.csv");
  CHECK(map.find("tank_level,Tank_Lvl,%IW0,INT,,") != std::string::npos);
  CHECK(map.find("alarm,,,,,,no tag\n") != std::string::npos);
  CHECK(map.find(",Tank_Other,%IW2,INT,,,no channel\n") != std::string::npos);
  // A person decides otherwise, in a spreadsheet.
  folder.write("map.csv",
               "channel;tag;address;type;unit;score;state\ntank_level;Tank_Other;%IW2;INT;;1,00;confirmed\n"
               "pump_runs;Pump_Run;%IX4.0;BOOL;;0,9;proposed\nvalve;Old;%QW8;INT;;0,9;confirmed\n");
  folder.write("tags.csv",
               "name,address,type\nTank_Lvl,%IW0,INT\nPump_Run,%IX4.1,BOOL\nValve,%QW0,INT\nTank_Other,%IW2,INT\nAlarm_"
               "Out,%MX0.0,BOOL\n");
  const Output second = run_isodyne("io match bench.dyne --out map.csv", folder.path());
  INFO(second.out << second.err);
  CHECK(second.out.find("tag Pump_Run: address was %IX4.0, is %IX4.1") != std::string::npos);
  CHECK(second.out.find("tag Old is gone; it was valve") != std::string::npos);
  CHECK(second.out.find("tag Alarm_Out is new") != std::string::npos);
  CHECK(second.out.find("channel alarm is new") != std::string::npos);
  CHECK(second.out.find("valve was confirmed as Old, which the list no longer has") != std::string::npos);
  map = slurp(folder / "map.csv");
  CHECK(map.find("tank_level,Tank_Other,%IW2,INT,,1.00,confirmed\n") != std::string::npos);
  CHECK(map.find("alarm,Alarm_Out,%MX0.0,BOOL,,") != std::string::npos);
  // Mistakes of a table are told with their line, and the table stays.
  folder.write("map.csv", "channel,tag,state\nvalve,A,confirmed\nvalve,B,confirmed\n");
  const Output twice = run_isodyne("io match bench.dyne --out map.csv", folder.path());
  CHECK(twice.status == 2);
  CHECK(twice.err.find("map.csv:3: channel valve stands in line 2 already") != std::string::npos);
  CHECK(run_isodyne("io match bench.dyne --tags nowhere.csv", folder.path()).status == 2);
}

TEST_CASE("A controller's parameter file is compared in whatever units it is written") {
  const auto p = program_of(R"(
choice Mode { slow, quick }
model Tank {
  param area : m^2 = 640 m^2
  param warm : degC = 20 degC
  param on : bool = true
  param mode : Mode = quick
  param n : int = 3
  output state h : m = 0 m
  h' = 0 m/s
}
bench B { step 1 ms
  part tank : Tank
  controller c { every 1 ms  reads h  writes a : bool  shares tank.area, tank.n  setting x = library "x" }
  sensor h { of tank.h  every 1 ms }
})");
  const auto states = [&](const std::string& text) {
    const auto file = io::read_parameters(text, "p");
    INFO((file ? "" : file.failure().text()));
    REQUIRE(file);
    std::string all;
    for (const auto& r : io::compare(p, *file))
      all += fmt::format("{}{}:{}", all.empty() ? "" : " ", r.name, io::parameter_word(r.state));
    return all;
  };
  CHECK(
      states(
          R"({"tank": {"area": {"value": 6.4e6, "unit": "cm^2"}, "warm": {"value": 68, "unit": "degF"}, "on": true, "mode": "quick", "n": 3}})") ==
      "tank.area:equal tank.warm:equal tank.on:equal tank.mode:equal tank.n:equal");
  CHECK(states(R"({"tank.area": 640.00001, "TANK_WARM": 20.1, "tank": {"on": 0, "mode": "fast", "n": [3]}})") ==
        "tank.area:equal tank.warm:differs tank.on:differs tank.mode:unreadable tank.n:unreadable");
  CHECK(states("name;value;unit\ntank.area;640,5;m^2\nTank_Warm;293,15;K\ntank.nn;3;\n") ==
        "tank.area:differs tank.warm:unreadable tank.nn:unknown tank.n:missing");
  CHECK(states("name,value\ntank.n,3\ntank.n,3\n") == "tank.n:equal tank.n:unreadable tank.area:missing");
  CHECK_FALSE(io::read_parameters("{\"a\": ", "p"));
  CHECK_FALSE(io::read_parameters("value,unit\n", "p"));
  CHECK_FALSE(io::read_parameters("", "p"));
  std::string deep;
  for (int i = 0; i < 100; ++i) deep += "{\"a\":";
  CHECK_FALSE(io::read_parameters(deep + "1" + std::string(100, '}'), "p"));
}

TEST_CASE("A controller that was built with other parameters is refused") {
  const TestFolder folder;
  std::filesystem::copy(kExamples + "swing-bridge", folder / "bridge", std::filesystem::copy_options::recursive);
  REQUIRE(shell(fmt::format("make -C bridge/controller -B CC={} ISODYNE={} INCLUDE={}/include", ISODYNE_C_COMPILER,
                            ISODYNE_PROGRAM, ISODYNE_SOURCE_FOLDER),
                folder.path())
              .status == 0);
  const std::string text = slurp(folder / "bridge/bridge.dyne");
  const std::size_t at = text.find("Travel(duration = 8 s)");
  REQUIRE(at != std::string::npos);
  folder.write("bridge/bridge.dyne", std::string(text).replace(at, 22, "Travel(duration = 9 s)"));
  const Output output = run_isodyne("run bridge/bridge.dyne passage --no-report --out r", folder.path());
  CHECK(output.status == 3);
  CHECK(output.err.find("was built for other channels or parameters than this bench has") != std::string::npos);
  const Output check =
      run_isodyne("check bridge/bridge.dyne --parameters bridge/controller/parameters.json", folder.path());
  CHECK(check.status == 1);
  CHECK(check.out.find("barriers.duration") != std::string::npos);
  CHECK(check.out.find("2 of 3 values agree.") != std::string::npos);
}

TEST_CASE("Tables and files from elsewhere never do more than be refused") {
  const auto bench = program_in("examples/canal-lock/lock.dyne");
  const std::string tags = slurp(kExamples + "canal-lock/tags.csv");
  const std::string json = slurp(kExamples + "swing-bridge/controller/parameters.json");
  const std::string racks = io::table_text(*bench);
  const auto channels = io::channels_of(*bench, bench->controllers[0]);
  const auto list = io::read_tags(tags, "t", bench->controllers[0].tag_columns);
  REQUIRE(list);
  const std::string map = io::map_text(channels, list->tags, io::match(channels, list->tags, {}));
  static constexpr const char* kBits[] = {"\"",           ";",     ",",  "\n",          "\r",  "{",  "}", "[", "%",
                                          "\xef\xbb\xbf", "1e999", "-1", "99999999999", "%IX", "nan"};
  std::size_t accepted = 0;
  for (std::uint64_t seed = 1; seed <= 4000; ++seed) {
    RandomStream random(seed, "files");
    std::string text = seed % 4 == 0 ? tags : seed % 4 == 1 ? json : seed % 4 == 2 ? racks : map;
    for (int n = static_cast<int>(random.uniform() * 4); n >= 0; --n) {
      const auto at = static_cast<std::size_t>(random.uniform() * static_cast<double>(text.size()));
      const auto length = static_cast<std::size_t>(random.uniform() * 20);
      if (random.uniform() < 0.3)
        text.erase(at, length);
      else if (random.uniform() < 0.5)
        text.insert(at, kBits[static_cast<std::size_t>(random.uniform() * std::size(kBits))]);
      else if (at < text.size())
        text[at] = static_cast<char>(random.next() & 0xff);
    }
    const auto read =
        io::read_tags(text, "t", seed % 2 == 0 ? bench->controllers[0].tag_columns : program::TagColumns{});
    if (read) io::match(channels, read->tags, {});
    const auto table = io::read_table(text, "t", *bench);
    if (table) io::rewritten(*bench, *table);
    const auto rows = io::read_map(text, "t");
    if (rows) io::differences(*rows, channels, list->tags);
    const auto values = io::read_parameters(text, "t");
    if (values) io::compare(bench, *values);
    if (read || table || rows || values) ++accepted;
  }
  CHECK(accepted > 400);  // it goes on behind the readers
}
