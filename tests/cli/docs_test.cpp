// Every example of the documents is executed.

#include <filesystem>
#include <regex>
#include <sstream>

#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

/// The fenced blocks of a language in a Markdown file.
std::vector<std::string> blocks(const std::string& file, const std::string& language) {
  const std::string text = slurp(kSource + "/" + file);
  const std::string fence = "```" + language + "\n";
  std::vector<std::string> found;
  for (std::size_t at = text.find(fence); at != std::string::npos; at = text.find(fence, at)) {
    at += fence.size();
    found.push_back(text.substr(at, text.find("```", at) - at));
  }
  return found;
}

}  // namespace

namespace {
/// Loads a text that may use the library and need not have a bench.
check::Loaded load_example(const std::string& text) {
  return check::load_bench("", "bench.dyne",
                           [&](const std::string& name) -> Result<std::string> {
                             if (name == "bench.dyne") return text;
                             if (name.starts_with(check::kLibraryMark))
                               return slurp(kSource + "/library/" + name.substr(check::kLibraryMark.size()));
                             return Failure{"cannot read", name, "no such file"};
                           },
                           {.rules = {}, .harness = "", .bench_needed = false, .rated = true, .lint = false});
}
}  // namespace

TEST_CASE("Every example in docs/language.md is in order, and a good bench of it runs") {
  const auto examples = blocks("docs/language.md", "dyne");
  CHECK(examples.size() >= 17);
  for (const std::string& example : examples) {
    const check::Loaded loaded = load_example(example);
    INFO(example << loaded.diagnostics.render(*loaded.sources, false));
    CHECK(loaded.good());
    if (loaded.program == nullptr || !loaded.program->controllers.empty()) continue;
    Seen seen(loaded.program);
    CHECK(run_for(seen, 0.5).ending == observe::Ending::completed);
  }
}

TEST_CASE("Every wrong example in docs/language.md gets the message it is marked with") {
  int found = 0;
  for (const char* code : {
#define DIAGNOSTIC(id, text) text,
#include "isodyne/core/diagnostic_codes.def"
#undef DIAGNOSTIC
       }) {
    for (const std::string& example : blocks("docs/language.md", std::string("dyne ") + code)) {
      ++found;
      const check::Loaded loaded = load_example(example);
      const std::string said = loaded.diagnostics.render(*loaded.sources, false);
      INFO(example << said);
      CHECK(said.find(std::string("[") + code + "]") != std::string::npos);
    }
  }
  CHECK(found >= 7);
}

namespace {

/// Whether a line is what a page shows of it: `…` stands for anything.
bool is_shown(const std::string& line, const std::string& shown) {
  std::size_t at = 0, from = 0;
  for (bool first = true; from <= shown.size(); first = false) {
    const std::size_t mark = shown.find("…", from);
    const std::string piece = shown.substr(from, mark == std::string::npos ? mark : mark - from);
    const bool last = mark == std::string::npos;
    const std::size_t found = last && !first ? line.size() - std::min(line.size(), piece.size()) : line.find(piece, at);
    if (found == std::string::npos || found < at || line.compare(found, piece.size(), piece) != 0) return false;
    if (first && found != 0) return false;
    if (last) return found + piece.size() == line.size();
    at = found + piece.size();
    from = mark + std::string("…").size();
  }
  return true;
}

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> all;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) all.push_back(line);
  return all;
}

/// Every line of what was printed is shown, but where a line `…` says that there is more.
void compare_shown(const std::string& command, const std::string& printed, const std::vector<std::string>& shown) {
  // A machine that is busy lets messages be asked for again: how often, no page can say.
  static const std::regex again(", [0-9]+ (asked again|duplicated)");
  const std::vector<std::string> lines = lines_of(std::regex_replace(printed, again, ""));
  INFO(command << "\nprinted:\n" << printed);
  std::size_t at = 0;
  for (std::size_t i = 0; i < shown.size(); ++i) {
    INFO("shown: " << shown[i]);
    if (shown[i] == "…") {
      if (i + 1 == shown.size()) return;
      while (at < lines.size() && !is_shown(lines[at], shown[i + 1])) ++at;
      continue;
    }
    REQUIRE(at < lines.size());
    CHECK(is_shown(lines[at++], shown[i]));
  }
  CHECK(at == lines.size());
}

/// Writes the texts of a page, runs its commands, and compares what they print with what it shows.
int follow(const std::string& page) {
  const std::string text = slurp(kSource + "/docs/" + page);
  const TestFolder folder;
  int commands = 0;
  for (std::size_t at = text.find("\n```"); at != std::string::npos;) {
    const std::size_t begin = text.find('\n', at + 1) + 1, end = text.find("\n```", begin - 1);
    const std::string head = text.substr(at + 4, begin - at - 5), body = text.substr(begin, end + 1 - begin);
    at = text.find("\n```", end + 4);
    const std::size_t name = head.find(' ');
    if (name != std::string::npos) folder.write(head.substr(name + 1), body);
    if (head != "console") continue;
    const std::vector<std::string> lines = lines_of(body);
    for (std::size_t i = 0; i < lines.size();) {
      REQUIRE(lines[i].starts_with("$ "));
      const std::string command = lines[i++].substr(2);
      std::vector<std::string> shown;
      while (i < lines.size() && !lines[i].starts_with("$ ")) shown.push_back(lines[i++]);
      const bool ours = command.starts_with("isodyne ");
      const Output o = ours ? run_isodyne(command.substr(8), folder.path())
                            : shell("CLONE=" + kSource + "; " + command, folder.path());
      compare_shown(command, o.out + o.err, shown);
      ++commands;
    }
  }
  return commands;
}

}  // namespace

TEST_CASE("The tutorial can be followed: its texts, its commands, and all that they print") {
  CHECK(follow("tutorial.md") >= 14);
}

TEST_CASE("The recipes for a controller in C and in Python work, and print what they show") {
  CHECK(follow("controllers.md") >= 8);
}

TEST_CASE("The examples of docs/recording.md read a recording of the canal lock") {
  const TestFolder folder;
  REQUIRE(run_isodyne("run " + kSource + "/examples/canal-lock/lock.dyne uplock --for '6 s' --no-report --out r",
                      folder.path())
              .status == 0);
  const auto examples = blocks("docs/recording.md", "python");
  REQUIRE(examples.size() == 1);
  folder.write("r/read.py", examples[0]);
  const Output output = shell("/usr/bin/python3 read.py", folder.path() + "/r");
  INFO(output.err);
  CHECK(output.status == 0);
  CHECK(output.out.starts_with("m 6.0 2.0"));
  CHECK(output.out.find("5.0 mode barge.course away -> arriving") != std::string::npos);
  const auto commands = blocks("docs/recording.md", "sh"), octave = blocks("docs/recording.md", "octave");
  REQUIRE(commands.size() == 1);
  REQUIRE(octave.size() == 1);
  folder.write("r/look.sh", "set -e\n" + commands[0]);
  const Output looked = shell("sh look.sh", folder.path() + "/r");
  INFO(looked.err);
  CHECK(looked.status == 0);
  CHECK(looked.out.find("/signals/chamber.level   Dataset {61/Inf}") != std::string::npos);
  if (shell("command -v octave").status != 0) return;
  folder.write("r/read.m", octave[0]);
  const Output read = shell("octave --no-gui -q read.m", folder.path() + "/r");
  INFO(read.err);
  CHECK(read.out == "6 s: 5.99875 m\n");
}

TEST_CASE("The commands in the READMEs work") {
  if (kSanitized) return;  // what they do, other tests do too; these would take two minutes
  for (const char* file : {"README.md", "examples/canal-lock/README.md", "examples/quay-hoist/README.md",
                           "examples/swing-bridge/README.md", "examples/drain-pump/README.md",
                           "examples/feeder-protection/README.md"}) {
    const std::string text = slurp(kSource + "/" + file);
    const std::string mark = "\n    build/release/bin/isodyne ";
    const TestFolder folder;
    for (const char* name : {"examples", "library"})
      std::filesystem::create_directory_symlink(kSource + "/" + name, folder / name);
    int commands = 0;
    for (std::size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + 1)) {
      const std::size_t begin = at + mark.size();
      std::string command = text.substr(begin, text.find('\n', begin) - begin);
      if (command.starts_with("run ")) command += " --no-report";
      const Output output = run_isodyne(command, folder.path());
      INFO(command << "\n" << output.err);
      // Whether this machine keeps any step just now is none of the command's doing.
      CHECK((output.status <= 1 || (command.starts_with("realtime-check") && output.status == 4)));
      ++commands;
    }
    CHECK(commands >= 3);
  }
}
