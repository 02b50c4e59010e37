// What is done with recordings: shown, compared, repeated, exchanged. The built program on files and runs.

#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace fs = std::filesystem;
using Json = nlohmann::json;

namespace {

/// A tank that fills along a straight line: level = 1 m + 0.5 m/s · t.
constexpr const char* kEvidence = R"(
choice Way { shut, half, open }
model Tank { input inflow : m/s
  output state level : m = 1 m
  level' = inflow }
bench Small {
  step 10 ms
  record every RECORD ms
  input pump : m/s = 0.5 m/s
  part tank : Tank
  tank.inflow = pump * GAIN
  let high : bool = tank.level > 2 m
  let way : Way = if tank.level > 3 m then open else if high then half else shut
  output state lag : m = 0 m
  lag' = (1 m - lag) / 0.4 s
  sensor tx { of tank.level  range 0 m .. 10 m  every 10 ms  noise NOISE mm }
}
fault jump { on tx  offset 1 m  from 3 s }
scenario fill { hold 4 s }
requirement R-1 { always tank.level <= 9 m }
)";

struct Runs {
  TestFolder folder;

  /// Runs the bench into a folder of that name.
  void run(const std::string& name, const std::string& options = "", const std::string& gain = "1",
           const std::string& record = "10", const std::string& noise = "0") {
    std::string text = kEvidence;
    for (const auto& [key, value] :
         {std::pair<std::string, std::string>{"GAIN", gain}, {"RECORD", record}, {"NOISE", noise}})
      text.replace(text.find(key), key.size(), value);
    folder.write("bench.dyne", text);
    const Output ran = run_isodyne("run bench.dyne fill --no-report --out " + name + " " + options, folder.path());
    INFO(ran.out << ran.err);
    REQUIRE(ran.status == 0);
  }
  Output operator()(const std::string& arguments) const {
    return shell("LC_ALL=C.UTF-8 " ISODYNE_PROGRAM " " + arguments, folder.path());
  }
};

}  // namespace

TEST_CASE("A signal is drawn in the terminal: numbers, truths and choices, in the unit people read") {
  Runs runs;
  runs.run("a");
  const Output shown = runs("show a tank.level high way");
  CHECK(shown.status == 0);
  CHECK(has(shown.out, "tank.level in m\n         3 ┤"));
  CHECK(has(shown.out, "\n         1 ┤"));
  CHECK(has(shown.out, "high\n           ┤▁"));
  CHECK(has(shown.out, "shut"));
  CHECK(has(shown.out, "│half"));
  CHECK(has(shown.out, "4 s"));
  for (const char c : runs("show a 'tank.*' high way --ascii").out) CHECK(static_cast<unsigned char>(c) < 128);
  const Output part = runs("show a tank.level --from '1 s' --to '2 s'");
  CHECK(has(part.out, "         2 ┤"));
  CHECK(has(part.out, "       1.5 ┤"));
  CHECK(has(runs("show a tank.levle").err, "did you mean `tank.level`?"));
  CHECK(runs("show a tank.level --from '9 s'").status == 2);
  CHECK(has(runs("show a tank.level --from soon").err, "--from takes a time"));
  CHECK(runs("show nowhere").status == 2);
}

TEST_CASE("The same run is equal to the bit, another one differs from an instant on, first things first") {
  Runs runs;
  runs.run("a");
  runs.run("b");
  runs.run("c", "--fault jump");
  const Output same = runs("compare a b");
  CHECK(same.status == 0);
  CHECK(has(same.out, "signals are equal to the bit."));
  const Output other = runs("compare a c --json --out figures");
  CHECK(other.status == 1);
  const Json j = Json::parse(other.out)[0];
  CHECK(j["same_instants"] == true);
  CHECK(j["signals"][0]["verdict"] == "differs");
  CHECK(j["signals"][0]["from_s"] == 3.0);
  CHECK(j["other_differences"] == Json{"faults: none, and jump"});
  for (const Json& s : j["signals"]) {
    if (s["name"] == "tx") CHECK(s["largest"].get<double>() == Approx(1));
    if (s["name"] == "tank.level") CHECK(s["verdict"] == "equal");
  }
  CHECK(fs::file_size(runs.folder / "figures/difference.png") > 5000);
}

TEST_CASE("Tolerances in value and in time are kept exactly") {
  Runs runs;
  runs.run("a");
  runs.run("b", "", "1.02");  // at 4 s it is 2 × 0.02 = 0.04 m higher, or 0.08 s earlier
  const auto level = [&](const std::string& options) {
    const Json all = Json::parse(runs("compare a b --json " + options).out)[0]["signals"];
    for (const Json& s : all) {
      if (s["name"] == "tank.level") return s;
    }
    return Json();
  };
  CHECK(level("")["from_s"] == 0.01);
  CHECK(level("--allow 'tank.level=4.1 cm'")["verdict"] == "within");
  const Json late = level("--allow 'tank.level=2 cm'");
  CHECK(late["verdict"] == "differs");
  CHECK(late["from_s"].get<double>() == Approx(2.0).margin(0.011));
  CHECK(late["largest"].get<double>() == Approx(0.04));
  CHECK(level("--allow 'tank.level=within 81 ms'")["verdict"] == "differs");  // its last instants come too late
  CHECK(level("--allow 'tank.level=1 mm within 81 ms'")["from_s"].get<double>() > 3.9);
  CHECK(level("--allow '*=3 %'")["verdict"] == "within");
  CHECK(has(runs("compare a b --allow 'tank.level=1 kg'").err, "`kg` is no unit for tank.level"));
  CHECK(has(runs("compare a b --allow tank").err, "--allow takes a signal and how far it may be off"));
}

TEST_CASE("Recordings of other rates are compared at the instants of the coarser one, which is said") {
  Runs runs;
  runs.run("fine");
  runs.run("coarse", "", "1", "70");
  const Output output = runs("compare fine coarse");
  CHECK(has(output.out, "those of the second are compared"));
  CHECK(has(output.out, "record every 70 ms"));
  const Json all = Json::parse(runs("compare fine coarse --json").out)[0]["signals"];
  CHECK(all.size() > 4);
  for (const Json& s : all) CHECK(s["verdict"] == "equal");
}

TEST_CASE("Runs are aligned by what happens in both") {
  Runs runs;
  runs.run("a");
  runs.run("b", "", "0.8");  // high at 2.5 s, not at 2 s
  const Json j = Json::parse(runs("compare a b --align high --json").out)[0];
  CHECK(j["shift_s"].get<double>() == Approx(0.5).margin(0.011));
  CHECK(Json::parse(runs("compare a b --align 'tank.level > 200 cm' --json").out)[0]["shift_s"] == j["shift_s"]);
  CHECK(has(runs("compare a b --align nothing").err, "never comes in the first run"));
}

TEST_CASE("A run is repeated from its recording alone, when its bench has gone") {
  Runs runs;
  runs.run("a", "--fault jump --seed 7", "1", "10", "5");
  fs::remove(runs.folder / "bench.dyne");
  const Output again = runs("repeat a");
  INFO(again.out << again.err);
  CHECK(again.status == 0);
  CHECK(has(again.out, "a is repeatable: "));
  // Somebody changes a value in it.
  REQUIRE(shell("/usr/bin/python3 -c \"import h5py; f = h5py.File('a/recording.h5', 'r+'); "
                "f['signals/tank.level'][100] += 1e-9\"",
                runs.folder.path())
              .status == 0);
  const Output changed = runs("repeat a --json");
  CHECK(changed.status == 1);
  const Json j = Json::parse(changed.out);
  CHECK(j["first"]["signal"] == "tank.level");
  CHECK(j["first"]["at_s"] == 1.0);
}

TEST_CASE("A recording goes out as CSV, COMTRADE and value changes, and comes back as a run") {
  Runs runs;
  runs.run("a");
  CHECK(runs("export csv a tank.level high --out t.csv").status == 0);
  CHECK(slurp(runs.folder / "t.csv").starts_with("t [s],tank.level [m],high\r\n0,1,false\r\n0.01,1.005,false\r\n"));
  CHECK(runs("import csv t.csv --out back").status == 0);
  CHECK(has(runs("show back").out, "tank_level in m"));
  CHECK(
      has(runs("repeat back").err, "cannot repeat back: it was measured elsewhere, so there is nothing to run again"));
  CHECK(runs("export comtrade a tank.level high --binary --out c").status == 0);
  CHECK(fs::file_size(runs.folder / "c.dat") == 401 * (8 + 2 + 2));
  CHECK(runs("import comtrade c.cfg --out c1").status == 0);
  CHECK(runs("compare back c1 --allow '*=0.01 %'").status == 0);
  CHECK(has(runs("export vcd a high").out, "$var wire 1 ! high $end"));
  runs.folder.write("rules.dyne", "requirement T-1 { always tank_level <= 2.5 m }");
  const Output judged = runs("judge back rules.dyne");
  CHECK(judged.status == 1);
  CHECK(has(judged.out, "broken"));
  CHECK(has(runs("import csv nothing.csv").err, "nothing.csv"));
  CHECK(has(runs("import cvs t.csv").err, "did you mean `csv`?"));
  CHECK(has(runs("export csv a nothing").err, "no signal called nothing"));
}

TEST_CASE("Every run is in the catalogue: found, tagged, missed, pruned") {
  Runs runs;
  runs.run("ferry-7", "--seed 41");
  runs.run("ferry-8", "--fault jump --seed 42");
  const Output listed = runs("runs ferry-");
  CHECK(listed.status == 0);
  CHECK(has(listed.out, "ferry-7"));
  CHECK(has(listed.out, "jump"));
  CHECK(runs("runs ferry- jump --last").out == "ferry-8\n");
  CHECK(Json::parse(runs("runs ferry- 'seed 41' --json").out).size() == 1);
  CHECK(Json::parse(runs("runs ferry- --json").out)[0]["inputs"] !=
        Json::parse(runs("runs ferry- --json").out)[1]["inputs"]);
  CHECK(runs("runs tag ferry-7 accepted").status == 0);
  CHECK(has(runs("runs accepted ferry-").out, "ferry-7"));
  CHECK(has(runs("runs tag nowhere x").err, "the catalogue has no run in nowhere"));
  CHECK(has(runs("runs prune ferry-").out, "1 run would be deleted; --yes does it; 1 with tags stay."));
  CHECK(fs::exists(runs.folder / "ferry-8"));
  CHECK(runs("runs prune ferry- --yes").status == 0);
  CHECK_FALSE(fs::exists(runs.folder / "ferry-8"));
  CHECK(fs::exists(runs.folder / "ferry-7"));
  fs::remove_all(runs.folder / "ferry-7");
  CHECK(has(runs("runs ferry-").out, "missing"));
  CHECK(runs("runs ferry- --last").status == 2);
}

TEST_CASE("Of two runs that began within a second the later one is the last") {
  Runs runs;
  for (const char* later : {"a-later", "z-later"}) {
    runs.run("m-earlier");
    runs.run(later);
    CHECK(runs("runs --last").out == std::string(later) + "\n");
    fs::remove_all(runs.folder / "m-earlier");
  }
}

TEST_CASE("A run is in the catalogue while it runs, is not deleted then, and when it was killed") {
  Runs runs;
  runs.run("first");
  const Output o =
      shell(std::string(ISODYNE_PROGRAM) + " run bench.dyne --for '10000 h' --no-report --out endless > said 2>&1 & " +
                until_written("endless", 2000) +
                "; LC_ALL=C.UTF-8 " ISODYNE_PROGRAM " runs endless; " ISODYNE_PROGRAM
                " runs prune endless --yes; ls endless; kill -9 $!; " +
                until_written_no_more("endless") + "; " ISODYNE_PROGRAM " runs endless",
            runs.folder.path());
  INFO(o.out << o.err);
  CHECK(has(o.out, "running"));
  CHECK(has(o.out, "recording.h5"));
  CHECK(has(o.out, "broken off"));
}

TEST_CASE("Ten runs at once are all in the catalogue") {
  Runs runs;
  runs.run("first");
  const Output all = shell("for i in 1 2 3 4 5 6 7 8 9 10; do " ISODYNE_PROGRAM
                           " run bench.dyne fill --no-report --out atonce$i > log$i & done; wait",
                           runs.folder.path());
  REQUIRE(all.status == 0);
  CHECK(Json::parse(runs("runs atonce --json").out).size() == 10);
}

TEST_CASE("Signals are drawn by name, by pattern, over each other, and zoomed") {
  Runs runs;
  runs.run("a", "--fault jump");
  runs.run("b", "", "0.8");
  const Output one = runs("figure a tank.level tx high way --out one");
  INFO(one.err);
  CHECK(one.status == 0);
  CHECK(one.out == "one.png, one.svg, one.pdf\n");
  const std::string svg = slurp(runs.folder / "one.svg");
  for (const char* text : {"tank.level", "fault jump", "fill with jump, seed 1", "high", "time in s"})
    CHECK(has(svg, text));
  CHECK(slurp(runs.folder / "one.pdf").starts_with("%PDF"));
  CHECK(runs("figure a b 'tank.l*' --from '1 s' --to '3 s' --out two/both.png").status == 0);
  const std::string both = slurp(runs.folder / "two/both.svg");
  CHECK(has(both, "1: tank.level"));
  CHECK(has(both, "2: tank.level"));
  CHECK(has(runs("figure a tank.levle").err, "did you mean `tank.level`?"));
  CHECK(runs("figure a tank.level --from '9 s'").status == 2);
}

TEST_CASE("What a figure has no room for is counted, and a late stretch has its own actions") {
  const TestFolder folder;
  std::string text = "bench B {\n  step 10 ms\n  input a : m = 0 m\n  let x : m = 2 * a\n}\nscenario s {\n";
  for (int i = 1; i <= 20; ++i) text += fmt::format("  hold 0.5 s\n  set a = {} m\n", i);
  folder.write("b.dyne", text + "  hold 0.5 s\n}\nrequirement R-1 { always x < 39 m }\n");
  REQUIRE(run_isodyne("run b.dyne s --out r", folder.path()).status == 1);
  REQUIRE(run_isodyne("figure r x --out all", folder.path()).status == 0);
  CHECK(has(slurp(folder / "all.svg"), "and 29 actions more, not marked here"));
  REQUIRE(run_isodyne("figure r x --from '9.8 s' --out late", folder.path()).status == 0);
  CHECK(has(slurp(folder / "late.svg"), "a set to 20 m"));
  CHECK(!has(slurp(folder / "late.svg"), "not marked here"));
  // The moment of the breach says that its rows are further apart than what was judged.
  const std::string moment = slurp(folder / "r/figures/broken-R-1.svg");
  CHECK(has(moment, "judged every 10 ms, drawn from rows every 100 ms"));
  CHECK(has(moment, "a set to 20 m"));
}

TEST_CASE("A distortion says which harmonics the step cannot show") {
  const TestFolder folder;
  const std::string rest =
      "\n  let u : V = 10 V * sin(2 rad/s * pi * 50 * time)\n}\nscenario s { hold 1 s }\n"
      "measure hum { of u  thd at 50 Hz }\nrequirement R-1 { always hum < 1 % }\n";
  folder.write("b.dyne", "bench B {\n  step 1 ms" + rest);
  folder.write("c.dyne", "bench B {\n  step 100 us" + rest);
  CHECK(has(run_isodyne("run b.dyne s --no-report", folder.path()).out,
            "Measure hum is without the harmonics above 9: a step of 1 ms is too long to show them."));
  CHECK(!has(run_isodyne("run c.dyne s --no-report", folder.path()).out, "without the harmonics"));
}

TEST_CASE("Figures over other axes, around something, closer, with responses, and of a layout") {
  Runs runs;
  runs.run("a");
  for (const std::string kind : {"xy tank.level tx", "spectrum tx", "histogram tx high"}) {
    const std::size_t blank = kind.find(' ');
    const std::string name = kind.substr(0, blank);
    const Output drawn = runs(fmt::format("figure a {} --as {} --out {}", kind.substr(blank), name, name));
    INFO(drawn.err);
    CHECK(drawn.status == 0);
    CHECK(fs::file_size(runs.folder / (name + ".png")) > 5000);
    CHECK(slurp(runs.folder / (name + ".pdf")).starts_with("%PDF"));
  }
  CHECK(has(slurp(runs.folder / "histogram.svg"), "share in %"));
  CHECK(has(slurp(runs.folder / "xy.svg"), "tank.level in m"));
  CHECK(has(slurp(runs.folder / "xy.svg"), ">tx over tank.level<"));
  CHECK(has(slurp(runs.folder / "spectrum.svg"), ">Spectrum of tx<"));
  CHECK(has(runs("figure a tx --as pie").err, "--as takes time, xy, spectrum or histogram"));
  CHECK(has(runs("figure a tx --as xy").err, "needs both of them"));

  // high is true from just over 2 s on; level > 2.5 m from just over 3 s on.
  CHECK(runs("figure a tank.level --around high --before '0.5 s' --after '1 s' --out around").status == 0);
  CHECK(has(slurp(runs.folder / "around.svg"), "2.01 s  high"));
  CHECK(runs("figure a tank.level --around 'tank.level > 250 cm' --out level").status == 0);
  CHECK(has(slurp(runs.folder / "level.svg"), "3.01 s  tank.level > 250 cm"));
  CHECK(has(runs("figure a tank.level --around nothing").err, "`nothing` never comes"));
  CHECK(has(runs("figure a tank.level --around 'tank.level > 30 m'").err, "never comes"));

  CHECK(runs("figure a tank.level --closer '1 s .. 2 s' --out closer").status == 0);
  CHECK(has(slurp(runs.folder / "closer.svg"), "1.6 s"));
  CHECK(has(runs("figure a tank.level --closer '2 s'").err, "--closer takes a stretch"));

  // A lag of 0.4 s: from 10 % to 90 % in 0.4 s ln 9, within 2 % after 0.4 s ln 50.
  CHECK(runs("figure a lag --response --out response").status == 0);
  const std::string response = slurp(runs.folder / "response.svg");
  // The last value is that of ten time constants; the fourth digit is that of straight lines over 10 ms.
  CHECK(has(response, "rises in 0.87"));
  CHECK(has(response, " s (10 % to 90 %), no overshoot, within 2 % after 1.56"));
  CHECK(has(response, ">10 %<"));  // marked where it is
  // What goes on beyond the stretch, or began before it, is no whole step: nothing is measured of it.
  CHECK(runs("figure a tank.level --response --out half").status == 0);
  CHECK(has(slurp(runs.folder / "half.svg"), "still moves at 4 s: no whole step, so nothing is measured"));
  CHECK(runs("figure a lag --around high --before '1.7 s' --after '1 s' --response --out late").status == 0);
  CHECK(has(slurp(runs.folder / "late.svg"), "moves already before 0.31 s: no whole step"));
  CHECK_FALSE(has(slurp(runs.folder / "late.svg"), "rises in"));

  std::string text = slurp(runs.folder / "bench.dyne");
  text.replace(text.find("9 m }"), 3, "3.2 m");
  runs.folder.write("near.dyne", text);
  CHECK(runs("run near.dyne fill --no-report --out near").status == 0);
  CHECK(runs("figure near tank.level --out near-limit").status == 0);
  CHECK(has(slurp(runs.folder / "near-limit.svg"), "R-1 3.2"));

  runs.folder.write("mine.dyne", "figure one \"Mine\" { panel tank.level\n panel high }\nfigure two { panel tx }\n");
  CHECK(has(runs("figure a --layout mine.dyne --out m").out, "m-one.png, m-one.svg, m-one.pdf\nm-two.png"));
  CHECK(has(slurp(runs.folder / "m-one.svg"), "Small: Mine"));
  runs.folder.write("bad.dyne", "figure one { panel tank.levle }\n");
  CHECK(runs("figure a --layout bad.dyne").status == 2);
  runs.folder.write("none.dyne", "# no figure here\n");
  CHECK(has(runs("figure a --layout none.dyne").err, "none.dyne declares no figure"));
  CHECK(has(runs("figure a --layout mine.dyne --from '1 s'").err, "leave one of them out"));
  CHECK(has(runs("figure a tx --before '1 s'").err, "it is about --around"));
  CHECK(has(runs("figure a tx --around high --to '1 s'").err, "--around says which stretch"));
}

TEST_CASE("A signal that is constant or no number at all is said to be so, and long names are drawn") {
  const TestFolder folder;
  const std::string longest(200, 'x');
  folder.write("m.csv", "t [s],same [m],none [m],\"with blank\",größe [m]," + longest +
                            "\n0,3,,1,2,5\n1,3,,2,3,6\n2,3,,1,4,7\n");
  const auto isodyne = [&](const std::string& words) {
    return shell("LC_ALL=C.UTF-8 " ISODYNE_PROGRAM " " + words, folder.path());
  };
  CHECK(isodyne("import csv m.csv --out m").status == 0);
  CHECK(isodyne("figure m --out all").status == 0);
  const std::string svg = slurp(folder / "all.svg");
  CHECK(has(svg, ">same = 3 m<"));
  CHECK(has(svg, "none: no values"));
  CHECK(has(isodyne("show m").out, "no finite values"));
  CHECK(isodyne("figure m same none --as histogram --out h").status == 0);
  CHECK(has(slurp(folder / "h.svg"), "constant: 3"));
  CHECK(has(slurp(folder / "h.svg"), "no values"));
  CHECK(has(isodyne("figure m none --as spectrum").err, "there are too few values"));
  folder.write("only.csv", "t [s]\n0\n1\n");
  CHECK(isodyne("import csv only.csv --out o").status == 0);
  for (const char* command : {"show", "figure"}) {
    const Output nothing = isodyne(std::string(command) + " o");
    CHECK(nothing.status == 2);
    CHECK(has(nothing.err, "in o"));
  }
  CHECK(has(isodyne("report m").err, "isodyne judge m --out m"));
}

TEST_CASE("A curve that hardly moves is drawn flat, not refused: its axis has room for digits") {
  const TestFolder folder;
  folder.write("m.csv", "t [s],level [m]\n0,5.39999999921\n1,5.3999999993\n2,5.39999999938\n");
  CHECK(run_isodyne("import csv m.csv --out m", folder.path()).status == 0);
  const Output drawn = run_isodyne("figure m level --out f", folder.path());
  INFO(drawn.err);
  CHECK(drawn.status == 0);
  // and its ticks can be told apart
  CHECK(has(slurp(folder / "f.svg"), ">5.3999998<"));
  const Output shown = shell("LC_ALL=C.UTF-8 " ISODYNE_PROGRAM " show m level", folder.path());
  INFO(shown.out);
  CHECK(has(shown.out, "≈5.4 ┤"));  // the terminal has no room for such a scale
  CHECK(shown.out.find("5.4 ┤") == shown.out.rfind("5.4 ┤"));
}

TEST_CASE("Names of curves are cut only where they have no room beside their value, and rounded values say so") {
  const TestFolder folder;
  folder.write("m.csv",
               "t [s],chamber_level_low [m],lower_gates_angle [m],died_away [m],gate [m]\n"
               "0,1,0.94285714285,1.33362e-303,0.25\n1,2,0.94285714285,1.33362e-303,0.25\n");
  const auto isodyne = [&](const std::string& words) {
    return shell("LC_ALL=C.UTF-8 " ISODYNE_PROGRAM " " + words, folder.path());
  };
  REQUIRE(isodyne("import csv m.csv --out m").status == 0);
  REQUIRE(isodyne("figure m --out all").status == 0);
  const std::string svg = slurp(folder / "all.svg");
  for (const char* name : {">chamber_level_low<", "_angle ≈ 0.9429 m<", ">died_away ≈ 0 m<", ">gate = 0.25 m<"}) {
    INFO(name);
    CHECK(has(svg, name));
  }
  CHECK_FALSE(has(svg, "lower_gates_angle ≈"));
}

TEST_CASE("A recording with bytes flipped anywhere gives an error or values, never a crash") {
  Runs runs;
  runs.run("a");
  const std::string good = slurp(runs.folder / "a/recording.h5");
  std::uint64_t state = 12345;
  const auto next = [&] { return state = state * 6364136223846793005ULL + 1442695040888963407ULL, state >> 33; };
  std::string script;
  for (int i = 0; i < 60; ++i) {  // scripts/fuzz looks at the thousands
    std::string bad = good;
    for (int k = 0; k < 2; ++k)
      bad[next() % (i % 2 == 0 ? std::min<std::size_t>(bad.size(), 40'000) : bad.size())] = static_cast<char>(next());
    runs.folder.write(fmt::format("bad{}.h5", i), bad);
    script += fmt::format(
        "{} show bad{}.h5 tank.level tx > /dev/null 2> err; S=$?; [ $S = 0 ] || [ $S = 2 ] || {{ echo $S; cat err; "
        "}}\n",
        ISODYNE_PROGRAM, i);
  }
  runs.folder.write("look.sh", script);
  const Output looked = shell("sh look.sh", runs.folder.path());
  CHECK(looked.out.empty());
}

TEST_CASE("A report prints as PDF where Chromium is, and says so where it is not") {
  Runs runs;
  runs.run("a");
  const Output without = shell("PATH=/nowhere " ISODYNE_PROGRAM " report a --pdf", runs.folder.path());
  CHECK(without.status == 3);
  if (shell("command -v chromium").status != 0) return;
  const Output printed = runs("report a --pdf");
  INFO(printed.out << printed.err);
  CHECK(printed.status == 0);
  CHECK(slurp(runs.folder / "a/report.pdf").starts_with("%PDF"));
}

TEST_CASE("A packed run is repeated by somebody else, and an accepted one is what later ones are compared with") {
  Runs runs;
  runs.run("a");
  runs.run("b");
  runs.run("c", "", "1.001");
  const Output packed = runs("pack a");
  INFO(packed.err);
  CHECK(packed.status == 0);
  CHECK(has(packed.out, "a.zip: "));
  CHECK(has(runs("pack a").err, "exists"));
  CHECK(runs("pack a --out again").status == 0);
  CHECK(slurp(runs.folder / "a.zip") == slurp(runs.folder / "again.zip"));
  runs.folder.write("a/tool", "#!/bin/sh\n");
  fs::permissions(runs.folder / "a/tool", fs::perms::owner_all);
  CHECK(runs("pack a --out tool").status == 0);
  const Output modes = shell(
      "/usr/bin/python3 -c \"import zipfile; print(*[oct(i.external_attr >> 16) for i in "
      "zipfile.ZipFile('tool.zip').infolist() if i.filename in ('tool', 'recording.h5')])\"",
      runs.folder.path());
  CHECK(modes.out == "0o100644 0o100755\n");
  const Output unpacked = shell(
      "mkdir there && cd there && /usr/bin/python3 -m zipfile -e ../a.zip . && cat READ-ME.txt && "
      "cat bench/bench.dyne && " ISODYNE_PROGRAM " repeat . --folder bench",
      runs.folder.path());
  INFO(unpacked.out << unpacked.err);
  CHECK(unpacked.status == 0);
  CHECK(has(unpacked.out, "isodyne run bench.dyne fill"));
  CHECK(has(unpacked.out, "the same to the bit"));

  CHECK(runs("baseline check b").status == 2);
  CHECK(has(runs("baseline accept a").out, "a is accepted as baseline/Small-fill"));
  CHECK(runs("baseline check b").status == 0);
  const Json told = Json::parse(runs("baseline check b a --json").out);
  REQUIRE(told.size() == 2);
  CHECK(told[1]["first"] == "baseline/Small-fill");
  CHECK(told[1]["second"] == "a");
  const Output differs = runs("baseline check b c");
  CHECK(differs.status == 1);
  CHECK(has(differs.out, "tank.level"));
  CHECK(has(runs("baseline accept a --allow '*=1 % within 0.02 s' --allow 'tank.inflow=1 cm/s' --allow way=1").out,
            "in the place of the one before"));
  CHECK(runs("baseline check b c").status == 0);
  CHECK(runs("baseline check b --folder elsewhere").status == 2);
}

TEST_CASE("A breach between two rows is in the recording, in the figure of its moment, and in what is shown") {
  const TestFolder folder;
  folder.write(
      "b.dyne",
      "bench B {\n  step 1 ms\n  let x : m = (if time >= 3.503 s and time < 3.506 s then 9 m else 0 m) + time * 0.1 "
      "m/s\n}\nscenario s { hold 8 s }\nrequirement R-1 { always x < 5 m }\n");
  REQUIRE(run_isodyne("run b.dyne s --out r", folder.path()).status == 1);
  const auto recording = record::Recording::open_run(folder / "r");
  REQUIRE(recording);
  CHECK((*recording)->period_of("x") == std::chrono::milliseconds(100));
  const auto judged = (*recording)->judged_rows("x");
  REQUIRE(judged.size() > 500);
  const auto spike = std::find_if(judged.begin(), judged.end(), [](const auto& row) { return row.second > 5; });
  REQUIRE(spike != judged.end());
  CHECK(spike->first == 3'503'000'000);
  const std::string moment = slurp(folder / "r/figures/broken-R-1.svg");
  CHECK(has(moment, "judged every 1 ms, drawn from rows every 100 ms, inside at every instant"));
  // It is no more in what needs rows at equal distances, and comparing, listing, exporting know one signal of that
  // name.
  CHECK(run_isodyne("figure r x --as spectrum --out spectrum", folder.path()).status == 0);
  CHECK((*recording)->names() == std::vector<std::string>{"x"});
  CHECK(run_isodyne("repeat r", folder.path()).status == 0);
  const Output csv = run_isodyne("export csv r", folder.path());
  CHECK(std::count(csv.out.begin(), csv.out.end(), '\n') == 82);
  if (shell("command -v h5ls").status == 0)
    CHECK(has(shell("h5ls -r r/recording.h5", folder.path()).out, "/rates/judged/x"));
}

TEST_CASE("A whole number that is none ends the run too, and no verdict rests on it") {
  const TestFolder folder;
  const std::string bench =
      "bench B {\n  step 100 ms\n  let b : 1 = if time > 0.95 s and time < 1.05 s then 0 else 1\n"
      "  let m : int = round(1 / b)\n}\nscenario s { hold 2 s }\n";
  folder.write("b.dyne", bench + "requirement R-1 { never m > 5 }\n");
  const Output o = run_isodyne("run b.dyne s --no-report", folder.path());
  CHECK(o.status == 3);
  CHECK(has(o.err, "at 1 s `m` is infinite, and requirement `R-1` reads it"));
  CHECK(has(o.out, "undecided"));
  folder.write("c.dyne", bench + "requirement R-1 { never b > 5 }\n");
  CHECK(has(run_isodyne("run c.dyne s --no-report", folder.path()).out, "`m` is without a value from 1 s on"));
}

TEST_CASE("Figures of two runs are titled as two, and those of one over another name both axes") {
  Runs runs;
  runs.run("a");
  runs.run("b", "", "1.2");
  CHECK(runs("figure a b tank.level lag --out two").status == 0);
  CHECK(has(slurp(runs.folder / "two.svg"), "a and b"));
  CHECK(runs("figure a b tank.level --out one").status == 0);
  CHECK(has(slurp(runs.folder / "one.svg"), "tank.level: a and b"));
  CHECK(runs("figure a tank.level lag --as xy --out xy").status == 0);
  CHECK(has(slurp(runs.folder / "xy.svg"), "tank.level in m"));
  CHECK(has(slurp(runs.folder / "xy.svg"), "lag in m"));
}

TEST_CASE("Truths and labels are compared by name, and have no distance") {
  Runs runs;
  runs.run("a");
  runs.run("b", "", "1.2");
  const std::string out = runs("compare a b").out;
  std::istringstream lines(out);
  bool truths = false, labels = false;
  for (std::string line; std::getline(lines, line);) {
    if (line.starts_with("high ")) truths = has(line, "false") && has(line, "true") && has(line, "–");
    if (line.starts_with("way ")) labels = has(line, "shut") && has(line, "half") && has(line, "–");
  }
  INFO(out);
  CHECK(truths);
  CHECK(labels);
}

TEST_CASE("The picture of a bench says what its colours mean, whatever the bench is called") {
  const TestFolder folder;
  const std::string temporary = folder / "it's a $(touch harm) folder";
  fs::create_directories(temporary);
  if (shell("command -v dot").status != 0) return;
  const Output o = shell("TMPDIR=\"" + std::string("it's a \\$(touch harm) folder") + "\" " + ISODYNE_PROGRAM +
                             " draw " + kSource + "/examples/canal-lock/lock.dyne --out lock.svg",
                         folder.path());
  INFO(o.err);
  CHECK(o.status == 0);
  const std::string svg = slurp(folder / "lock.svg");
  for (const char* word : {"part", "sensor", "actuator", "controller", "words on arrows"}) CHECK(has(svg, word));
  CHECK(!fs::exists(folder / "harm"));
  CHECK(fs::is_empty(temporary));
}
