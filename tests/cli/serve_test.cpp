// A bench that runs without end: pieces of recordings, what is dropped, what it tells systemd, and how it comes back.

#include <filesystem>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
namespace fs = std::filesystem;

namespace {

constexpr const char* kWave = R"(bench Wave {
  step 10 ms
  record every 1 s
  record quick every 10 ms
  input on : bool = false
  let quick = 1 m * sin(time * 0.01 rad/s)
  let slow = 2 m * sin(time * 0.01 rad/s)
}
requirement R-1 { always quick < 2 m }
scenario switches {
  repeat 100 times {
    hold 60 s
    set on = not on
  }
}
)";

std::vector<std::string> pieces_of(const std::string& run) {
  std::vector<std::string> all;
  for (const auto& entry : fs::directory_iterator(run + "/pieces")) all.push_back(entry.path().string());
  std::sort(all.begin(), all.end());
  return all;
}

}  // namespace

TEST_CASE("Pieces of a recording have every instant once, and are together what a whole recording has") {
  const TestFolder folder;
  folder.write("wave.dyne", kWave);
  const std::string i = ISODYNE_PROGRAM;
  const Output o = shell(i + " serve wave.dyne switches --lockstep --for '30 min' --piece '7 min' --out served && " +
                             i + " run wave.dyne switches --for '30 min' --no-report --out whole",
                         folder.path());
  INFO(o.out << o.err);
  REQUIRE(o.status == 0);
  const std::string run = folder / "served/001-switches";
  const auto whole = record::Recording::open_run(folder / "whole");
  REQUIRE(whole);
  const std::vector<std::string> all = pieces_of(run);
  CHECK(all.size() == 5);
  std::vector<std::int64_t> times;
  std::map<std::string, std::vector<double>> values;
  std::size_t events = 0;
  for (const std::string& file : all) {
    const auto piece = record::Recording::open(file);
    REQUIRE(piece);
    const record::Instants& of_piece = (*piece)->times_of("quick");
    for (std::size_t k = 0; k < of_piece.size(); ++k) times.push_back(of_piece[k]);
    for (const char* name : {"quick", "slow", "on"}) {
      const auto rows = (*piece)->signal(name);
      REQUIRE(rows);
      values[name].insert(values[name].end(), rows->begin(), rows->end());
    }
    events += (*piece)->events().size();
  }
  const auto& then = (*whole)->times_of("quick");
  REQUIRE(times.size() == then.size());
  bool same = true;
  for (std::size_t k = 0; k < times.size(); ++k) same = same && times[k] == then[k];
  CHECK(same);
  CHECK(times.size() == 180'001);
  for (const char* name : {"quick", "slow", "on"}) CHECK(values[name] == *(*whole)->signal(name));
  CHECK(events == (*whole)->events().size());
  const std::string csv = slurp(run + "/events.csv");
  CHECK(std::count(csv.begin(), csv.end(), '\n') == static_cast<std::ptrdiff_t>(events) + 1);
  // The newest is what other commands find; what needs all of it says that it is not there.
  CHECK(fs::read_symlink(run + "/recording.h5") == "pieces/000005.h5");
  shows(slurp(run + "/verdicts.json"), "The recording is in pieces: 5 pieces, of which none was dropped");
  shows(slurp(run + "/verdicts.json"), "\"held\"");
  shows(shell(i + " show " + run + " quick").out, "quick in m");
  for (const char* command : {"repeat", "scenario", "values"}) {
    const Output no = shell(i + " " + command + " " + run, folder.path());
    CHECK(no.status != 0);
    shows(no.err, "it is a piece of a longer recording, from 1680 s on");
  }
  // What held in a piece is no verdict about the run.
  shows(shell(i + " judge " + all[1], folder.path()).out, "undecided");
  shows(shell(i + " judge " + run, folder.path()).out, "held");
}

TEST_CASE("Eight hours in pieces: the oldest are dropped, no event is lost, memory stays as it is") {
  const TestFolder folder;
  std::string text = kWave;
  text.replace(text.find("repeat 100 times"), 16, "repeat 480 times");
  folder.write("wave.dyne", text);
  // How much memory its processes take, as it goes on.
  folder.write(
      "watch.sh",
      fmt::format(
          R"({} serve wave.dyne switches --lockstep --for "8 h" --piece "30 min" --keep "1 h" --out served > served.txt 2>&1 &
serve=$!
while kill -0 $serve 2> /dev/null; do
  for p in $(pgrep -P $serve); do awk '/VmRSS/ {{ print $2 }}' /proc/$p/status 2> /dev/null >> memory.txt; done
  sleep 0.05
done
wait $serve; echo "ended with $?"
)",
          ISODYNE_PROGRAM));
  const Output o = shell("sh watch.sh", folder.path());
  INFO(o.out << o.err << slurp(folder / "served.txt"));
  shows(o.out, "ended with 0");
  const std::string run = folder / "served/001-switches";
  // Of the pieces those of the last hour are there: 7 h, 7 h 30 min, and the last instant.
  const std::vector<std::string> all = pieces_of(run);
  CHECK(all.size() <= 4);
  CHECK(all.back().ends_with("000017.h5"));
  const std::string csv = slurp(run + "/events.csv");
  std::size_t sets = 0;
  for (std::size_t at = 0; (at = csv.find("set to", at)) != std::string::npos; ++at) ++sets;
  CHECK(sets == 480 - 1 + 1);
  std::istringstream lines(slurp(folder / "memory.txt"));
  std::vector<double> memory;
  for (double kb = 0; lines >> kb;) memory.push_back(kb);
  if (memory.size() > 20 && !kSanitized) {
    const double early =
        *std::max_element(memory.begin(), memory.begin() + static_cast<std::ptrdiff_t>(memory.size() / 3));
    const double late = *std::max_element(memory.end() - static_cast<std::ptrdiff_t>(memory.size() / 3), memory.end());
    INFO("at first " << early << " kB, at last " << late << " kB");
    CHECK(late < early + 8'000);
  }
}

TEST_CASE("The oldest pieces of all runs go while they take too much room") {
  const TestFolder folder;
  folder.write("wave.dyne", kWave);
  const std::string serve =
      std::string(ISODYNE_PROGRAM) + " serve wave.dyne --lockstep --for '40 min' --piece '5 min' --out served";
  REQUIRE(shell(serve, folder.path()).status == 0);
  const std::string first = folder / "served/001-run", second = folder / "served/002-run";
  std::uintmax_t bytes = 0;
  const std::vector<std::string> before = pieces_of(first);
  for (const std::string& p : before) bytes += fs::file_size(p);
  REQUIRE(before.size() == 9);
  // What only looks like it is somebody else's.
  fs::create_directories(folder / "served/notes/pieces");
  folder.write("served/notes/pieces/000001.h5", std::string(1u << 20, 'x'));
  folder.write("served/001-run/pieces/mine.h5", std::string(1u << 20, 'x'));
  const Output o = shell(serve + fmt::format(" --keep-size '{} B'", bytes + bytes / 2), folder.path());
  INFO(o.out << o.err);
  REQUIRE(o.status == 0);
  CHECK(pieces_of(second).size() == 9);
  fs::rename(first + "/pieces/mine.h5", folder / "mine.h5");
  const std::vector<std::string> left = pieces_of(first);
  CHECK(left.size() < 7);
  CHECK(left.size() > 1);
  if (!left.empty()) CHECK(left.back() == before.back());
  CHECK(fs::exists(first + "/events.csv"));
  CHECK(fs::exists(folder / "served/notes/pieces/000001.h5"));
  CHECK(fs::exists(folder / "mine.h5"));
  for (const char* wrong : {"--keep-size 20", "--keep-size 'GB'", "--keep soon", "--piece '0 s'"})
    CHECK(shell(serve + " " + wrong, folder.path()).status == 2);
}

TEST_CASE("A served bench tells systemd how it is, is attached to, and ends cleanly") {
  const TestFolder folder;
  folder.write("wave.dyne", kWave);
  folder.write("notify.py", R"(import os, signal, socket, subprocess, sys
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
s.bind("notify")
s.settimeout(60)
run = subprocess.Popen([sys.argv[1], "serve", "wave.dyne", "--out", "served"],
                       env=dict(os.environ, NOTIFY_SOCKET=os.path.abspath("notify"), WATCHDOG_USEC="900000"))
told = []
while sum(b"WATCHDOG=1" in t for t in told) < 4:
    told.append(s.recv(1000))
print(told[0])
subprocess.run([sys.argv[1], "set", "served/001-run", "on", "true"], check=True)
subprocess.run([sys.argv[1], "read", "served/001-run", "on"], check=True)
run.send_signal(signal.SIGTERM)
while b"STOPPING" not in s.recv(1000):
    pass
print("status", run.wait())
)");
  const Output o = shell(std::string("python3 notify.py ") + ISODYNE_PROGRAM, folder.path());
  INFO(o.out << o.err);
  CHECK(o.status == 0);
  shows(o.out, "READY=1");
  shows(o.out, "on = true at");
  shows(o.out, "status 0");
  CHECK(fs::exists(folder / "served/001-run/verdicts.json"));
  if (shell("command -v systemd-analyze").status != 0) return;
  const Output unit = shell(fmt::format("sed 's#/usr/local/bin/isodyne#{}#' {}/docs/isodyne.service > isodyne.service "
                                        "&& systemd-analyze verify ./isodyne.service",
                                        ISODYNE_PROGRAM, kSource),
                            folder.path());
  INFO(unit.out << unit.err);
  CHECK(unit.status == 0);
  CHECK(unit.err.find("isodyne.service") == std::string::npos);
}

TEST_CASE("A served bench begins again when its controller was lost, and when its run was killed") {
  const TestFolder folder;
  folder.write("pump.dyne", R"(bench Pump {
  step 1 ms
  record every 100 ms
  input on : bool = false
  let level = 1 m
}
)");
  folder.write("go.sh", fmt::format(R"({0} serve pump.dyne --out served > served.txt 2>&1 &
serve=$!
begun() {{ for i in $(seq 600); do {0} read $1 level > /dev/null 2>&1 && return; sleep 0.1; done; echo "never begun: $1"; }}
begun served/001-run
pkill -KILL -P $serve
begun served/002-run
{0} end served/002-run
wait $serve; echo "ended with $?"
cat served.txt
)",
                                    ISODYNE_PROGRAM));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "never begun"));
  shows(o.out, "ended with 0");
  shows(o.out, "It begins again in 1 s");
  shows(o.out, "served/002-run: interrupted");
}

TEST_CASE("With --continue a bench begins where it stood when the power failed") {
  const TestFolder folder;
  // In files whose order in a recording is another one.
  folder.write("a.dyne", "choice Mode { off, on, boost }\n");
  folder.write("z.dyne", "fault dry { on outflow  offset 5 l/s  by hand }\n");
  folder.write("tank.dyne", R"(use "z.dyne", "a.dyne"
bench Tank {
  step 1 ms  method rk4
  record every 10 ms
  input inflow : l/s = 2 l/s
  input outflow : l/s = 1 l/s
  input mode : Mode = off
  param area : m^2 = 1 m^2  from 0.5 m^2 to 2 m^2
  state level : m = 1 m
  level' = (inflow - outflow) / area
  modes valve from shut {
    shut -> wide when mode is boost
    wide -> shut when mode is off
  }
}
)");
  folder.write("go.sh", fmt::format(R"(serve="{0} serve tank.dyne --fault dry --out served --continue"
begun() {{ for i in $(seq 600); do {0} read $1 level > /dev/null 2>&1 && return; sleep 0.1; done; echo "never begun: $1"; }}
setsid $serve > first.txt 2>&1 &
begun served/001-run-dry
{0} set served/001-run-dry mode boost
{0} set served/001-run-dry area "1.5 m^2"
{0} set served/001-run-dry inflow "7 l/s"
{0} inject served/001-run-dry dry
{0} wait served/001-run-dry "level > 1.002 m"
sleep 1
pkill -KILL -f "serve tank.dyne --fault dry"
sleep 1
$serve > second.txt 2>&1 &
begun served/002-run-dry
{0} run tank.dyne --for "1 s" --no-report --out served/999-tried > /dev/null
{0} read served/002-run-dry mode area inflow outflow
{0} end served/002-run-dry
wait $!
echo "# changed" >> tank.dyne
$serve --lockstep --for "10 ms" > third.txt 2>&1
cat first.txt second.txt third.txt
)",
                                    ISODYNE_PROGRAM));
  const Output o = shell("bash go.sh", folder.path());
  INFO(o.out << o.err);
  CHECK_FALSE(has(o.out, "never begun"));
  shows(o.out, "It begins as the bench says: there is no served run of this bench in served.");
  shows(o.out, "It goes on where served/001-run-dry stood at");
  shows(o.out, "As the bench says: outflow (a fault acted on it)");
  shows(o.out, "002-run-dry is of another text of this bench");
  // The first row is the last one of the run before.
  const auto was = record::Recording::open_run(folder / "served/001-run-dry"),
             is = record::Recording::open_run(folder / "served/002-run-dry");
  REQUIRE((was && is));
  for (const char* name : {"level", "mode", "area", "inflow", "valve"}) {
    INFO(name);
    REQUIRE((*was)->has(name));
    CHECK((*is)->signal(name)->front() == (*was)->signal(name)->back());
  }
  CHECK((*is)->signal("inflow")->front() == Approx(7e-3));
  CHECK((*is)->signal("mode")->front() == 2);
  CHECK((*is)->signal("valve")->front() == 1);
  CHECK((*is)->signal("level")->front() > 1.002);
  CHECK((*is)->signal("outflow")->front() == Approx(1e-3));
  CHECK((*was)->signal("outflow")->back() == Approx(6e-3));
  shows(slurp(folder / "served/002-run-dry/verdicts.json"), "It goes on where served/001-run-dry stood");
}
