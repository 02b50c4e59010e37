// What is recorded how often, in which form, around which instants; and that a kill loses next to nothing.

#include <cmath>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/record/byte_planes.h"
#include "isodyne/record/kept_windows.h"
#include "isodyne/record/recorder.h"
#include "isodyne/record/recording.h"
#include "isodyne/record/recover.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
namespace fs = std::filesystem;

namespace {

/// Waves of which every value is known. high: 2.239 ms .. 4.044 ms, and each 4 π ms later.
constexpr const char* kWaves = R"(
bench Waves {
  step 1 us
  record every 1 ms
  record wave_a every 1 us
  record single every 1 us as float32 compressed
  record packed, whole every 10 us compressed
  record hidden never
  record around every 1 us when high rises with 2 us before and 3 us after
  record "level*" every 5 us when high
  let wave_a : V = 10 V * sin(time * 500 rad/s)
  let single : m = time * 1 m/s
  let packed : mm = 1000 * time * 1 m/s
  let whole : int = 3
  let hidden : 1 = 7
  let around : V = wave_a
  let level_it : V = wave_a
  let slow : 1 = 2 * time / 1 s
  condition high = wave_a > 9 V
}
scenario s { hold DURATION }
)";

std::string waves(const std::string& duration) {
  std::string text = kWaves;
  text.replace(text.find("DURATION"), 8, duration);
  return text;
}

/// Whether every value that is there is the right one.
void check_waves(const record::Recording& r) {
  const auto check = [&](const char* name, double tolerance, const auto& expected) {
    const auto values = r.signal(name);
    INFO(name);
    REQUIRE(values);
    const record::Instants& times = r.times_of(name);
    double worst = 0;
    for (std::size_t i = 0; i < values->size(); ++i)
      worst = std::max(worst, std::abs((*values)[i] - expected(1e-9 * static_cast<double>(times[i]))));
    CHECK(worst <= tolerance);
  };
  const auto wave = [](double t) { return 10 * std::sin(500 * t); };
  check("wave_a", 1e-9, wave);
  check("single", 1e-6, [](double t) { return t; });
  check("packed", 1e-9, [](double t) { return 1000 * t; });
  check("whole", 0, [](double) { return 3; });
  check("around", 1e-9, wave);
  check("slow", 1e-9, [](double t) { return 2 * t; });
}

/// All rows from the first on, none left out.
void check_regular(const record::Instants& times, std::int64_t period) {
  for (std::size_t i = 0; i + 1 < times.size(); ++i) REQUIRE(times[i] == static_cast<std::int64_t>(i) * period);
}

}  // namespace

TEST_CASE("Groups of signals are recorded each in their own way") {
  const TestFolder folder;
  folder.write("w.dyne", waves("30 ms"));
  const Output ran = run_isodyne("run w.dyne s --no-report --out r", folder.path());
  INFO(ran.err);
  REQUIRE(ran.status == 0);
  const auto opened = record::Recording::open(folder / "r/recording.h5");
  REQUIRE(opened);
  const record::Recording& r = **opened;
  CHECK(!r.unfinished());
  CHECK(!fs::exists(folder / "r/recording.tail"));
  check_waves(r);
  CHECK(r.times().size() == 31);
  CHECK(r.times_of("wave_a").size() == 30001);
  CHECK(r.times_of("packed").size() == 3001);
  check_regular(r.times_of("wave_a"), 1000);
  CHECK(!r.has("hidden"));
  CHECK(r.has("level_it"));
  CHECK(!r.throughout("around"));
  // high becomes true at asin(0.9) / 500 = 2239.54 µs: the first instant is 2240 µs; again 4 π ms later.
  const record::Instants& around = r.times_of("around");
  REQUIRE(around.size() == 3 * 6);
  for (std::size_t i = 0; i < 6; ++i) {
    CHECK(around[i] == 2'238'000 + static_cast<std::int64_t>(i) * 1000);
    CHECK(around[6 + i] == 14'804'000 + static_cast<std::int64_t>(i) * 1000);
  }
  // level_it: every 5 µs from 2240 to 4043.6 µs, and twice more.
  CHECK(r.times_of("level_it")[0] == 2'240'000);
  const auto level = r.signal("level_it");
  REQUIRE(level);
  for (const double v : *level) CHECK(v > 9);
  CHECK(r.times_of("level_it").size() == Approx(3 * 361).margin(2));

  SECTION("the same run gives the same bytes") {
    REQUIRE(run_isodyne("run w.dyne s --no-report --out again", folder.path()).status == 0);
    CHECK(slurp(folder / "r/recording.h5") == slurp(folder / "again/recording.h5"));
  }
  SECTION("other tools read it") {
    folder.write("read.py", R"(
import h5py, numpy as np
f = h5py.File('r/recording.h5')
for name in f['rates']:
    g = f['rates'][name]
    for signal in g:
        if signal != 'time_ns': assert g[signal].attrs['time'].decode() == f'/rates/{name}/time_ns', signal
single = f['rates/1us_2/single']
assert single.dtype == np.float32 and single.compression == 'gzip' and single.shuffle
t = f['rates/1us_2/time_ns'][:] * 1e-9
assert np.abs(single[:] - t).max() < 1e-8
packed = f['rates/10us/packed']
assert np.abs(packed[:] * 1e-3 - f['rates/10us/time_ns'][:] * 1e-9).max() < 1e-12
assert f['rates/1us_3'].attrs['kept'].decode() == 'when high rises with 2 us before and 3 us after'
assert len(f['rates/1us/wave_a']) == 30001 and f['rates/1us/wave_a'].compression is None
)");
    const Output read = shell("/usr/bin/python3 read.py", folder.path());
    INFO(read.err);
    CHECK(read.status == 0);
  }
  SECTION("rules see the quickest signal that they read") {
    folder.write("rules.dyne", "requirement Q-1 { always wave_a < 9.99999 V }\nrequirement Q-2 { always slow < 1 }\n");
    const Output judged = run_isodyne("judge r rules.dyne", folder.path());
    CHECK(judged.status == 1);
    // 10 sin reaches 9.99999 at 3.13876 ms, between two of the slow instants.
    CHECK_THAT(judged.out, Catch::Contains("broken") && Catch::Contains("undecided"));
    // Of `slow` there is less than the run had: no breach to be seen is not none.
    CHECK_THAT(judged.out,
               Catch::Contains("The recording has an image every 1 ms, where the run was judged every 1 us") ||
                   Catch::Contains("The recording has an image every 1 ms, where the run was judged every 1 µs"));
    const Output slow = run_isodyne("measure r \"of slow most\"", folder.path());
    CHECK_THAT(slow.out, Catch::Contains("The recording has an image every 1 ms"));
    folder.write("gap.dyne", "requirement Q-3 { always around < 11 V }\n");
    const Output gap = run_isodyne("judge r gap.dyne", folder.path());
    CHECK(gap.status == 0);  // it is kept only around some instants, but its equation gives it at all of them
    CHECK_THAT(gap.out, !Catch::Contains("The recording has an image every"));
  }
  SECTION("exported together, the slower ones are held") {
    const Output csv = run_isodyne("export csv r wave_a slow around", folder.path());
    CHECK(csv.status == 0);
    CHECK_THAT(csv.out, Catch::Contains("\n1e-06,"));
    CHECK_THAT(csv.err, Catch::Contains("slow is recorded every 1 ms, and held in between"));
    CHECK_THAT(csv.err, Catch::Contains("around is recorded only around some instants"));
  }
}

TEST_CASE("What is kept around breaches of requirements") {
  const TestFolder folder;
  folder.write("b.dyne", R"(
bench B {
  step 1 ms
  record every 100 ms
  record x every 1 ms when broken R-1 with 3 ms before and 2 ms after
  record y every 1 ms when broken with 1 ms before
  let x : m = time * 1 m/s
  let y : m = 2 * x
}
scenario s { hold 5 s }
requirement R-1 { always x < 1 m }
requirement R-2 { always y < 6 m }
)");
  for (const char* way : {"", "--interpret"}) {
    const std::string out = std::string("r") + (way[0] == '\0' ? "1" : "2");
    REQUIRE(run_isodyne(fmt::format("run b.dyne s --no-report {} --out {}", way, out), folder.path()).status == 1);
    const auto r = record::Recording::open_run(folder / out);
    REQUIRE(r);
    const record::Instants& x = (*r)->times_of("x");
    REQUIRE(x.size() == 6);
    CHECK(x.front() == 997'000'000);
    CHECK(x.back() == 1'002'000'000);
    const record::Instants& y = (*r)->times_of("y");
    REQUIRE(y.size() == 4);
    CHECK(y[0] == 999'000'000);
    CHECK(y[1] == 1'000'000'000);
    CHECK(y[2] == 2'999'000'000);
    CHECK(y[3] == 3'000'000'000);
  }
}

TEST_CASE("Kept rows are those of the definition, for any triggers") {
  RandomStream random(11, "windows");
  for (int turn = 0; turn < 300; ++turn) {
    const auto pick = [&](std::uint64_t most) { return static_cast<std::int64_t>(random.next() % (most + 1)); };
    const std::int64_t before = pick(20), after = pick(20), late = pick(10), period = 1 + pick(3);
    std::vector<std::int64_t> triggers;
    for (std::int64_t t = 0; t < 400; ++t) {
      if (random.next() % 40 == 0) triggers.push_back(t);
    }
    record::KeptWindows windows(before, after, late, static_cast<std::size_t>((before + late) / period + 2), 1);
    std::vector<std::int64_t> kept, expected;
    const auto keep = [&](std::int64_t at, const double* values) {
      CHECK(values[0] == static_cast<double>(at));
      kept.push_back(at);
    };
    std::size_t told = 0;
    for (std::int64_t t = 0; t < 500; ++t) {
      while (told < triggers.size() && triggers[told] + late <= t) windows.keep_around(triggers[told++]);
      if (t % period != 0) continue;
      *windows.add(t) = static_cast<double>(t);
      windows.settle(t, false, keep);
      bool wanted = false;
      for (const std::int64_t at : triggers) wanted = wanted || (t >= at - before && t <= at + after);
      if (wanted) expected.push_back(t);
    }
    windows.settle(0, true, keep);
    CHECK(kept == expected);
  }
}

TEST_CASE("Planes of bytes come back, and zlib reads them") {
  RandomStream random(3, "planes");
  record::BytePlanes planes;
  const TestFolder folder;
  std::string checks = "import zlib\n";
  for (int turn = 0; turn < 200; ++turn) {
    const std::size_t rows = 1 + random.next() % 3000, size = random.next() % 2 == 0 ? 8 : 4;
    std::vector<std::uint8_t> bytes(rows * size);
    const std::uint64_t longest = 1 + random.next() % 700;
    std::uint8_t byte = 0;
    std::uint64_t left = 0;
    for (std::uint8_t& b : bytes) {  // runs of all lengths, in some turns of each byte in its plane
      if (left-- == 0) byte = static_cast<std::uint8_t>(random.next()), left = random.next() % longest;
      b = byte;
    }
    if (turn % 2 == 0) {
      std::vector<std::uint8_t> turned(bytes.size());
      for (std::size_t i = 0; i < bytes.size(); ++i) turned[i % rows * size + i / rows] = bytes[i];
      bytes = turned;
    }
    const auto stream = planes.compress(bytes.data(), rows, size);
    std::vector<std::uint8_t> back(bytes.size());
    REQUIRE(record::expand_planes(stream, rows, size, back.data()));
    CHECK(back == bytes);
    const std::string name = fmt::format("s{}", turn);
    folder.write(name, std::string(stream.begin(), stream.end()));
    folder.write(name + "r", std::string(bytes.begin(), bytes.end()));
    checks += fmt::format(
        "s = zlib.decompress(open('{0}','rb').read()); r = open('{0}r','rb').read()\n"
        "assert bytes(s[i % {2} * {1} + i // {2}] for i in range(len(r))) == r\n",
        name, rows, size);
    CHECK_FALSE(record::expand_planes(stream.first(stream.size() / 2), rows, size, back.data()));
  }
  folder.write("check.py", checks);
  const Output checked = shell("/usr/bin/python3 check.py", folder.path());
  INFO(checked.err);
  CHECK(checked.status == 0);
}

TEST_CASE("Instants that are regular are found where a list would have them") {
  RandomStream random(8, "instants");
  for (int turn = 0; turn < 200; ++turn) {
    const auto first = static_cast<std::int64_t>(random.next() % 50),
               period = 1 + static_cast<std::int64_t>(random.next() % 9);
    const std::size_t count = random.next() % 30;
    std::vector<std::int64_t> list;
    for (std::size_t i = 0; i < count; ++i) list.push_back(first + static_cast<std::int64_t>(i) * period);
    record::Instants regular(first, period, count);
    if (count > 0 && turn % 2 == 0) {
      list.push_back(list.back() + 1 + static_cast<std::int64_t>(random.next() % 7));
      regular.add_last(list.back());
    }
    const record::Instants plain(list);
    CHECK(regular == plain);
    CHECK(regular.size() == list.size());
    for (std::int64_t t = -5; t < 400; ++t) {
      CHECK(regular.until(t) == static_cast<std::size_t>(std::upper_bound(list.begin(), list.end(), t) - list.begin()));
      CHECK(plain.until(t) == regular.until(t));
      CHECK(plain.before(t) == regular.before(t));
    }
  }
}

namespace {

/// Runs the program until its tail has so many bytes, and for so long after that; and kills it.
void run_and_kill(const std::string& folder, const std::string& out, unsigned milliseconds, std::uintmax_t bytes) {
  const pid_t child = ::fork();
  REQUIRE(child >= 0);
  if (child == 0) {
    const int nowhere = ::open("/dev/null", O_WRONLY);
    if (::chdir(folder.c_str()) != 0 || ::dup2(nowhere, 1) < 0 || ::dup2(nowhere, 2) < 0) ::_exit(126);
    ::execl(ISODYNE_PROGRAM, ISODYNE_PROGRAM, "run", "w.dyne", "s", "--no-report", "--out", out.c_str(),
            static_cast<char*>(nullptr));
    ::_exit(127);
  }
  const std::string recording = folder + "/" + out + "/recording.h5";
  const auto written = [&] {
    std::error_code none;
    const auto size = fs::file_size(record::tail_of(recording), none);
    return !none && size >= bytes;
  };
  for (int i = 0; i < 6000 && !written(); ++i) ::usleep(10'000);
  ::usleep(milliseconds * 1000);
  ::kill(child, SIGKILL);
  ::waitpid(child, nullptr, 0);
  // The run itself is a child of what was killed, and dies with it a moment later.
  for (int i = 0; i < 6000 && record::tail_grows(record::tail_of(recording)); ++i) ::usleep(10'000);
}

/// How many kills; scripts/fuzz asks for more.
int kills(int usual) {
  const char* wanted = std::getenv("ISODYNE_KILLS");
  return wanted == nullptr ? usual : std::atoi(wanted);
}

/// A tail of which this much is written has rows of every group in it, however slow the machine is.
constexpr std::uintmax_t kSomeRows = 20'000;

}  // namespace

TEST_CASE("Runs that are killed at any moment of their first tenths of a second are readable, or honestly empty") {
  const TestFolder folder;
  folder.write("w.dyne", waves("1000 s"));
  RandomStream random(23, "early kills");
  std::size_t readable = 0, empty = 0;
  const int turns = kills(kSanitized ? 10 : 60);
  for (int turn = 0; turn < turns; ++turn) {
    const std::string out = fmt::format("r{}", turn);
    const pid_t child = ::fork();
    if (child == 0) {
      const int nowhere = ::open("/dev/null", O_WRONLY);
      if (::chdir(folder.path().c_str()) != 0 || ::dup2(nowhere, 1) < 0 || ::dup2(nowhere, 2) < 0) ::_exit(126);
      ::execl(ISODYNE_PROGRAM, ISODYNE_PROGRAM, "run", "w.dyne", "s", "--no-report", "--interpret", "--out",
              out.c_str(), static_cast<char*>(nullptr));
      ::_exit(127);
    }
    ::usleep(static_cast<unsigned>(random.uniform() * 250'000));
    ::kill(child, SIGKILL);
    ::waitpid(child, nullptr, 0);
    const std::string file = folder / (out + "/recording.h5");
    for (int i = 0; i < 6000 && record::tail_grows(record::tail_of(file)); ++i) ::usleep(10'000);
    const auto r = record::Recording::open(file);
    if (r) {
      ++readable;
      check_waves(**r);
      continue;
    }
    ++empty;
    INFO(r.failure().text());
    const bool honest = has(r.failure().text(), "no such file") || has(r.failure().text(), "killed before anything");
    CHECK(honest);
  }
  if (std::getenv("ISODYNE_KILLS") != nullptr) WARN(readable << " readable, " << empty << " empty");
  CHECK(readable + empty == static_cast<std::size_t>(turns));
}

TEST_CASE("After a kill at any moment everything but the last moment is there, and recover makes the file whole") {
  const TestFolder folder;
  folder.write("w.dyne", waves("1000 s"));
  RandomStream random(21, "kills");
  for (int turn = 0, turns = kills(8); turn < turns; ++turn) {
    const std::string out = fmt::format("r{}", turn);
    run_and_kill(folder.path(), out, 300 + static_cast<unsigned>(random.next() % 700), kSomeRows);
    const std::string file = folder / (out + "/recording.h5");
    std::size_t rows = 0, slow = 0;
    {
      const auto r = record::Recording::open(file);
      INFO((r ? "" : r.failure().text()));
      REQUIRE(r);
      CHECK((*r)->unfinished());
      CHECK_FALSE((*r)->growing());
      CHECK((*r)->ending().empty());
      check_waves(**r);
      check_regular((*r)->times_of("wave_a"), 1000);
      check_regular((*r)->times_of("packed"), 10'000);
      rows = (*r)->times_of("wave_a").size();
      slow = (*r)->times().size();
      CHECK(slow > 1);
      REQUIRE((*r)->events().size() == 1);
    }
    if (turn == 0) {
      const Output shown = run_isodyne("show " + out + " slow", folder.path());
      CHECK(shown.status == 0);
      CHECK_THAT(shown.err, Catch::Contains(out + " breaks off at ") && Catch::Contains("isodyne recover"));
    }
    const Output recovered = run_isodyne("recover " + out, folder.path());
    INFO(recovered.err);
    REQUIRE(recovered.status == 0);
    CHECK_THAT(recovered.out, Catch::Contains(fmt::format("{} instants", slow)));
    const auto whole = record::Recording::open(file);
    REQUIRE(whole);
    CHECK_FALSE((*whole)->unfinished());
    CHECK((*whole)->times_of("wave_a").size() == rows);
    CHECK((*whole)->identity().scenario == "s");
    check_waves(**whole);
    fs::remove_all(folder / out);
  }
  CHECK_THAT(run_isodyne("recover nowhere", folder.path()).err, Catch::Contains("no such file"));
}

TEST_CASE("A recording is readable while it is written, and then not recovered") {
  const TestFolder folder;
  const auto program = program_of(waves("1 s"));
  record::RunIdentity identity;
  identity.main = "w.dyne";
  auto recorder = record::Recorder::create(folder / "r.h5", program, identity, judge::kMostImagesLate);
  REQUIRE(recorder);
  std::vector<double> image(program->variables.size());
  for (int i = 0; i < 30'000; ++i) {
    image[static_cast<std::size_t>(program->find("slow"))] = i;
    (*recorder)->image({Time{i * 1000}, image.data()});
  }
  std::size_t rows = 0;
  for (int i = 0; i < 1000 && rows < 30'000; ++i) {  // two tenths of a second later it is all there, while images come
    ::usleep(10'000);
    (*recorder)->image({Time{30'000'000 + i * 1000}, image.data()});
    const auto r = record::Recording::open(folder / "r.h5");
    REQUIRE(r);
    CHECK((*r)->growing());
    rows = (*r)->times_of("wave_a").size();
    CHECK((*r)->signal("slow")->size() == (*r)->times().size());
  }
  CHECK(rows >= 30'000);
  CHECK_FALSE(record::recover(folder / "r.h5"));
  REQUIRE((*recorder)->close(observe::Ending::completed));
  CHECK(record::recover(folder / "r.h5")->was_whole);
}

TEST_CASE("A tail that is cut or damaged gives less, never a crash") {
  const TestFolder folder;
  folder.write("w.dyne", waves("1000 s"));
  run_and_kill(folder.path(), "r", 400, kSomeRows);
  const std::string tail = slurp(folder / "r/recording.tail");
  RandomStream random(4, "tails");
  const auto look = [&] {
    const auto r = record::Recording::open(folder / "r/recording.h5");
    if (!r) return;
    for (const char* name : {"wave_a", "packed", "slow"}) (void)(*r)->signal(name);
  };
  for (int i = 0; i < 300; ++i) {
    std::string bad = tail;
    if (i % 3 == 0) {
      bad.resize(random.next() % bad.size());
    } else {
      for (int k = 0; k < 3; ++k) bad[random.next() % bad.size()] = static_cast<char>(random.next());
    }
    folder.write("r/recording.tail", bad);
    look();
  }
  folder.write("r/recording.tail", tail.substr(0, tail.size() - 5));
  const auto r = record::Recording::open(folder / "r/recording.h5");
  REQUIRE(r);
  check_waves(**r);  // what is left is right
}

TEST_CASE("With a full disk the run goes on if asked, and says what is lost") {
  const TestFolder folder;
  folder.write("w.dyne", waves("1 s"));
  const Output stopped = shell("ulimit -f 4000; " ISODYNE_PROGRAM " run w.dyne s --no-report --out a", folder.path());
  CHECK(stopped.status == 3);
  const Output went_on =
      shell("ulimit -f 4000; " ISODYNE_PROGRAM " run w.dyne s --no-report --go-on-unrecorded --out b", folder.path());
  INFO(went_on.out << went_on.err);
  CHECK(went_on.status == 3);
  CHECK_THAT(went_on.out, Catch::Contains("The recording ends at ") && Catch::Contains("the run went on to 1 s"));
  const auto r = record::Recording::open_run(folder / "b");
  REQUIRE(r);
  check_waves(**r);
  CHECK((*r)->times_of("wave_a").size() > 10'000);
}
