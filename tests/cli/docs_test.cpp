// Every example of the documents is executed.

#include <filesystem>
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
model::Loaded load_example(const std::string& text) {
  return model::load_bench("", "bench.dyne",
                           [&](const std::string& name) -> Result<std::string> {
                             if (name == "bench.dyne") return text;
                             if (name.starts_with(model::kLibraryMark))
                               return slurp(kSource + "/library/" + name.substr(model::kLibraryMark.size()));
                             return Failure{"cannot read", name, "no such file"};
                           },
                           {.rules = {}, .harness = "", .bench_needed = false, .rated = true, .lint = false});
}
}  // namespace

TEST_CASE("Every example in docs/language.md is in order, and a good bench of it runs") {
  const auto examples = blocks("docs/language.md", "dyne");
  CHECK(examples.size() >= 17);
  for (const std::string& example : examples) {
    const model::Loaded loaded = load_example(example);
    INFO(example << loaded.diagnostics.render(*loaded.sources, false));
    CHECK(loaded.good());
    if (loaded.program == nullptr || !loaded.program->controllers.empty()) continue;
    Seen seen(loaded.program);
    CHECK(run_for(seen, 0.5).ending == bench::Ending::completed);
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
      const model::Loaded loaded = load_example(example);
      const std::string said = loaded.diagnostics.render(*loaded.sources, false);
      INFO(example << said);
      CHECK(said.find(std::string("[") + code + "]") != std::string::npos);
    }
  }
  CHECK(found >= 7);
}

TEST_CASE("The tutorial can be followed: its texts, its commands, and what they print") {
  const std::string text = slurp(kSource + "/docs/tutorial.md");
  const TemporaryFolder folder;
  int commands = 0;
  for (std::size_t at = text.find("\n```"); at != std::string::npos;) {
    const std::size_t begin = text.find('\n', at + 1) + 1, end = text.find("\n```", begin - 1);
    const std::string head = text.substr(at + 4, begin - at - 5), body = text.substr(begin, end + 1 - begin);
    at = text.find("\n```", end + 4);
    const std::size_t name = head.find(' ');
    if (name != std::string::npos) folder.write(head.substr(name + 1), body);
    if (head != "console") continue;
    std::istringstream lines(body);
    std::string said;
    for (std::string line; std::getline(lines, line);) {
      if (line.starts_with("$ isodyne ")) {
        const Output output = run_isodyne(line.substr(10), folder.path());
        said = output.out + output.err;
        ++commands;
        continue;
      }
      INFO("expected: " << line << "\nin: " << said);
      const std::size_t found = said.find(line);
      CHECK(found != std::string::npos);
      if (found != std::string::npos) said = said.substr(found + line.size());
    }
  }
  CHECK(commands >= 14);
}

TEST_CASE("The examples of docs/recording.md read a recording of the canal lock") {
  const TemporaryFolder folder;
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
                           "examples/swing-bridge/README.md", "examples/drain-pump/README.md"}) {
    const std::string text = slurp(kSource + "/" + file);
    const std::string mark = "\n    build/release/bin/isodyne ";
    const TemporaryFolder folder;
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
