// Every example of the documents is executed.

#include <catch2/catch.hpp>

#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kSource = ISODYNE_SOURCE_FOLDER;

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

TEST_CASE("Every bench in docs/language.md is in order") {
  const auto examples = blocks("docs/language.md", "dyne");
  CHECK(examples.size() >= 7);
  for (const std::string& example : examples) {
    INFO(example << diagnostics_of(example));
    CHECK(load_text(example).program != nullptr);
  }
}

TEST_CASE("The Python example of docs/recording.md reads a recording of the canal lock") {
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
}

TEST_CASE("The commands in the READMEs work") {
  for (const char* file : {"README.md", "examples/canal-lock/README.md"}) {
    const std::string text = slurp(kSource + "/" + file);
    const std::string mark = "\n    build/release/bin/isodyne ";
    const TemporaryFolder folder;
    std::filesystem::create_directory_symlink(kSource + "/examples", folder / "examples");
    int commands = 0;
    for (std::size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + 1)) {
      const std::size_t begin = at + mark.size();
      std::string command = text.substr(begin, text.find('\n', begin) - begin);
      if (command.starts_with("run ")) command += " --no-report";
      const Output output = run_isodyne(command, folder.path());
      INFO(command << "\n" << output.err);
      CHECK(output.status <= 1);
      ++commands;
    }
    CHECK(commands >= 3);
  }
}
