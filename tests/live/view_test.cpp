// The live view without a terminal and without a run: what is told goes in, cells come out.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/live/live_view.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::live;
using isodyne::test::has;
using isodyne::test::shows;

namespace {

using Clock = LiveView::Clock;
constexpr auto kTick = std::chrono::milliseconds(600);

Json described() {
  return *parse_json(R"({"bench":"Tank","scenario":"hold","paced":true,"version":"x","step_s":0.001,
    "signals":[{"name":"level","type":"m","role":"output","unit":{"text":"cm","factor":0.01,"offset":0}},
      {"name":"warm","type":"degC","role":"input","can_be_set":true,"unit":{"text":"degC","factor":1,"offset":273.15},
       "limits":[{"si":273.15,"read":"0 degC"},{"si":373.15,"read":"100 degC"}]},
      {"name":"mode","type":"Mode","role":"input","can_be_set":true,"labels":["off","on","boost"]},
      {"name":"valve","type":"bool","role":"input","can_be_set":true},
      {"name":"horn","type":"bool","role":"input","can_be_set":true}],
    "faults":[],"scenarios":["hold"],"requirements":["R-1","R-2"],"value_sets":["calm"],"tables":["swell"],
    "controllers":["plc"],
    "panels":[{"name":"keeper","title":"what the keeper has","items":[
      {"kind":"choose","names":["mode"],"label":"asked for"},{"kind":"toggle","names":["valve"]},
      {"kind":"press","names":["horn"]},
      {"kind":"slide","names":["warm"],"range":[{"si":273.15,"read":"0 degC"},{"si":373.15,"read":"100 degC"}],"step_si":5},
      {"kind":"bar","names":["level"],"range":[{"si":0,"read":"0 m"},{"si":2,"read":"2 m"}]},
      {"kind":"trace","names":["level"],"over_s":10}]}]})");
}

/// A run that answers as one would, and keeps what it was asked.
struct FakeRun {
  LiveView view;
  Clock::time_point now{};
  std::vector<Json> commands;
  std::int64_t watch = 0;
  std::vector<std::string> watched;
  std::map<std::string, std::pair<double, std::string>> values{{"level", {1, "100 cm"}},
                                                               {"warm", {293.15, "20 degC"}},
                                                               {"mode", {0, "off"}},
                                                               {"valve", {0, "false"}},
                                                               {"horn", {0, "false"}}};
  std::string refuses;  ///< what commands are answered
  std::int64_t captures = 0;
  Json page;                    ///< the rows of what is captured
  Json judged = Json::array();  ///< what requirements came to over it

  explicit FakeRun(Phrases phrases = {}) : view(std::move(phrases)) { pass(); }

  Json answer_to(const Json& call) {
    const std::string method = call.at("method").get<std::string>();
    if (method == "describe") return described();
    if (method == "events") return {{"events", Json::array()}, {"next", 0}};
    if (method == "faults")
      return *parse_json(R"({"faults":[{"name":"leak","by_hand":true,"in_run":false,"acts":false},
        {"name":"stuck","by_hand":true,"in_run":true,"acts":true,"since_s":1.5}]})");
    if (method == "verdicts")
      return *parse_json(R"({"requirements":[{"requirement":"R-1"},{"requirement":"R-2","since_s":0.25}]})");
    if (method == "timing") return *parse_json(R"({"at_s":0.5,"paced":true,"steps":500,"late":3})");
    if (method == "watch") {
      watched = call.at("params").at("names").get<std::vector<std::string>>();
      return {{"watch", ++watch}, {"names", watched}};
    }
    if (method == "unwatch" || method == "uncapture") return Json::object();
    if (method == "read")
      return {{"at_s", 0.75}, {"values", {{"warm", {{"si", values.at("warm").first}, {"read", "?"}}}}}};
    if (method == "capture") return {{"capture", ++captures}, {"names", call.at("params").at("names")}};
    if (method == "captured") return page;
    commands.push_back(call);
    return {{"at_s", 0.75}};
  }
  /// Everything that is on its way arrives.
  void pass() {
    view.tick(now += kTick);
    int asked = 0;
    for (auto lines = view.run().outgoing(); !lines.empty(); lines = view.run().outgoing()) {
      for (const std::string& line : lines) {
        INFO(line);
        REQUIRE(++asked < 1000);  // else it would ask for ever
        const Json call = *parse_json(line);
        Json answer{{"jsonrpc", "2.0"}, {"id", call.at("id")}};
        const std::size_t before = commands.size();
        Json result = answer_to(call);
        if (commands.size() > before && !refuses.empty())
          answer["error"] = {{"code", 1}, {"message", refuses}};
        else
          answer["result"] = std::move(result);
        view.run().hear(answer.dump());
      }
      view.tick(now);
    }
  }
  void update(double at, std::int64_t left_out = 0) {
    Json si = Json::array(), read = Json::array();
    for (const std::string& name : watched) {
      const auto& [value, text] = values.at(name);
      si.push_back(std::isfinite(value) ? Json(value) : Json(nullptr));
      read.push_back({text, text, text});
    }
    const Json u{{"watch", watch}, {"at_s", at},          {"si", si}, {"least", si}, {"greatest", si},
                 {"read", read},   {"left_out", left_out}};
    view.run().hear(Json{{"method", "update"}, {"params", u}}.dump());
  }
  std::string text(int width = 80, int height = 24, bool ascii = false) {
    Grid grid(width, height, ascii);
    view.draw(grid);
    return grid.text();
  }
  void key(Key::Kind kind, char32_t letter = 0) {
    view.key({kind, letter, 0, 0}, now);
    pass();
  }
  void type(const std::string& text) {
    for (const char c : text) key(Key::Kind::letter, static_cast<char32_t>(c));
  }
};

Phrases phrases() {
  Phrases all;
  all.all = {{"set", "NAME VALUE", "", {}}, {"ramp", "NAME VALUE", "", {{"over", "TIME"}}},
             {"inject", "FAULT", "", {}},   {"read", "NAME…", "", {}},
             {"load", "SET|FILE", "", {}},  {"end", "", "", {}}};
  all.spoken = [](const std::vector<std::string>& words) -> Result<Spoken> {
    if (words[0] != "set") return Failure{"there is no command " + words[0], "", ""};
    return Spoken{"set", {{"name", words.at(1)}, {"value", words.at(2)}}, words.at(1) + " = " + words.at(2)};
  };
  return all;
}

}  // namespace

TEST_CASE("Cells hold what they are given, and nothing goes outside") {
  Grid grid(10, 3);
  CHECK(grid.put(0, 0, "water 水位 é") == 9);  // two columns each, and cut
  CHECK(grid.text() == "water 水…\n\n\n");
  CHECK(columns_of("水位") == 4);
  CHECK(columns_of("e\u0301") == 1);
  grid.put(8, 1, "abc");
  grid.put(-2, 2, "abc");
  grid.put(0, 7, "abc");
  CHECK(grid.text() == "water 水…\n        a…\nc\n");
  Grid plain(12, 2, true);
  plain.box({0, 0, 12, 2}, "");
  CHECK(plain.text() == "+----------+\n+----------+\n");
  plain.put(0, 0, "█░●é⣿⠁");
  CHECK(plain.text().substr(0, 6) == "#.#?|'");
  // Nothing of others moves the cursor.
  Grid bad(12, 1);
  bad.put(0, 0, "a\x1b[2Jb\xff");
  CHECK(bad.text() == "a\uFFFD[2Jb\uFFFD\n");
  CHECK(Grid(0, -3).text() == "\n");
}

TEST_CASE("A history tells least and greatest as one that keeps everything") {
  RandomStream random(7, "history");
  History history;
  std::vector<Stretch> all;
  double t = 0;
  for (int i = 0; i < 50'000; ++i) {  // old ones are put together on the way
    t += 0.001 + random.uniform();
    const double a = random.uniform(), b = random.uniform();
    const bool lost = random.uniform() < 0.001;
    if (lost) history.lose();
    history.add(t, std::min(a, b), std::max(a, b), a);
    all.push_back({all.empty() || lost ? t : all.back().to, t, std::min(a, b), std::max(a, b), a});
    history.add(t, -5, 5, 0);  // not later: a run that stands
  }
  CHECK(history.all().size() < History::kMost);
  const double recent = history.all()[history.all().size() / 2].to;
  for (int i = 0; i < 2000; ++i) {
    double from = random.uniform() * t * 1.02, to = from + random.uniform() * random.uniform() * t / 4;
    if (i % 7 == 0) from = to = all[static_cast<std::size_t>(random.uniform() * 49'000)].to;
    double least = HUGE_VAL, greatest = -HUGE_VAL;
    for (const Stretch& s : all) {
      if (s.from <= to && s.to >= from) least = std::min(least, s.least), greatest = std::max(greatest, s.greatest);
    }
    const Stretch got = history.fold(from, to);
    INFO(from << " .. " << to);
    if (from > recent) {
      CHECK((got.least == least && got.greatest == greatest));
    } else {  // what was put together reaches further, and hides nothing
      CHECK((got.least <= least && got.greatest >= greatest));
    }
  }
}

TEST_CASE("What is no number leaves a hole in a trace") {
  History history;
  for (int i = 0; i <= 100; ++i) {
    const double v = i > 40 && i <= 60 ? NAN : 1.0;
    history.add(i, v, v, v);
  }
  CHECK(history.fold(42, 58).any() == false);
  CHECK(history.fold(35, 58).greatest == 1);
  CHECK(history.at(50)->any() == false);
  CHECK(history.at(101) == nullptr);
  history.lose();
  history.add(200, 2, 2, 2);
  CHECK_FALSE(history.fold(120, 180).any());
  CHECK(history.at(150) == nullptr);
}

TEST_CASE("A lane draws a sine where it is") {
  History history;
  for (int i = 0; i <= 4000; ++i) {
    const double v = std::sin(i * 0.001 * M_PI);
    history.add(i * 0.001, v, v, v);
  }
  Grid grid(74, 16);
  Signal axis;
  axis.name = "x";
  draw_lane(grid, {0, 0, 74, 16}, axis, {{"x", &history, 0}}, 0, 4, 1);
  // In the middle of each column of 64, the dots reach to where the sine is, within a cell.
  for (int x = 0; x < 64; ++x) {
    const double v = std::sin((x + 0.5) / 64 * 4 * M_PI);
    const double row = (1 - v) / 2 * 15;
    bool there = false;
    for (int y = 0; y < 16; ++y) {
      if (grid.at(10 + x, y).glyph > 0x2800) there = there || std::abs(y - row) <= 1.5;
    }
    INFO(x << "\n" << grid.text());
    CHECK(there);
  }
  shows(grid.text(), "        1│");
  shows(grid.text(), "       -1│");
}

TEST_CASE("A spike between two pictures is drawn") {
  History history;
  for (int i = 0; i <= 100; ++i) history.add(i, 0, i == 70 ? 9 : 0, 0);
  Grid grid(110, 8);
  Signal axis;
  draw_lane(grid, {0, 0, 110, 8}, axis, {{"x", &history, 0}}, 0, 100, 1);
  const std::string first = grid.text().substr(0, grid.text().find('\n'));
  shows(first, "9│");
  CHECK(grid.at(10 + 69, 0).glyph > 0x2800);
  CHECK(grid.at(10 + 60, 0).glyph == U' ');
  CHECK(grid.at(10 + 75, 0).glyph == U' ');
}

TEST_CASE("The panels of a bench show what the run says") {
  FakeRun run;
  shows(run.text(), "not known yet");
  run.update(0.5);
  const std::string text = run.text();
  for (const char* part :
       {"Tank / hold", "1 requirement broken", "3 of 500 steps late", "0.500 s", "what the keeper has",
        "asked for   ◀ off ▶", "valve       [ off ]", "horn        [ press ]", "20 degC", "100 cm", "1 panels"})
    shows(text, part);
  // A value outside of the bar's ends is told by its number, and a mark at the end.
  run.values["level"] = {3, "300 cm"};
  run.update(0.6);
  shows(run.text(), "▶ 300 cm");
  run.values["level"] = {NAN, "nan"};
  run.update(0.7);
  shows(run.text(), "nan");
  // Pictures that were left out are counted.
  run.update(0.8, 17);
  shows(run.text(), "17 pictures left out");
  // A run that says nothing any more is no run that stands still.
  for (int i = 0; i < 9; ++i) run.view.tick(run.now += kTick);
  shows(run.text(), "no answer for ");
  run.update(0.9);
  run.view.tick(run.now);
  CHECK_FALSE(has(run.text(), "no answer"));
  // ASCII alone.
  for (const char c : run.text(80, 24, true)) CHECK(static_cast<unsigned char>(c) < 0x80);
}

TEST_CASE("A hand operates what has the focus, and sees what came of it") {
  FakeRun run;
  run.text();
  run.key(Key::Kind::right);
  shows(run.text(), "mode is not known yet");
  run.update(0.5);
  run.text();
  run.key(Key::Kind::right);
  CHECK(run.commands.empty());  // looked for, not chosen
  shows(run.text(), "off ▶ on");
  run.key(Key::Kind::right);
  run.key(Key::Kind::enter);
  REQUIRE(run.commands.size() == 1);
  CHECK(run.commands[0]["params"]["value"] == "boost");
  shows(run.text(), "mode set at 0.750 s");
  shows(run.text(), "◀ off ▶");  // the run has not shown it yet
  run.key(Key::Kind::tab);
  run.key(Key::Kind::letter, U' ');
  CHECK(run.commands.back()["params"]["value"] == true);
  CHECK(run.commands.back()["params"]["name"] == "valve");
  // A button by the keyboard is let go when the key no longer comes again.
  run.key(Key::Kind::tab);
  const std::size_t before = run.commands.size();
  run.view.key({Key::Kind::enter, 0, 0, 0}, run.now);
  for (int i = 0; i < 10; ++i) {
    run.now += std::chrono::milliseconds(60);
    run.view.key({Key::Kind::enter, 0, 0, 0}, run.now);
    run.view.tick(run.now);
  }
  run.pass();
  REQUIRE(run.commands.size() >= before + 2);
  for (std::size_t i = before; i < run.commands.size(); ++i) CHECK(run.commands[i]["method"] == "press");
  CHECK(run.commands.back()["params"]["over"] == "2 s");
  run.pass();
  CHECK(run.commands.back()["method"] == "set");
  CHECK(run.commands.back()["params"]["value"] == false);
  // A slider goes from where it went, also before a picture has come.
  run.key(Key::Kind::tab);
  run.now += std::chrono::seconds(1);
  run.view.key({Key::Kind::right, 0, 0, 0}, run.now);
  run.view.key({Key::Kind::right, 0, 0, 0}, run.now);
  run.pass();
  CHECK(run.commands.back()["params"]["value"] == "30 degC");
  // What is refused is told.
  run.refuses = "`warm` is from 0 degC to 100 degC";
  run.key(Key::Kind::left);
  shows(run.text(), "`warm` is from 0 degC to 100 degC");
}

TEST_CASE("The mouse presses and lets go") {
  FakeRun run;
  run.update(0.5);
  Grid grid(80, 24);
  run.view.draw(grid);
  std::istringstream lines(grid.text());
  int y = 0;
  for (std::string line; std::getline(lines, line) && !has(line, "horn"); ++y) {
  }
  run.view.key({Key::Kind::press, 0, 20, y}, run.now);
  for (int i = 0; i < 5; ++i) run.pass();  // as long as one likes
  const std::size_t presses = run.commands.size();
  REQUIRE(presses >= 5);
  for (const Json& c : run.commands) CHECK(c["method"] == "press");
  run.view.key({Key::Kind::let_go, 0, 3, 3}, run.now);
  run.pass();
  REQUIRE(run.commands.size() == presses + 1);
  CHECK(run.commands.back()["params"]["value"] == false);
  run.view.key({Key::Kind::press, 0, 14, 1}, run.now);
  shows(run.text(), "scope ─");
}

TEST_CASE("Pages of the live view") {
  FakeRun run(phrases());
  run.update(0.5);
  run.type("4");
  std::string text = run.text();
  CHECK(text.find("stuck") < text.find("leak"));  // what is in the run comes first
  shows(text, "acts since 1.500 s");
  shows(text, "not in this run");
  run.key(Key::Kind::enter);
  CHECK(run.commands.back()["method"] == "clear");
  // Of a machine that is busy, late steps are told by the hundred: what else has happened is to be seen all the same.
  run.view.run().hear(
      Json{{"method", "event"},
           {"params", {{"number", 0}, {"at_s", 0.1}, {"kind", "mark"}, {"subject", "here"}, {"text", "noted"}}}}
          .dump());
  for (int i = 1; i <= 100; ++i)
    run.view.run().hear(Json{
        {"method", "event"},
        {"params", {{"number", i}, {"at_s", 0.2}, {"kind", "overrun"}, {"subject", "steps"}, {"text", "1 step late"}}}}
                            .dump());
  run.type("6");
  text = run.text();
  shows(text, "101 events, 100 about late steps not shown: l");
  shows(text, "here: noted");
  CHECK_FALSE(has(text, "1 step late"));
  run.type("l");
  text = run.text();
  CHECK_FALSE(has(text, "not shown"));
  CHECK_FALSE(has(text, "here: noted"));
  shows(text, "1 step late");
  run.type("l");
  run.type("5");
  text = run.text();
  shows(text, "not broken so far");
  shows(text, "broken at 0.250 s");
  run.type("3");
  run.update(0.6);
  shows(run.text(), "20 degC            input 0 degC .. 100 degC");
}

TEST_CASE("The command line completes, recalls and is edited") {
  FakeRun run(phrases());
  run.update(0.5);
  const auto may = [&](const std::string& line) { return completions(line, phrases(), run.view.run()); };
  using All = std::vector<std::string>;
  CHECK(may("s") == All{"set "});
  CHECK(may("set mo") == All{"set mode "});
  CHECK(may("set l").empty());  // an output
  CHECK(may("read l") == All{"read level "});
  CHECK(may("read level mo") == All{"read level mode "});
  CHECK(may("set mode ") == All{"set mode off ", "set mode on ", "set mode boost "});
  CHECK(may("set valve t") == All{"set valve true "});
  CHECK(may("set warm 5") == All{"set warm \"5 degC\" "});
  CHECK(may("set warm ") == All{"set warm \"20 degC\" "});
  CHECK(may("inject st") == All{"inject stuck "});
  CHECK(may("load c") == All{"load calm "});
  CHECK(may("ramp warm 5 --o") == All{"ramp warm 5 --over "});
  CHECK(may("nothing x").empty());
  CHECK(words_of("set warm \"5 degC\"  x'y z'") == All{"set", "warm", "5 degC", "xy z"});
  run.type("c");
  run.type("set mo");
  run.key(Key::Kind::tab);
  run.type("b");
  run.key(Key::Kind::tab);
  shows(run.text(), "> set mode boost");
  run.key(Key::Kind::enter);
  CHECK(run.commands.back()["params"]["value"] == "boost");
  run.type("cq");
  run.key(Key::Kind::up);
  shows(run.text(), "> set mode boost");
  run.key(Key::Kind::down);
  shows(run.text(), "> q");
  run.key(Key::Kind::escape);
  run.type("cfrob");
  run.key(Key::Kind::enter);
  shows(run.text(), "there is no command frob");
}

TEST_CASE("What grows, was moved, or did not begin at rest is never the best") {
  FakeRun run;
  run.update(0.5);
  run.type("c");
  run.type("tune warm of level by warm \"1 K\" within \"10 s\"");
  run.key(Key::Kind::enter);
  // The level as `row` says, for 10 s after a step of the setpoint.
  const auto trial = [&](const std::function<double(double)>& row, bool moved = false) {
    run.type("t");
    Json times = Json::array(), level = Json::array(), warm = Json::array();
    const double base = run.values["warm"].first, to = base + (run.captures % 2 == 1 ? 1 : -1);
    for (int i = 0; i <= 1000; ++i) {
      times.push_back(std::int64_t{1'000'000'000} + std::int64_t{10'000'000} * i);
      level.push_back(to + row(i * 0.01) * (to > base ? 1 : -1));
      warm.push_back(moved && i > 500 ? to + 0.1 : to);
    }
    run.page = {{"times_ns", times}, {"si", {{"level", level}, {"warm", warm}}}, {"next", 1001}};
    const Json came{{"capture", run.captures},
                    {"came", true},
                    {"at_s", 1.0},
                    {"take", 1},
                    {"rows", 1001},
                    {"whole", true},
                    {"judged", {{"requirements", run.judged}}}};
    run.view.run().hear(Json{{"method", "captured"}, {"params", came}}.dump());
    run.pass();
    return run.text(100, 30);
  };
  std::string text = trial([](double t) { return -std::exp(0.1 * t) * std::cos(6 * t); });
  shows(text, "growing");
  CHECK_FALSE(has(text, "●"));
  text = trial([](double t) { return -std::exp(-t); }, true);
  shows(text, "warm was moved meanwhile");
  CHECK_FALSE(has(text, "●"));
  text = trial([](double t) { return -std::exp(-2 * t); });
  shows(text, "● 21 degC");
  // What still moved before the step is measured as what it is not.
  run.update(3);
  run.values["level"] = {5, "500 cm"};
  run.update(3.5);
  text = trial([](double) { return 0; });
  shows(text, "it was not at rest before");
  shows(text, "● 21 degC");
  // What breaks a requirement is not the best, however soon it settles; verdict and margin are told.
  run.update(8);
  run.update(8.5);
  run.type("c");
  run.type("tune warm of level by warm \"1 K\" within \"10 s\" judge R-1 R-2");
  run.key(Key::Kind::enter);
  run.judged = *parse_json(
      R"([{"requirement":"R-1","verdict":"broken","margin":"-3 cm"},{"requirement":"R-2","verdict":"not put to the test"}])");
  text = trial([](double t) { return -std::exp(-9 * t); });
  shows(text, "broken -3 cm");
  shows(text, "not put to the test");
  CHECK_FALSE(has(text, "●"));
  run.judged = *parse_json(
      R"([{"requirement":"R-1","verdict":"held","margin":"2 cm"},{"requirement":"R-2","verdict":"undecided"}])");
  text = trial([](double t) { return -std::exp(-2 * t); });
  shows(text, "●");
  shows(text, "held 2 cm");
  run.type("c");
  run.type("tune warm of level by warm \"1 K\" within \"10 s\" judge R-9");
  run.key(Key::Kind::enter);
  shows(run.text(100, 30), "there is no requirement `R-9`; there are: R-1, R-2");
  run.judged = Json::array();
  // A step that is refused is over; what is captured later is none of it.
  run.refuses = "`warm` is from 0 degC to 100 degC";
  run.type("t");
  shows(run.text(100, 30), "`warm` is from 0 degC to 100 degC");
  run.refuses.clear();
  const std::string before = run.text(100, 30);
  const Json late{
      {"capture", run.captures}, {"came", true}, {"at_s", 1.0}, {"take", 1}, {"rows", 1001}, {"whole", true}};
  run.view.run().hear(Json{{"method", "captured"}, {"params", late}}.dump());
  run.pass();
  CHECK(std::count(before.begin(), before.end(), '%') == [&] {
    const std::string after = run.text(100, 30);
    return std::count(after.begin(), after.end(), '%');
  }());
}

TEST_CASE("A run that waits for its controllers is told as one") {
  LiveView view({});
  LiveView::Clock::time_point now{};
  view.tick(now);
  for (const std::string& line : view.run().outgoing()) {
    const Json call = *parse_json(line);
    Json answer{{"jsonrpc", "2.0"}, {"id", call.at("id")}};
    if (call.at("method") == "describe")
      answer["result"] = described();
    else
      answer["error"] = {{"code", 1}, {"message", "the run has not begun"}, {"data", "not_begun"}};
    view.run().hear(answer.dump());
  }
  Grid grid(80, 24);
  view.draw(grid);
  shows(grid.text(), "waits for its controllers");
}

TEST_CASE("What a run says that is none is counted, and every size can be drawn") {
  FakeRun run(phrases());
  run.update(0.5);
  Mirror& mirror = run.view.run();
  for (const char* line :
       {"", "{", "[]", "null", "{\"method\":\"update\"}", "{\"method\":\"update\",\"params\":{\"watch\":1}}",
        "{\"method\":\"event\",\"params\":{}}", "{\"id\":1e99}"})
    mirror.hear(line);
  CHECK(mirror.not_understood >= 5);
  shows(run.text(), "lines not understood");
  RandomStream random(3, "sizes");
  for (int i = 0; i < 600; ++i) {
    const int width = 1 + static_cast<int>(random.uniform() * 200),
              height = 1 + static_cast<int>(random.uniform() * 60);
    if (i % 5 == 0) run.type(std::string(1, static_cast<char>('1' + i / 5 % 7)));
    if (i % 3 == 0) run.view.key({static_cast<Key::Kind>(i / 3 % 19), U'x', width / 2, height / 2}, run.now);
    run.update(0.5 + i * 0.01);
    const std::string text = run.text(width, height);
    CHECK(std::count(text.begin(), text.end(), '\n') == height);
  }
  mirror.lost("ssh: connection reset");
  shows(run.text(), "ssh: connection reset");
}
