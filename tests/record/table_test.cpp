// Signals over time as CSV, COMTRADE and VCD: there and back, and files of others.

#include <cmath>
#include <limits>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/exchange/signal_table.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using exchange::SignalColumn;
using exchange::SignalTable;

namespace {

using Kind = SignalColumn::Kind;

/// A level, a count, and two truths, every 10 ms or as they come.
SignalTable example(bool steady, std::size_t rows = 200) {
  RandomStream random(7, "table");
  SignalTable t;
  t.title = "chamber";
  t.columns = {{"level", "m", Kind::number, {}},
               {"count", "", Kind::count, {}},
               {"gate", "", Kind::truth, {}},
               {"lamp", "", Kind::truth, {}}};
  std::int64_t at = 0;
  for (std::size_t i = 0; i < rows; ++i) {
    t.times_ns.push_back(at);
    at += steady ? 10'000'000 : 1'000 * (1 + static_cast<std::int64_t>(random.uniform() * 5000));
    t.columns[0].values.push_back(2 + std::sin(static_cast<double>(i) / 20));
    t.columns[1].values.push_back(static_cast<double>(i % 7) - 3);
    t.columns[2].values.push_back(i % 50 < 20 ? 1 : 0);
    t.columns[3].values.push_back(i > 100 ? 1 : 0);
  }
  return t;
}

/// Names, kinds and times are the same, values as near as that.
void same(const SignalTable& a, const SignalTable& b, double most) {
  REQUIRE(a.columns.size() == b.columns.size());
  CHECK(a.times_ns == b.times_ns);
  for (std::size_t c = 0; c < a.columns.size(); ++c) {
    INFO(a.columns[c].name);
    CHECK(a.columns[c].name == b.columns[c].name);
    CHECK(a.columns[c].unit == b.columns[c].unit);
    CHECK((a.columns[c].kind == Kind::truth) == (b.columns[c].kind == Kind::truth));
    double worst = 0;
    for (std::size_t i = 0; i < a.times_ns.size(); ++i)
      worst = std::max(worst, std::abs(a.columns[c].values[i] - b.columns[c].values[i]));
    CHECK(worst <= most);
  }
}

std::string trouble(const Result<SignalTable>& t) {
  return t ? "" : t.failure().text();
}

}  // namespace

TEST_CASE("CSV comes back to the bit") {
  for (const bool steady : {true, false}) {
    const SignalTable t = example(steady);
    const auto back = exchange::from_csv("t.csv", exchange::to_csv(t));
    REQUIRE(back);
    same(t, *back, 0);
  }
  CHECK(exchange::to_csv(example(true, 1)) == "t [s],level [m],count,gate,lamp\r\n0,2,-3,true,false\r\n");
}

TEST_CASE("CSV of others: semicolons, decimal commas, a byte-order mark, other units of time") {
  const auto t = exchange::from_csv("m.csv", "\xEF\xBB\xBFZeit [ms];Pegel [cm];auf\r\n0;1,5;false\r\n20;1,75;true\r\n");
  REQUIRE(t);
  CHECK(t->times_ns == std::vector<std::int64_t>{0, 20'000'000});
  CHECK(t->columns[0].name == "Pegel");
  CHECK(t->columns[0].values == std::vector<double>{1.5, 1.75});
  CHECK(t->columns[1].kind == Kind::truth);
  CHECK(exchange::from_csv("m.csv", "t,x\n0,1\n1,\n")->remarks[0] == "`t` has no unit: seconds are assumed");
  CHECK(std::isnan(exchange::from_csv("m.csv", "t,x\n0,1\n1,\n")->columns[0].values[1]));
}

TEST_CASE("CSV with mistakes is told with its line") {
  const auto says = [](const std::string& text, const std::string& part) {
    const std::string got = trouble(exchange::from_csv("m.csv", text));
    INFO(got);
    CHECK(got.find(part) != std::string::npos);
  };
  says("", "m.csv:1: there is nothing in it");
  says("0,1\n1,2\n", "m.csv:1: the first line has to name the columns");
  says("t [s],x\n0,1\n1,2,3\n", "m.csv:3: 3 fields, but the header names 2");
  says("t [s],x\n0,1\n0,2\n", "m.csv:3: the time 0 does not come after the one before");
  says("t [s],x\n0,1\n1,abc\n", "m.csv:3: `abc` in column x is no number");
  says("level [m],x\n0,1\n", "`m` is no unit of it");
  says("t [s],x\nnever,1\n", "m.csv:2: `never` is no time");
  says("t [s],x\n", "there is no line below the header");
}

TEST_CASE("COMTRADE comes back within its resolution, in both forms") {
  for (const bool steady : {true, false}) {
    for (const bool binary : {true, false}) {
      SignalTable t = example(steady);
      t.columns[0].values[5] = std::numeric_limits<double>::quiet_NaN();
      const auto files = exchange::to_comtrade(t, binary);
      REQUIRE(files);
      INFO(files->cfg);
      auto back = exchange::from_comtrade("t.cfg", *files);
      REQUIRE(back);
      CHECK(std::isnan(back->columns[0].values[5]));
      t.columns[0].values[5] = back->columns[0].values[5] = 0;
      CHECK(back->remarks.empty());
      same(t, *back, 1.0 / (binary ? 32767 : 99998));  // half of the range is 1
    }
  }
}

TEST_CASE("COMTRADE of another tool, with two rates and secondary values") {
  const std::string cfg =
      "WEIR PLANT,7,1999\r\n3,2A,1D\r\n1,Motor current,A,,A,0.05,-1,0,-32767,32767,100,1,S\r\n"
      "2,Level,,,m,0.001,0,0,-99999,99998,1,1,P\r\n1,Trip,,,0\r\n50\r\n2\r\n1000,2\r\n500,4\r\n"
      "03/05/2026,10:00:00.000000\r\n03/05/2026,10:00:00.002000\r\nASCII\r\n1\r\n";
  const auto t =
      exchange::from_comtrade("w.cfg", {cfg, "1,0,20,1500,0\r\n2,1000,40,1501,0\r\n3,,60,99999,1\r\n4,,80,1503,1\r\n"});
  REQUIRE(t);
  CHECK(t->title == "WEIR PLANT");
  CHECK(t->times_ns == std::vector<std::int64_t>{0, 1'000'000, 3'000'000, 5'000'000});
  CHECK(t->columns[0].name == "Motor current_A");
  CHECK(t->columns[0].values == std::vector<double>{0, 1, 2, 3});
  CHECK(std::isnan(t->columns[1].values[2]));
  CHECK(t->columns[2].values == std::vector<double>{0, 0, 1, 1});
}

TEST_CASE("COMTRADE with mistakes is told, and cut or flipped anywhere it never crashes") {
  const auto says = [](const std::string& cfg, const std::string& dat, const std::string& part) {
    const std::string got = trouble(exchange::from_comtrade("w.cfg", {cfg, dat}));
    INFO(got);
    CHECK(got.find(part) != std::string::npos);
  };
  says("", "", "w.cfg:0: the file ends too early");
  says("a,b,1999\n2,xA,0D\n", "", "w.cfg:2: `xA` is no number of channels");
  says("a,b,1999\n1,1A,0D\n1,x,,,m,one,0,0,0,0\n", "", "the factors of the channel are no numbers");
  says("a,b,1999\n1,0A,1D\n1,x\n50\n1\n10,2\n,\n,\nTEXT\n", "", "`TEXT` is no form of data");
  says("a,b,1999\n1,0A,1D\n1,x\n50\n1\n10,2\n,\n,\nASCII\n1\n", "1,0,2\n", "`2` is neither 0 nor 1");
  says("a,b,1999\n1,0A,1D\n1,x\n50\n1\n10,2\n,\n,\nASCII\n1\n", "1,0\n", "2 fields where the configuration needs 3");
  RandomStream random(11, "flips");
  for (const bool binary : {true, false}) {
    const auto files = exchange::to_comtrade(example(true, 40), binary);
    for (int k = 0; k < 2000; ++k) {
      exchange::Comtrade bad = *files;
      std::string& in = random.uniform() < 0.5 ? bad.cfg : bad.dat;
      const auto at = static_cast<std::size_t>(random.uniform() * static_cast<double>(in.size()));
      if (random.uniform() < 0.3) {
        in.resize(at);
      } else {
        in[at] = static_cast<char>(static_cast<int>(random.uniform() * 256));
      }
      const auto t = exchange::from_comtrade("w.cfg", bad);
      if (!t) CHECK(!t.failure().reason.empty());
    }
  }
}

TEST_CASE("Value changes come back, and those of others are read") {
  SignalTable t = example(false);
  t.columns[0].unit.clear();  // the format knows none
  const std::string text = exchange::to_vcd(t);
  CHECK(text.find("$var real 64 ! level $end") != std::string::npos);
  const auto back = exchange::from_vcd("t.vcd", text);
  REQUIRE(back);
  same(t, *back, 0);
  const auto other = exchange::from_vcd("o.vcd",
                                        "$date today $end $timescale 10us $end\n$scope module top $end\n"
                                        "$scope module pump $end $var wire 1 a on $end $upscope $end\n"
                                        "$var reg 4 b level [3:0] $end $upscope $end $enddefinitions $end\n"
                                        "#0 $dumpvars 0a bx b $end\n#5 1a b0101 b\n#7 0a\n");
  REQUIRE(other);
  CHECK(other->columns[0].name == "pump.on");
  CHECK(other->times_ns == std::vector<std::int64_t>{0, 50'000, 70'000});
  CHECK(other->columns[0].values == std::vector<double>{0, 1, 0});
  CHECK(std::isnan(other->columns[1].values[0]));  // unknown is no value
  CHECK(other->columns[1].values[1] == 5);
  CHECK(other->columns[1].values[2] == 5);
  CHECK(trouble(exchange::from_vcd("o.vcd", "#5\n#3\n")).find("goes backwards") != std::string::npos);
  CHECK(trouble(exchange::from_vcd("o.vcd", "hello")).find("`hello` is nothing that belongs here") !=
        std::string::npos);
  CHECK(trouble(exchange::from_vcd("o.vcd", "")).find("nothing happens") != std::string::npos);
}

TEST_CASE("Names and units of others are made to fit, and that is said") {
  const TestFolder folder;
  SignalTable t = example(true, 20);
  t.columns[0].name = "Pegel über Sohle, links";
  t.columns[0].unit = "furlong";
  t.columns[1].name = "and";
  t.columns[2].name = "and";
  t.columns[3].name = std::string(200, 'x');
  REQUIRE(exchange::write_table(folder / "recording.h5", "m.csv", t));
  const auto back = record::Recording::open(folder / "recording.h5");
  REQUIRE(back);
  CHECK((*back)->names() ==
        std::vector<std::string>{"Pegel__ber_Sohle__links", "and_2", "and_3", std::string(100, 'x')});
  CHECK(*(*back)->signal("and_2") == t.columns[1].values);
  REQUIRE(t.remarks.size() == 5);
  CHECK(t.remarks[1].find("the unit `furlong`") != std::string::npos);
}
