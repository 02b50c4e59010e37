// Files of others: opening, showing, judging, comparing, reporting and packing runs nothing of theirs, reads nothing
// beside them, and ends with a word that names them.

#include <filesystem>

#include <sys/stat.h>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace fs = std::filesystem;
using Json = nlohmann::json;

namespace {

constexpr const char* kSafeBench = R"(
bench Small {
  step 10 ms
  output state level : m = 1 m
  level' = 1 m/s
  sensor tx { of level  every 10 ms }
  controller plc {
    every 10 ms
    reads tx
    writes alarm : bool
    setting code = program "./plc.sh"
    setting none = part Nothing
  }
}
model Nothing { input tx : m
  output alarm : bool
  alarm = tx > 5 m }
scenario fill { hold 1 s }
requirement R-1 { always level <= 9 m }
)";

/// A run that somebody else made: it came here as a folder, and this user's catalogue does not know it.
struct Strangers {
  TestFolder folder;
  Strangers() {
    folder.write("bench.dyne", kSafeBench);
    const Output ran = run_isodyne("run bench.dyne fill --setting none --out made", folder.path());
    INFO(ran.out << ran.err);
    REQUIRE(ran.status == 0);
    fs::rename(folder / "made", folder / "theirs");
  }
  Output operator()(const std::string& arguments) const { return run_isodyne(arguments, folder.path()); }
  void python(const std::string& text) const {
    const Output done = shell("/usr/bin/python3 -c \"" + text + "\"", folder.path());
    INFO(done.err);
    REQUIRE(done.status == 0);
  }
  void edit(const std::function<void(Json&)>& change) const {
    Json j = Json::parse(slurp(folder / "theirs/verdicts.json"));
    change(j);
    folder.write("theirs/verdicts.json", j.dump());
  }
  void untouched() const { CHECK_FALSE(fs::exists(folder / "pwned")); }
};

}  // namespace

TEST_CASE("No text of a run reaches a drawing program, a page or a terminal as anything but text") {
  const Strangers s;
  const std::string escape = std::string("x'\0\\\n", 5) +
                             "system 'touch pwned'\n# `touch pwned` $(touch pwned) @m \x1b[2J<script>alert(1)</script>";
  s.edit([&](Json& j) {
    for (const char* key : {"bench", "scenario", "explanation", "started", "command"}) j[key] = escape;
    j["faults"] = {escape};
    j["requirements"][0]["name"] = escape;
    j["requirements"][0]["verdict"] = "broken";
    j["requirements"][0]["breaches_s"] = {{0.1, 0.2}};
    j["requirements"][0]["first_breach_s"] = 0.1;
  });
  const Output report = s("report theirs --out r.html");
  INFO(report.err);
  CHECK(report.status == 0);
  s("figure theirs level --out figure");
  s("trace theirs --out t");
  s.untouched();
  const std::string html = slurp(s.folder / "r.html");
  CHECK(html.find("<script>alert(1)") == std::string::npos);
  CHECK(html.find('\x1b') == std::string::npos);
  CHECK(slurp(s.folder / "t/trace.svg").find("<script>alert") == std::string::npos);
  const Output trace = s("trace theirs");
  CHECK(trace.out.find('\x1b') == std::string::npos);
  CHECK(shell("xmllint --noout t/trace.svg", s.folder.path()).status == 0);
}

TEST_CASE("Repeat starts nobody's code unasked, and takes no option out of a recording") {
  const Strangers s;
  // As it came it has no code to start: its controller is part of the text.
  CHECK(s("repeat theirs").status == 0);
  s.folder.write("evil/plc.sh", "#!/bin/sh\ntouch '" + (s.folder / "pwned") + "'\n");
  fs::permissions(s.folder / "evil/plc.sh", fs::perms::owner_all);
  s.edit([&](Json& j) { j["bench_folder"] = s.folder / "evil/"; });
  s.python("import h5py, numpy; f = h5py.File('theirs/recording.h5', 'r+'); f.attrs['setting'] = numpy.bytes_('code')");
  const Output refused = s("repeat theirs");
  CHECK(refused.status == 2);
  CHECK(has(refused.err, "was not made here, and repeating it would start"));
  CHECK(has(refused.err, "program \"./plc.sh\""));
  CHECK(has(refused.err, "--trust"));
  s.untouched();
  // A folder of the user's own is agreement to what is in it, and to nothing else.
  fs::create_directories(s.folder / "mine");
  const Output mine = s("repeat theirs --folder mine");
  CHECK(mine.status != 0);
  s.untouched();
  s("repeat theirs --trust");
  CHECK(fs::exists(s.folder / "pwned"));
  fs::remove(s.folder / "pwned");
  for (const char* attribute : {"scenario", "setting", "harness", "faults"}) {
    INFO(attribute);
    s.python(
        fmt::format("import h5py, numpy; f = h5py.File('theirs/recording.h5', 'r+'); open('was', 'wb').write("
                    "f.attrs['{0}']); f.attrs['{0}'] = numpy.bytes_('--save-state=pwned')",
                    attribute));
    const Output odd = s("repeat theirs --trust");
    CHECK(odd.status == 2);
    CHECK(has(odd.err, "--save-state=pwned"));
    s.untouched();
    s.python(
        fmt::format("import h5py, numpy; f = h5py.File('theirs/recording.h5', 'r+'); f.attrs['{}'] = "
                    "numpy.bytes_(open('was', 'rb').read() or bytes(1))",
                    attribute));
  }
  s.python(
      "import h5py, numpy; f = h5py.File('theirs/recording.h5', 'r+'); f.attrs['bench_file'] = "
      "numpy.bytes_('../../../etc/passwd')");
  CHECK(s("repeat theirs --trust").status == 2);
}

TEST_CASE("A run that was made here is repeated and packed with what was there") {
  const TestFolder folder;
  folder.write("bench.dyne", kSafeBench);
  REQUIRE(run_isodyne("run bench.dyne fill --setting none --no-report --out a", folder.path()).status == 0);
  CHECK(run_isodyne("repeat a", folder.path()).status == 0);
  // From inside of the folder of the bench, whose controller is code: it is known where that was.
  const std::string lock = kSource + "/examples/canal-lock", run = folder / "lock";
  REQUIRE(run_isodyne(fmt::format("run lock.dyne uplock --for \"1 s\" --no-report --out {}", run), lock).status == 0);
  for (const std::string& from : {lock, folder.path()}) {
    const Output again = run_isodyne("repeat " + run, from);
    INFO(from << again.out << again.err);
    CHECK(again.status == 0);
  }
}

TEST_CASE("An archive has what is in the run folder, no links and nothing of elsewhere") {
  const Strangers s;
  s.folder.write("secret/key", "do not pack me");
  fs::create_symlink(s.folder / "secret/key", s.folder / "theirs/link");
  fs::create_directory_symlink(s.folder / "secret", s.folder / "theirs/folder");
  s.edit([&](Json& j) { j["bench_folder"] = s.folder / "secret/"; });
  REQUIRE(s("pack theirs --out p.zip").status == 0);
  const std::string listed = shell("/usr/bin/python3 -m zipfile -l p.zip", s.folder.path()).out;
  CHECK(has(listed, "recording.h5"));
  for (const char* not_there : {"key", "link", "folder/", ".."}) CHECK(listed.find(not_there) == std::string::npos);
}

TEST_CASE("Recordings of odd structure are refused or read as far as they go, and lead nowhere else") {
  const char* const kChanges[] = {
      // attributes of another kind, length or number
      "f.attrs['scenario'] = 'x' * 60000", "f.attrs['bench'] = [b'a' * 300] * 50",
      "f.attrs['step_ns'] = list(range(4000))", "f.attrs['seed'] = h5py.Empty('f8')",
      "f.attrs.create('bench_file', 'bench.dyne', dtype=h5py.string_dtype())",
      "f['signals/level'].attrs['read_factor'] = list(range(4000))", "f['signals/level'].attrs['unit'] = [b'm'] * 999",
      "f['signals/level'].attrs.create('read_in', 'm' * 500, dtype=h5py.string_dtype())",
      // data sets of another kind or shape, of variable length, outside of the file, or links
      "del f['signals/level']; f['signals/level'] = [[1.0, 2.0]] * 101",
      "del f['signals/level']; f.create_dataset('signals/level', (101,), dtype=h5py.vlen_dtype('f8'))",
      "del f['signals/level']; f.create_dataset('signals/level', (101,), dtype=h5py.string_dtype())",
      "del f['signals/level']; f.create_dataset('signals/level', (101,), dtype='S100000')",
      "del f['signals/level']; f.create_dataset('signals/level', (101,), dtype='f8', external=[('/etc/passwd',0,808)])",
      "del f['signals/level']; f['signals/level'] = h5py.ExternalLink('other.h5', '/x')",
      "del f['signals/level']; f['signals/level'] = h5py.SoftLink('/time_ns')",
      "del f['time_ns']; f.create_dataset('time_ns', (1 << 40,), dtype='i8', chunks=(1024,))",
      "del f['time_ns']; f['time_ns'] = [1.5] * 101", "del f['events']; f['events'] = [1.0] * 5",
      "del f['events']; f.create_dataset('events', (5,), dtype=[('time_ns', 'i8'), ('kind', h5py.string_dtype())])",
      "del f['sources']; f.create_dataset('sources/bench.dyne', (50,), dtype='S4000')",
      "del f['sources']; f.create_dataset('sources/bench.dyne', data='bench', dtype=h5py.string_dtype())",
      "g = f['sources']; [g.create_dataset('x%d' % i, data=b'') for i in range(3000)]", "f['rates/a'] = 3.0",
      "f.create_group('rates/loop'); f['rates/loop/again'] = f['rates']"};
  const Strangers s;
  fs::rename(s.folder / "theirs", s.folder / "as_it_was");
  s.folder.write("play.dyne",
                 "bench P {\n  step 10 ms\n  input u : m = 0 m\n  output state x : m = 0 m\n  x' = u / 1 s\n}\n"
                 "scenario p { play \"theirs\" column \"level\" onto u }\n");
  for (const char* change : kChanges) {
    INFO(change);
    fs::remove_all(s.folder / "theirs");
    fs::copy(s.folder / "as_it_was", s.folder / "theirs", fs::copy_options::recursive);
    s.python(fmt::format("import h5py; f = h5py.File('theirs/recording.h5', 'r+'); {}", change));
    for (const char* command :
         {"show theirs level", "judge theirs", "compare theirs as_it_was", "export csv theirs level --out c.csv",
          "report theirs --out r.html", "check play.dyne", "pack theirs --out p.zip", "repeat theirs"}) {
      INFO(command);
      const Output o = s(command);
      INFO(o.err);
      CHECK(o.status < 4);
      CHECK((o.out + o.err).find("root:") == std::string::npos);
      fs::remove(s.folder / "p.zip");
      if (fs::exists(s.folder / "c.csv")) CHECK(slurp(s.folder / "c.csv").find("root:") == std::string::npos);
    }
  }
}

TEST_CASE("A recording damaged so that the library that reads it crashes is refused, and we live") {
  // Every byte of the head of the file turned over, a few at a time: wild pointers among them.
  const Strangers s;
  const std::string whole = slurp(s.folder / "theirs/recording.h5");
  fs::create_directories(s.folder / "d");
  const std::size_t step = kSanitized ? 4999 : 397;
  for (std::size_t at = 8; at < std::min<std::size_t>(whole.size(), 60'000); at += step) {
    std::string bad = whole;
    for (std::size_t k = 0; k < 3 && at + k < bad.size(); ++k) bad[at + k] = static_cast<char>(~bad[at + k]);
    s.folder.write("d/recording.h5", bad);
    const Output o = s("show d");
    INFO(at << ": " << o.err);
    CHECK(o.status <= 3);
  }
}

TEST_CASE("JSON of any depth is refused, not walked into") {
  const std::string deep = std::string(200'000, '[') + std::string(200'000, ']');
  CHECK_FALSE(parse_json(deep));
  CHECK_FALSE(parse_json(std::string(101, '{')));
  CHECK(parse_json("{\"a\": \"[[[[[[[[\", \"b\": [[1, 2], {\"c\": null}]}"));
  const Strangers s;
  s.folder.write("theirs/verdicts.json", deep);
  const Output o = s("report theirs --out r.html");
  CHECK(o.status != 0);
  CHECK(has(o.err, "nested too deeply"));
  s.folder.write("state.json", deep);
  CHECK(s("run bench.dyne --from-state state.json").status == 2);
  s.folder.write("p.json", "{\"a\": " + deep + "}");
  CHECK(s("io match bench.dyne --parameters p.json").status == 2);
}

TEST_CASE("Timing without times is refused") {
  const Strangers s;
  REQUIRE(s("run bench.dyne fill --setting none --paced --speed 10 --out paced --no-report").status == 0);
  Json j = Json::parse(slurp(s.folder / "paced/verdicts.json"));
  j["timing"]["times"] = Json::array();
  s.folder.write("paced/verdicts.json", j.dump());
  const Output o = s("report paced --out r.html");
  CHECK(o.status != 0);
  CHECK(has(o.err, "cannot read the verdicts"));
}

TEST_CASE("Texts that go on without end are told so") {
  const TestFolder folder;
  const auto check = [&](const std::string& text) {
    folder.write("b.dyne", text);
    return run_isodyne("check b.dyne", folder.path());
  };
  std::string powers = "1";
  for (int i = 0; i < 40'000; ++i) powers += " ^ 1";
  const Output deep = check("bench B { step 1 ms\n  let a = " + powers + "\n}\n");
  CHECK(deep.status == 2);
  CHECK(has(deep.err + deep.out, "nest at most"));

  std::string twice = "bench B { step 1 ms }\nscenario s0 { hold 1 ms }\n",
              empty = "bench B { step 1 ms }\nscenario s0 { }\n",
              chain = "bench B { step 1 ms }\nscenario s0 { hold 1 ms }\n";
  for (int i = 1; i <= 30; ++i) {
    twice += fmt::format("scenario s{0} {{ do s{1}\n do s{1} }}\n", i, i - 1);
    empty += fmt::format("scenario s{0} {{ do s{1}\n do s{1} }}\n", i, i - 1);
    chain += fmt::format("scenario s{} {{ do s{} }}\n", i, i - 1);
  }
  for (const std::string& text : {twice, empty}) {
    const Output many = check(text);
    CHECK(many.status == 2);
    CHECK(has(many.err + many.out, "more than 100000 steps"));
  }
  CHECK(check(chain).status == 0);

  std::string wrong = "bench B { step 1 ms\n";
  for (int i = 0; i < 5'000; ++i) wrong += fmt::format("  let a{0} = b{0}x\n", i);
  CHECK(check(wrong + "}\n").status == 2);

  REQUIRE(mkfifo((folder / "pipe.dyne").c_str(), 0600) == 0);
  const Output pipe = check("use \"pipe.dyne\"\nbench B { step 1 ms }\n");
  CHECK(pipe.status == 2);
  CHECK(has(pipe.err + pipe.out, "a pipe or a device"));
}

TEST_CASE("Value changes: what is declared too late, too much, or unknown") {
  const TestFolder folder;
  const auto import = [&](const std::string& text, const std::string& out) {
    folder.write("v.vcd", text);
    return run_isodyne("import vcd v.vcd --out " + out, folder.path());
  };
  const Output late = import("$var wire 1 a x $end\n#0\n1a\n#5\n$var wire 1 b y $end\n#7\n0a\n1b\n#9\n", "late");
  CHECK(late.status != 0);
  CHECK(has(late.err, "declared after values have begun"));
  std::string many = "$timescale 1 ns $end\n";
  for (int i = 0; i < 9'000; ++i) many += fmt::format("$var wire 1 c{0} s{0} $end\n", i);
  for (int i = 0; i < 20'000; ++i) many += fmt::format("#{}\n{}c1\n", i, i % 2);
  const Output large = import(many, "many");
  CHECK(large.status != 0);
  CHECK(has(large.err, "too large"));
  REQUIRE(import("$var wire 1 a x $end\n#0\n1a\n#5\nxa\n#7\n0a\n#9\n", "unknown").status == 0);
  const Output shown = run_isodyne("export csv unknown x", folder.path());
  CHECK(has(shown.out, "\n5e-09,\n"));  // no value, and no 0
}

TEST_CASE("Text that cannot be seen is named where it stands, and never shown") {
  const TestFolder folder;
  const auto check = [&](const std::string& text) {
    folder.write("b.dyne", text);
    const Output o = run_isodyne("check b.dyne", folder.path());
    CHECK((o.out + o.err).find('\x1b') == std::string::npos);
    CHECK((o.out + o.err).find('\xff') == std::string::npos);
    return o;
  };
  for (const char* odd : {"\x1b[2J", "\xff", "\x07", "\xe2\x80\xae", "\xc2\x9b"}) {
    const Output o = check(std::string("## a doc") + odd + "\nbench B { step 1 ms }\n");
    CHECK(o.status == 2);
    CHECK(has(o.err + o.out, "b.dyne:1:9"));
  }
  CHECK(check("## a lock, \xc3\xa4\xc3\xb6 \xe2\x82\xac\r\nbench B { step 1 ms }\r\n").status == 0);
  CHECK(printable("a\x1b[31mb\xff"
                  "c\xe2\x80\xae"
                  "d\tx\n") ==
        "a\xef\xbf\xbd[31mb\xef\xbf\xbd"
        "c\xef\xbf\xbd"
        "d\tx\n");
  CHECK(printable("\xc3\xa4\xf0\x9f\x9a\xa4") == "\xc3\xa4\xf0\x9f\x9a\xa4");
  CHECK(printable("\xed\xa0\x80\xc0\x80") != "\xed\xa0\x80\xc0\x80");  // a surrogate, and a zero in two bytes
}

TEST_CASE("A cell that a spreadsheet would execute is a text, and comes back as it was") {
  for (const char* cell : {"=1+1", "+cmd|' /C calc'!A0", "-1+2", "@SUM(A1)", "-", "-3 cm|x"}) {
    INFO(cell);
    const std::string line = csv_line({"a", cell});
    CHECK(line.find(std::string(",'") + cell[0]) != std::string::npos);
    CHECK(read_csv("x,y\n" + line).rows[1].text(1) == cell);
  }
  for (const char* number : {"-3.5", "+4", "-1e-3", "-3.2 cm", "-12.9 h", "-0.5 m^3/s"}) {
    INFO(number);
    CHECK(csv_line({"a", number}) == std::string("a,") + number + "\n");
  }
}
