// The built program as people use it: real files, a real controller, real signals.

#include <filesystem>
#include <fstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace fs = std::filesystem;

namespace {

/// A bench with a controller in C, small enough to read at one glance.
constexpr const char* kSmall = R"(
choice Order { idle, fill }
model Tank {
  input inflow : m/s
  output state level : m = 1 m
  level' = inflow
}
bench Small {
  step 1 ms
  record every 10 ms
  input demand : Order = idle
  part tank : Tank
  tank.inflow = pump
  sensor level { of tank.level  range 0 m .. 10 m  counts 0 .. 10000  every 10 ms }
  actuator pump : m/s
  controller plc {
    every 10 ms
    reads level, demand
    writes pump, alarm : bool, count : int
    setting code = library "plc"
  }
}
scenario fill {
  set demand = fill
  wait until tank.level > 2 m  within 5 s
}
scenario hopeless { wait until tank.level > 100 m  within 2 s }
scenario idle { hold 500 ms }
requirement R-1 { always tank.level <= 3 m }
requirement R-2 { always tank.level <= 1.5 m }
requirement R-3 { whenever tank.level > 50 m then plc.alarm }
)";

constexpr const char* kController = R"(
#include "plc_channels.h"
#include <math.h>
#include <stdlib.h>
const isodyne_controller_info isodyne_info = PLC_INFO;
int isodyne_init(void **self, int64_t period_ns) { (void)period_ns; *self = 0; INIT; return 0; }
int isodyne_step(void *self, int64_t time_ns, const plc_reads *r, plc_writes *w) {
  (void)self; (void)time_ns; (void)r;
  w->pump = r->demand == ORDER_FILL ? 0.5 : 0.0;
  w->count = w->count + 1;
  STEP;
  return 0;
}
void isodyne_close(void *self) { (void)self; }
)";

/// Writes the bench, exports its header with the program, and compiles the controller.
void make_bench(const TestFolder& folder,
                const std::string& flags = "-DINIT= -DSTEP=", const std::string& source = kController) {
  folder.write("bench.dyne", kSmall);
  folder.write("plc.c", source);
  const Output header = run_isodyne("export header bench.dyne --out plc_channels.h", folder.path());
  INFO(header.err);
  REQUIRE(header.status == 0);
  const Output compiled = shell(
      fmt::format("{} -std=c11 -Wall -Wextra -Wpedantic -Werror -fPIC -shared {} -I{}/include -o libplc.so plc.c -lm",
                  ISODYNE_C_COMPILER, flags, kSource),
      folder.path());
  INFO(compiled.err);
  REQUIRE(compiled.status == 0);
}

nlohmann::json verdicts(const TestFolder& folder, const std::string& run) {
  return nlohmann::json::parse(slurp(folder / (run + "/verdicts.json")));
}

}  // namespace

TEST_CASE("help, --help and --version answer, and every example of --help works") {
  CHECK(run_isodyne("help").status == 0);
  CHECK(run_isodyne("--version").out.starts_with("isodyne "));
  CHECK(run_isodyne("").status == 2);
  const TestFolder folder;
  // The examples speak of the checkout; runs/ and lock.html are made here.
  fs::create_directory_symlink(kSource + "/examples", folder / "examples");
  for (const char* command :
       {"check",    "run",        "list",     "export",    "report",          "help",          "io list", "io groups",
        "io free",  "io bind",    "io table", "io layout", "io loopback",     "io match",      "judge",   "measure",
        "faults",   "trace",      "show",     "compare",   "figure",          "repeat",        "import",  "runs",
        "runs tag", "runs prune", "recover",  "pack",      "baseline accept", "baseline check"}) {
    const Output help = run_isodyne(std::string(command) + " --help", folder.path());
    REQUIRE(help.status == 0);
    const std::size_t at = help.out.find("Example:\n  isodyne ");
    REQUIRE(at != std::string::npos);
    std::string example = help.out.substr(at + std::string("Example:\n  isodyne ").size());
    example.erase(example.find('\n'));
    INFO(example);
    const bool of_runs = std::string(
                             "report judge measure trace show compare figure repeat runs tag recover pack baseline "
                             "accept baseline check")
                             .find(command) != std::string::npos;
    if (of_runs) {
      REQUIRE(run_isodyne("run examples/canal-lock/lock.dyne uplock --for \"2 s\" --no-report --out runs/001-uplock",
                          folder.path())
                  .status == 0);
      REQUIRE(run_isodyne("run examples/canal-lock/lock.dyne uplock --fault level_drift --for \"2 s\" --no-report "
                          "--out runs/002-uplock-level_drift",
                          folder.path())
                  .status == 0);
    }
    if (std::string(command) == "run") example += " --for \"2 s\"";
    const Output output = run_isodyne(example, folder.path());
    INFO(output.err);
    CHECK(output.status == 0);
    fs::remove_all(folder / "runs");
  }
}

TEST_CASE("Mistakes on the command line are named, with advice and status 2") {
  const auto says = [](const std::string& arguments, const std::string& part) {
    const Output output = run_isodyne(arguments);
    INFO(arguments << "\n" << output.err);
    CHECK(output.status == 2);
    CHECK(output.err.find(part) != std::string::npos);
  };
  says("chekc x", "did you mean `check`?");
  says("tag x y", "did you mean `runs tag`?");
  says("run", "usage: isodyne run BENCH [SCENARIO]");
  says("run " + kLock + " uplok", "did you mean `uplock`?");
  says("run " + kLock + " uplock --fautl x", "did you mean `--fault`?");
  says("run " + kLock + " uplock --fault level_drfit", "did you mean `level_drift`?");
  says("run " + kLock + " uplock --fault level_sticky --fault level_offset", "both act on `chamber_level`");
  says("run " + kLock + " uplock --seed x", "--seed takes a whole number");
  says("run " + kLock + " uplock --for 3", "`3` is not a time");
  says("run " + kLock + " uplock --setting elsewhere", "it has code");
  says("run " + kLock, "name a scenario (uplock, downlock, both_ways");
  says("list " + kLock + " partz", "did you mean `parts`?");
  says("export headr " + kLock, "cannot export `headr`");
  says("export header " + kLock + " --out -", "goes to standard output where --out is left out");
  says("report nowhere", "there is no such folder");
  says("check nowhere.dyne", "No such file");
  says("check " + kSource, "it is a folder");
}

TEST_CASE("A reader that goes away early is no crash") {
  // `true` reads nothing; the status is that of isodyne, not of a signal.
  const Output listed = shell(fmt::format("set -o pipefail; {} list {} --json | true", ISODYNE_PROGRAM, kLock));
  CHECK(listed.status < 128);
  const TestFolder folder;
  std::string mistakes = "bench B { step 1 ms\n";
  for (int i = 0; i < 90; ++i) mistakes += fmt::format(" let a{} = nowhere{}\n", i, i);
  folder.write("b.dyne", mistakes + "}\n");
  const Output checked =
      shell(fmt::format("set -o pipefail; {} check b.dyne 2>&1 | true", ISODYNE_PROGRAM), folder.path());
  CHECK(checked.status < 128);
}

TEST_CASE("A file that is no text is one mistake, not hundreds") {
  const TestFolder folder;
  folder.write("b.dyne", std::string("\x7f") + "ELF\x01\xff" + std::string(200, '\0'));
  const Output output = run_isodyne("check b.dyne", folder.path());
  CHECK(output.status == 2);
  CHECK(output.err.find("this is no text") != std::string::npos);
  CHECK(output.err.find("1 mistake in b.dyne") != std::string::npos);
}

TEST_CASE("A run leaves its evidence and the exit status of its verdicts") {
  const TestFolder folder;
  make_bench(folder);
  const Output output = run_isodyne("run bench.dyne fill", folder.path());
  INFO(output.err);
  CHECK(output.status == 1);
  CHECK(output.out.find("R-1          held") != std::string::npos);
  CHECK(output.out.find("R-2          broken") != std::string::npos);
  CHECK(output.out.find("R-3          not put to the test") != std::string::npos);
  for (const char* file :
       {"recording.h5", "verdicts.json", "verdicts.xml", "report.html", "figures/states.svg", "figures/states.png"}) {
    INFO(file);
    CHECK(fs::exists(folder / (std::string("runs/001-fill/") + file)));
  }
  const auto v = verdicts(folder, "runs/001-fill");
  CHECK(v["ending"] == "completed");
  CHECK(v["requirements"][1]["verdict"] == "broken");
  CHECK(v["requirements"][1]["margin_unit"] == "m");
  CHECK(shell("xmllint --noout runs/001-fill/verdicts.xml", folder.path()).status == 0);
  CHECK(run_isodyne("run bench.dyne idle --no-report", folder.path()).status == 0);
  CHECK(run_isodyne("run bench.dyne idle --no-report --strict", folder.path()).status == 1);
  CHECK(fs::exists(folder / "runs/003-idle"));
}

TEST_CASE("The same run gives the same recording, byte for byte, and another seed another one") {
  const TestFolder folder;
  for (const char* run : {"a", "b"}) {
    REQUIRE(run_isodyne(fmt::format("run {} uplock --fault level_offset --for \"20 s\" --seed 7 --no-report --out {}",
                                    kLock, run),
                        folder.path())
                .status == 0);
    std::this_thread::sleep_for(std::chrono::milliseconds(1100));  // files that tell when they were made tell seconds
  }
  REQUIRE(
      run_isodyne(fmt::format("run {} uplock --fault level_offset --for \"20 s\" --seed 8 --no-report --out c", kLock),
                  folder.path())
          .status == 0);
  CHECK(shell("cmp a/recording.h5 b/recording.h5", folder.path()).status == 0);
  CHECK(shell("cmp a/recording.h5 c/recording.h5", folder.path()).status == 1);
}

TEST_CASE("An earlier run is never written over") {
  const TestFolder folder;
  make_bench(folder);
  REQUIRE(run_isodyne("run bench.dyne idle --no-report --out mine", folder.path()).status == 0);
  const std::string before = slurp(folder / "mine/recording.h5");
  const Output again = run_isodyne("run bench.dyne idle --no-report --out mine", folder.path());
  CHECK(again.status == 2);
  CHECK(again.err.find("not written over") != std::string::npos);
  CHECK(slurp(folder / "mine/recording.h5") == before);
}

TEST_CASE("A controller that is lost may leave its actuators with safe values, and the run goes on and says so") {
  const TestFolder folder;
  make_bench(folder, "-DINIT= '-DSTEP=if (time_ns >= 200000000) return 42'");
  std::string bench = kSmall;
  bench.replace(bench.find("actuator pump : m/s"), 19, "actuator pump : m/s { lost -0.25 m/s }");
  bench.replace(bench.find("setting code"), 12, "lost safe\n    setting code");
  folder.write("bench.dyne", bench);
  const Output output = run_isodyne("run bench.dyne fill --for \"1 s\"", folder.path());
  INFO(output.out << output.err);
  CHECK(output.status == 3);  // nothing asked for it
  CHECK(output.out.find("Lost controller `plc`: isodyne_step gave up with code 42") != std::string::npos);
  CHECK(output.out.find("at 0.2 s; the run went on: pump takes -0.25 m/s.") != std::string::npos);
  CHECK(verdicts(folder, "runs/001-fill")["ending"] == "cut short");
  CHECK(verdicts(folder, "runs/001-fill")["remarks"].size() == 1);
  CHECK(slurp(folder / "runs/001-fill/report.html").find("Lost controller") != std::string::npos);
  // The last answer, of 190 ms, counts until 210 ms: 0.5 m/s for 200 ms, then the safe value for 790 ms.
  CHECK(
      shell("/usr/bin/python3 -c \"import h5py; f = h5py.File('runs/001-fill/recording.h5'); s = f['signals']; assert "
            "f['time_ns'][21] == 210000000 and s['pump'][20] == 0.5 and s['pump'][21] == -0.25; assert "
            "abs(s['tank.level'][-1] - (1 + 0.5 * 0.2 - 0.25 * 0.79)) < 1e-9\"",
            folder.path())
          .status == 0);
}

TEST_CASE("A controller that crashes, hangs or gives up ends the run with what, when and its channel values") {
  struct Case {
    const char* flags;
    const char* said;
  };
  for (const auto& [flags, said] :
       {Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) *(volatile int*)8 = 1'",
             "crashed: invalid memory access (SIGSEGV)"},
        Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) abort()'", "it called abort() (SIGABRT)"},
        Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) for (volatile int i = 0;; ++i) {}'",
             "did not come back within 300 ms"},
        Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) return 42'", "isodyne_step gave up with code 42"},
        Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) w->pump = sqrt(-1.0 - r->level)'", "takes finite numbers"},
        Case{"-DINIT= '-DSTEP=if (time_ns >= 200000000) return isodyne_step(self, time_ns, r, w) + 1'", "SIGSEGV"}}) {
    // A sanitizer catches crashes itself, and ends the process in its own way.
    if (kSanitized && std::string(said).find("SIG") != std::string::npos) continue;
    const TestFolder folder;
    make_bench(folder, flags);
    // A short limit only where a hang is meant: on a loaded machine any call may take long.
    const bool hangs = std::string(said).find("did not come back") != std::string::npos;
    const Output output =
        run_isodyne(fmt::format("run bench.dyne idle --answer-within \"{}\" --no-report", hangs ? "300 ms" : "60 s"),
                    folder.path());
    INFO(flags << "\n" << output.err);
    CHECK(output.status == 3);
    CHECK(output.err.find(said) != std::string::npos);
    CHECK(output.err.find("at 0.2 s") != std::string::npos);
    CHECK(output.err.find("it read level = 1 m") != std::string::npos);
    CHECK(output.err.find("it read demand = idle") != std::string::npos);
    const auto v = verdicts(folder, "runs/001-idle");
    CHECK(v["ending"] == "controller failed");
    CHECK(v["requirements"][0]["verdict"] == "undecided");
    // The recording up to there is kept and whole.
    CHECK(run_isodyne("report runs/001-idle", folder.path()).status == 0);
    CHECK(shell("/usr/bin/python3 -c \"import h5py; f = h5py.File('runs/001-idle/recording.h5'); assert "
                "f['time_ns'][-1] >= 190000000\"",
                folder.path())
              .status == 0);
  }
}

TEST_CASE("A library that is missing, incomplete, foreign or outdated is refused before the first step") {
  const auto says = [](const TestFolder& folder, const std::string& part) {
    const Output output = run_isodyne("run bench.dyne idle --no-report", folder.path());
    INFO(output.err);
    CHECK(output.status == 3);
    CHECK(output.err.find(part) != std::string::npos);
  };
  {
    const TestFolder folder;
    make_bench(folder);
    fs::remove(folder / "libplc.so");
    says(folder, "has it been built?");
    folder.write("libplc.so", "this is no library");
    says(folder, "cannot load the library");
  }
  {
    const TestFolder folder;
    std::string source = kController;
    source.replace(source.find("void isodyne_close"), std::string("void isodyne_close").size(), "void other_close");
    make_bench(folder, "-DINIT= -DSTEP=", source);
    says(folder, "does not define `isodyne_close`");
  }
  {
    const TestFolder folder;
    std::string source = kController;
    source.replace(source.find("= PLC_INFO"), std::string("= PLC_INFO").size(), "= {99u, 0u, 0u, 0u, 0u}");
    make_bench(folder, "-DINIT= -DSTEP=", source);
    says(folder, "was built for version 99");
  }
  {
    const TestFolder folder;
    make_bench(folder);
    std::string bench = slurp(folder / "bench.dyne");
    bench.replace(bench.find("alarm : bool, count : int"), std::string("alarm : bool, count : int").size(),
                  "count : int, alarm : bool");
    folder.write("bench.dyne", bench);
    says(folder, "was built for other channels");
  }
  {
    const TestFolder folder;
    make_bench(folder, "'-DINIT=return 5' -DSTEP=");
    says(folder, "isodyne_init gave up with code 5");
  }
}

TEST_CASE("A wait that times out says what it waited for, keeps the recording, and exits with 3") {
  const TestFolder folder;
  make_bench(folder);
  const Output output = run_isodyne("run bench.dyne hopeless --no-report", folder.path());
  CHECK(output.status == 3);
  CHECK(output.err.find("`wait until tank.level > 100 m within 2 s` did not come true within 2 s") !=
        std::string::npos);
  CHECK(output.err.find("tank.level is 1 m") != std::string::npos);
  CHECK(verdicts(folder, "runs/001-hopeless")["ending"] == "wait timed out");
}

TEST_CASE("Ctrl-C closes the recording, and the verdicts say interrupted") {
  // To the one process, and to all of its group at once, as `timeout` and CI do: that is still one key.
  for (const char* whom : {"$pid", "-- -$pid"}) {
    INFO(whom);
    const TestFolder folder;
    make_bench(folder);
    const Output output =
        shell(fmt::format("set -m; {} run bench.dyne --for '100000 s' --no-report --out r & pid=$!; "
                          "until [ -s r/recording.h5 ]; do sleep 0.05; done; sleep 0.3; kill -INT {}; wait $pid",
                          ISODYNE_PROGRAM, whom),
              folder.path());
    INFO(output.err);
    CHECK(output.status == 3);
    CHECK(output.err.find("interrupted at") != std::string::npos);
    const auto v = verdicts(folder, "r");
    CHECK(v["ending"] == "interrupted");
    CHECK(v["requirements"][0]["verdict"] == "interrupted");
    CHECK(run_isodyne("report r", folder.path()).status == 0);
  }
}

TEST_CASE("A recording that is killed midway opens everywhere up to the last flush") {
  const TestFolder folder;
  make_bench(folder);
  const Output output = shell(
      fmt::format("{} run bench.dyne --for '100000 s' --no-report --out r & pid=$!; "
                  "{}; kill -9 $pid; {}; "
                  "/usr/bin/python3 -c \"import h5py; h5py.File('r/recording.h5')\" && {} recover r && "
                  "/usr/bin/python3 -c \"import h5py; f = h5py.File('r/recording.h5'); n = len(f['time_ns']); "
                  "assert n > 500, n; assert len(f['signals/tank.level']) == n; assert f.attrs['ending'] == b''\"",
                  ISODYNE_PROGRAM, until_written("r", 400'000), until_written_no_more("r"), ISODYNE_PROGRAM),
      folder.path());
  INFO(output.err);
  CHECK(output.status == 0);
}

TEST_CASE("A full disk ends the run with status 3, and what was written before can be read") {
  const TestFolder folder;
  make_bench(folder);
  // A limit on the size of files acts like a disk that is full, also for root.
  const Output output =
      shell(fmt::format("ulimit -f 20000; {} run bench.dyne --for '100000 s' --no-report --out r", ISODYNE_PROGRAM),
            folder.path());
  INFO(output.err);
  CHECK(output.status == 3);
  CHECK(output.err.find("cannot write the recording r/recording.h5: File too large") != std::string::npos);
  CHECK(output.out.find("R-1          undecided") != std::string::npos);
  CHECK(shell("/usr/bin/python3 -c \"import h5py; f = h5py.File('r/recording.h5'); assert len(f['time_ns']) > 1000\"",
              folder.path())
            .status == 0);
}

TEST_CASE("A folder that cannot be written to is named") {
  const TestFolder folder;
  make_bench(folder);
  folder.write("file", "not a folder");
  const Output output = run_isodyne("run bench.dyne idle --out file/run", folder.path());
  CHECK(output.status == 3);
  CHECK(output.err.find("cannot create the folder file/run") != std::string::npos);
  CHECK(run_isodyne("export header bench.dyne --out /proc/nowhere", folder.path()).status == 3);
}

TEST_CASE("A fault whose trigger never came is reported as not injected") {
  const TestFolder folder;
  const Output output = run_isodyne(
      fmt::format("run {} uplock --fault level_frozen --for '3 s' --no-report --out r", kLock), folder.path());
  CHECK(output.status == 0);
  CHECK(output.out.find("Fault level_frozen was not injected") != std::string::npos);
  CHECK(verdicts(folder, "r")["faults_not_injected"][0] == "level_frozen");
}

TEST_CASE("list shows every kind, as tables and as JSON") {
  const Output tables = run_isodyne("list " + kLock);
  CHECK(tables.status == 0);
  for (const char* word : {"parts\n", "states\n", "parameters\n", "channels\n", "controllers\n", "faults\n",
                           "scenarios\n", "requirements\n", "level_drift", "0.4 mm/s", "4 mA .. 20 mA"}) {
    INFO(word);
    CHECK(tables.out.find(word) != std::string::npos);
  }
  const auto j = nlohmann::json::parse(run_isodyne("list " + kLock + " faults requirements --json").out);
  CHECK(j["faults"].size() == 22);
  CHECK(j["requirements"].size() == 21);
  CHECK_FALSE(j.contains("parts"));
}

TEST_CASE("check --json gives place, code and advice") {
  const TestFolder folder;
  folder.write("b.dyne", "bench B { step 1 ms\n let a = levl\n let level = 1 m }");
  const Output output = run_isodyne("check b.dyne --json", folder.path());
  CHECK(output.status == 2);
  const auto j = nlohmann::json::parse(output.out);
  CHECK(j["good"] == false);
  CHECK(j["diagnostics"][0]["code"] == "unknown-name");
  CHECK(j["diagnostics"][0]["line"] == 2);
  CHECK(j["diagnostics"][0]["column"] == 10);
  CHECK(j["diagnostics"][0]["advice"] == "did you mean `level`?");
}

TEST_CASE("The canal lock keeps its rules when healthy, and the drifting transmitter breaks one") {
  const TestFolder folder;
  const Output up = run_isodyne("run " + kLock + " uplock --no-report --out up", folder.path());
  CHECK(up.status == 0);
  const Output down = run_isodyne("run " + kLock + " downlock --no-report --out down", folder.path());
  CHECK(down.status == 0);
  const Output drift =
      run_isodyne("run " + kLock + " uplock --fault level_drift --no-report --out drift", folder.path());
  CHECK(drift.status == 1);
  const auto v = verdicts(folder, "drift");
  CHECK(v["requirements"][2]["name"] == "L-03");
  CHECK(v["requirements"][2]["verdict"] == "broken");
  CHECK(v["requirements"][2]["worst_margin"].get<double>() < -5);
  CHECK(run_isodyne("run " + kLock + " uplock --fault level_frozen --no-report --out frozen", folder.path()).status ==
        0);
  CHECK(verdicts(folder, "frozen")["requirements"][7]["verdict"] == "held");
}

TEST_CASE("One report about several runs contains all of them and nothing from outside") {
  const TestFolder folder;
  make_bench(folder);
  run_isodyne("run bench.dyne fill --no-report --out a", folder.path());
  run_isodyne("run bench.dyne idle --no-report --out b", folder.path());
  const Output output = run_isodyne("report a b --out both.html", folder.path());
  INFO(output.err);
  REQUIRE(output.status == 0);
  const std::string html = slurp(folder / "both.html");
  CHECK(html.find("id=\"run1\"") != std::string::npos);
  CHECK(html.find("id=\"run2\"") != std::string::npos);
  CHECK(html.find("isodyne run bench.dyne fill --setting code --seed 1") != std::string::npos);
  CHECK(html.find("<script src") == std::string::npos);
  CHECK(html.find("src=\"http") == std::string::npos);
  CHECK(html.find("Dygraph") != std::string::npos);  // carried inside
  CHECK(html.find("class=\"plotdata\">{\"run\":2,") != std::string::npos);
  CHECK(html.find("url(http") == std::string::npos);
  CHECK(html.find("tank.inflow = pump") != std::string::npos);  // the sources
  // What was broken comes before everything else of its run, with a picture of that moment.
  const std::size_t broken = html.find("What was broken");
  REQUIRE(broken != std::string::npos);
  CHECK(broken < html.find("<th>Scenario</th>"));
  CHECK(html.find("alt=\"broken-R-2\"") > broken);
  CHECK(html.find("<b class=\"v broken\">R-2</b> first at ") > broken);
  CHECK(fs::exists(folder / "a/figures/broken-R-2.svg"));
  CHECK(html.find("class=\"few\"") != std::string::npos);
  // Six runs have their names upright, within a frame.
  REQUIRE(run_isodyne("report a b a b a b --out six.html", folder.path()).status == 0);
  CHECK(slurp(folder / "six.html").find("<div class=\"frame\"><table class=\"many\">") != std::string::npos);
}

TEST_CASE("A damaged run folder is refused with a reason, not a crash") {
  const TestFolder folder;
  make_bench(folder);
  run_isodyne("run bench.dyne idle --no-report --out a", folder.path());
  const std::string good = slurp(folder / "a/recording.h5");
  for (const std::size_t length : {std::size_t{0}, std::size_t{100}, good.size() / 2, good.size() - 1}) {
    folder.write("a/recording.h5", good.substr(0, length));
    const Output output = run_isodyne("report a", folder.path());
    INFO(length << " " << output.err);
    CHECK((output.status == 2 || output.status == 3));
    CHECK(output.err.find("recording") != std::string::npos);
  }
  folder.write("a/recording.h5", good);
  const std::string verdicts_text = slurp(folder / "a/verdicts.json");
  folder.write("a/verdicts.json", "{\"format\": \"isodyne verdicts\"}");
  CHECK(run_isodyne("report a", folder.path()).status == 2);
  folder.write("a/verdicts.json", "[[[[");
  CHECK(run_isodyne("report a", folder.path()).status == 2);
  std::string odd = verdicts_text;
  const std::size_t tests = odd.find("\"tests\": ") + 9;
  folder.write("a/verdicts.json", odd.replace(tests, odd.find(',', tests) - tests, "1.18447e+20"));
  const Output refused = run_isodyne("report a", folder.path());
  CHECK(refused.status == 2);
  CHECK(refused.err.find("there must be a whole number that fits, not 1.18447e+20") != std::string::npos);
}

TEST_CASE("The swing bridge passes through packed words, and faults on them are found out") {
  const TestFolder folder;
  fs::copy(kSource + "/examples/swing-bridge", folder / "bridge", fs::copy_options::recursive);
  const Output made = shell(fmt::format("make -C bridge/controller -B CC={} ISODYNE={} INCLUDE={}/include",
                                        ISODYNE_C_COMPILER, ISODYNE_PROGRAM, kSource),
                            folder.path());
  INFO(made.err);
  REQUIRE(made.status == 0);
  CHECK(slurp(folder / "bridge/controller/bridgectl_channels.h") ==
        slurp(kSource + "/examples/swing-bridge/controller/bridgectl_channels.h"));
  CHECK(run_isodyne("run bridge/bridge.dyne passage --no-report --out good", folder.path()).status == 0);
  // An encoder that jumps by 10 degrees: the box believes it and shows green too early.
  const Output offset =
      run_isodyne("run bridge/bridge.dyne passage --fault turn_offset --no-report --out bad", folder.path());
  CHECK(offset.status == 1);
  const auto verdict = [&](const std::string& run, const std::string& name) {
    const nlohmann::json all = verdicts(folder, run);
    for (const auto& v : all["requirements"]) {
      if (v["name"] == name) return v["verdict"].get<std::string>();
    }
    return std::string("none");
  };
  CHECK(verdict("good", "B-04") == "held");
  CHECK(verdict("bad", "B-04") == "broken");
  // Switches that exclude each other are not believed: the box stops everything.
  const Output shorted =
      run_isodyne("run bridge/bridge.dyne passage --fault switches_short --no-report --out alarm", folder.path());
  CHECK(shorted.status == 1);
  CHECK(verdict("alarm", "B-01") == "held");
  CHECK(verdict("alarm", "B-05") == "broken");
}

TEST_CASE("Groups of commands explain themselves, and list knows whatever has a name") {
  const TestFolder folder;
  for (const char* group : {"io", "baseline"}) {
    const Output o = run_isodyne(std::string(group) + " --help", folder.path());
    CHECK(o.status == 0);
    CHECK(has(o.out, "Usage: isodyne " + std::string(group) + " COMMAND"));
    CHECK(run_isodyne("help " + std::string(group), folder.path()).out == o.out);
    CHECK(has(run_isodyne(group, folder.path()).err, "see `isodyne help " + std::string(group) + "`"));
  }
  CHECK(has(run_isodyne("runs --help", folder.path()).out, "runs prune"));
  const std::string lock = kSource + "/examples/canal-lock/lock.dyne",
                    bridge = kSource + "/examples/swing-bridge/bridge.dyne",
                    pump = kSource + "/examples/drain-pump/pump.dyne";
  const auto list = [&](const std::string& file, const std::string& name) {
    const Output o = run_isodyne("list " + file + " " + name, folder.path());
    INFO(o.err);
    CHECK(o.status == 0);
    return o.out;
  };
  CHECK(has(list(lock, "plc"), "code = library \"controller/lockctl\""));
  CHECK(has(list(pump, "relay_alone"), "takes out"));
  CHECK(has(list(bridge, "cables"), "->"));
  CHECK(has(list(lock, "uplock"), "among the scenarios"));
  CHECK(has(run_isodyne("list " + lock + " plcc", folder.path()).err, "did you mean `plc`?"));
}

TEST_CASE("A text that cannot be read whole says that the rest was not checked") {
  const TestFolder folder;
  folder.write("b.dyne", "bench B {\n  step 1 ms\n  let x : m = 3 s\n  let y == 2\n}\n");
  const Output o = run_isodyne("check b.dyne", folder.path());
  CHECK(has(o.err, "1 mistake in b.dyne; what the rest means is checked once all of it can be read"));
  folder.write("b.dyne", "bench B {\n  step 1 ms\n  let x : m = 3 s\n}\n");
  CHECK(!has(run_isodyne("check b.dyne", folder.path()).err, "what the rest means"));
}

TEST_CASE("Several settings may stand in a line, parameters of scenarios are taken, or told how") {
  const TestFolder folder;
  const std::string bench =
      "model L { input x : m\n output y : bool\n y = x > 1 m }\nbench B {\n  step 10 ms\n  let h : m = 2 m\n"
      "  sensor x { of h  every 10 ms }\n  actuator y : bool\n"
      "  controller c { every 10 ms  setting a = part L  setting b = link \"127.0.0.1:5600\" ready within 3 s  reads x "
      " "
      "writes y }\n}\n";
  folder.write("b.dyne", bench +
                             "scenario wait_for(long, short : s, n : int = 1) { hold long + short }\n"
                             "scenario s { do wait_for(long = 1 s, short = 2 s) }\n");
  const Output o = run_isodyne("run b.dyne s --no-report", folder.path());
  INFO(o.err);
  CHECK(has(o.out, "3.000 s simulated"));
  folder.write("c.dyne", bench + "scenario s { param long : s = 1 s\n  hold long }\n");
  CHECK(has(run_isodyne("check c.dyne", folder.path()).err, "parameters stand behind the name of the scenario"));
}

TEST_CASE("Times are written as people write them, and read the same way") {
  const TestFolder folder;
  folder.write(
      "b.dyne",
      "bench B {\n  step 1 s\n  record every 1 min\n  let x : m = time * 1 m/s\n  let late : bool = time > 50 h\n}\n"
      "scenario s { hold 14 h }\nrequirement R-1 { always x < 46400 m }\n"
      "condition begun = time > 1 min\nrequirement R-2 { whenever begun becomes active then within 1 h late }\n");
  const Output o = run_isodyne("run b.dyne s --no-report --out r", folder.path());
  CHECK(has(o.out, "14 h simulated"));
  CHECK(has(o.out, "12 h 53 min 20 s"));
  CHECK(has(o.out, "-4000 m"));
  CHECK(has(o.out, "-12.98 h"));
  CHECK(!has(o.out, "e+04"));
  CHECK(run_isodyne("figure r x --from '12 h 53 min' --to '12 h 54 min 3.5 s' --out f", folder.path()).status == 0);
  CHECK(run_isodyne("figure r x --from '12 h 53' --out f", folder.path()).status == 2);
  CHECK(run_isodyne("figure r x --from '5 min 3 h' --out f", folder.path()).status == 2);
  CHECK(run_isodyne("figure r x --from '5 s 3 s' --out f", folder.path()).status == 2);
  CHECK(has(run_isodyne("measure r 'of x  most  over 12 h .. 13 h'", folder.path()).out, "13 h "));
}

TEST_CASE("While a run waits for a controller the terminal says for whom, and how far it is") {
  if (shell("command -v script").status != 0) return;
  const TestFolder folder;
  folder.write(
      "b.dyne",
      "bench B {\n  step 10 ms\n  let h : m = 2 m\n  sensor x { of h  every 10 ms }\n  actuator y : bool\n"
      "  controller c { every 10 ms  reads x  writes y  setting far = link \"127.0.0.1:0\" ready within 2 s }\n}\n");
  const Output o =
      shell("script -qec '" + std::string(ISODYNE_PROGRAM) + " run b.dyne --for \"1 s\" --no-report' /dev/null",
            folder.path());
  INFO(o.out);
  CHECK(has(o.out, "waiting for 1 s, controller `c` is offline"));
  CHECK(has(o.out, "ready within 1 min"));
}

TEST_CASE("A played file is told to hold the scenario until it is over") {
  const TestFolder folder;
  folder.write("tide.csv", "t [s],level [m]\n0,1\n1.5,3\n");
  folder.write("b.dyne",
               "bench B {\n  step 10 ms\n  input a : m = 0 m\n  let x : m = a\n}\n"
               "scenario s {\n  play \"tide.csv\" onto a\n  hold 1 s\n}\n");
  REQUIRE(run_isodyne("run b.dyne s --no-report --out r", folder.path()).status == 0);
  const auto run = record::Recording::open_run(folder / "r");
  REQUIRE(run);
  const auto& events = (*run)->events();
  CHECK(std::any_of(events.begin(), events.end(), [](const record::RecordedEvent& e) {
    return has(e.text, "play \"tide.csv\" onto a; the scenario goes on in 1.5 s");
  }));
  CHECK((*run)->times().back() == 2'500'000'000);
}
