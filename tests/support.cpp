#include "support.h"

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <sstream>
#include <stdexcept>

#include <sys/wait.h>

#include <fmt/format.h>

#include <catch2/catch.hpp>

#include "isodyne/core/csv.h"
#include "isodyne/networks/solvers.h"

namespace isodyne::test {

namespace fs = std::filesystem;

std::string TestFolder::write(const std::string& name, const std::string& text) const {
  const fs::path file = folder_.path() / name;
  fs::create_directories(file.parent_path());
  std::ofstream(file, std::ios::binary) << text;
  return file.string();
}

bool has(const std::string& text, const std::string& part) {
  return text.find(part) != std::string::npos;
}

void shows(const std::string& text, const std::string& part) {
  INFO(text);
  INFO(part);
  CHECK(has(text, part));
}

std::string cell_of(const std::string& text, const std::string& row, const std::string& title) {
  const Csv csv = read_csv(text);
  REQUIRE(csv.trouble.empty());
  for (std::size_t c = 0; c < csv.rows.at(0).fields.size(); ++c) {
    if (csv.rows[0].fields[c].text != title) continue;
    for (const CsvRow& r : csv.rows) {
      if (r.text(0) == row) return r.text(c);
    }
  }
  FAIL("there is no " << title << " of " << row);
  return {};
}

std::string slurp(const std::string& file) {
  std::ostringstream text;
  text << std::ifstream(file, std::ios::binary).rdbuf();
  return text.str();
}

namespace {
/// Runs of tests are entered into a catalogue of their own, however they are started.
struct OwnCatalogue {
  TestFolder folder;
  OwnCatalogue() { setenv("XDG_DATA_HOME", folder.path().c_str(), 1); }
};
const OwnCatalogue own_catalogue;
}  // namespace

Output shell(const std::string& command, const std::string& folder) {
  const TestFolder own;
  // setpriv-like isolation is not needed: a hang ends by `timeout`, long after any test should be done.
  const std::string line = "cd '" + folder + "' && timeout -k 5 300 bash -c '" +
                           [&] {
                             std::string quoted;
                             for (const char c : command)
                               quoted += c == '\'' ? std::string("'\\''") : std::string(1, c);
                             return quoted;
                           }() +
                           "' >'" + (own / "out") + "' 2>'" + (own / "err") + "' </dev/null";
  const int status = std::system(line.c_str());
  Output output;
  output.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  output.out = slurp(own / "out");
  output.err = slurp(own / "err");
  return output;
}

std::string until_written(const std::string& run, int bytes) {
  return fmt::format("until [ \"$(stat -c %s {}/recording.tail 2>/dev/null || echo 0)\" -gt {} ]; do sleep 0.05; done",
                     run, bytes);
}

std::string until_written_no_more(const std::string& run) {
  return "wait $! 2>/dev/null; flock -s " + run + "/recording.tail true";
}

Output run_isodyne(const std::string& arguments, const std::string& folder) {
  return shell(std::string(ISODYNE_PROGRAM) + " " + arguments, folder);
}

namespace {
Result<std::string> library_file(const std::string& name) {
  return slurp(ISODYNE_SOURCE_FOLDER "/library/" + name.substr(check::kLibraryMark.size()));
}
}  // namespace

check::Loaded load_text(const std::string& text, const NamedTexts& files) {
  return check::load_bench("", "bench.dyne", [&](const std::string& name) -> Result<std::string> {
    if (name == "bench.dyne") return text;
    if (name.starts_with(check::kLibraryMark)) return library_file(name);
    const auto found = files.find(name);
    if (found != files.end()) return found->second;
    return Failure{"cannot read", name, "no such file"};
  });
}

std::shared_ptr<const program::Program> program_in(const std::string& file) {
  const std::filesystem::path source = std::filesystem::path(ISODYNE_SOURCE_FOLDER) / file;
  const auto reader = [&](const std::string& name) -> Result<std::string> {
    if (name.starts_with(check::kLibraryMark)) return library_file(name);
    return slurp((source.parent_path() / name).string());
  };
  const check::Loaded loaded = check::load_bench("", source.filename().string(), reader);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program != nullptr);
  return loaded.program;
}

std::string diagnostics_of(const std::string& text) {
  const check::Loaded loaded = load_text(text);
  return loaded.diagnostics.render(*loaded.sources, false);
}

std::shared_ptr<const program::Program> program_of(const std::string& text, const NamedTexts& files) {
  const check::Loaded loaded = load_text(text, files);
  INFO(loaded.diagnostics.render(*loaded.sources, false));
  REQUIRE(loaded.program != nullptr);
  return loaded.program;
}

Seen::Seen(std::shared_ptr<const program::Program> p, std::vector<std::string> wanted)
    : program(std::move(p)), names(std::move(wanted)), values(names.size()), judge(program) {
  for (const std::string& name : names) {
    INFO("signal " << name);
    REQUIRE(program->find(name) != program::kNone);
  }
}

void Seen::image(const observe::Image& image) {
  times.push_back(image.at);
  for (std::size_t i = 0; i < names.size(); ++i) values[i].push_back(image.variables[program->find(names[i])]);
  for (const judge::Broken& b : judge.image(image))
    events.push_back({b.at, observe::EventKind::broken, b.requirement, 0, 0});
  measured.insert(measured.end(), judge.measured().begin(), judge.measured().end());
}

void Seen::edges(const observe::Edges& e) {
  edges_seen.insert(edges_seen.end(), e.list.begin(), e.list.end());
  for (const judge::Broken& b : judge.edges(e))
    events.push_back({b.at, observe::EventKind::broken, b.requirement, 0, 0});
  measured.insert(measured.end(), judge.measured().begin(), judge.measured().end());
}

double Seen::last(const std::string& name) const {
  const auto at = std::find(names.begin(), names.end(), name) - names.begin();
  return values[static_cast<std::size_t>(at)].back();
}

bench::RunResult run_bench(Seen& seen, bench::RunPlan plan) {
  if (!plan.networks) plan.networks = networks::solvers();
  const std::atomic<bool> stop{false};
  const bool native = plan.native.has_value() && plan.wait_for_native;
  bench::Run run(seen.program, std::move(plan), nullptr, seen);
  auto result = run.execute(stop);
  if (native) {  // else it would have been the interpreter
    INFO(run.native()->remark());
    CHECK(run.native()->ready());
  }
  return result;
}

bench::RunResult run_for(Seen& seen, double seconds) {
  bench::RunPlan plan;
  plan.longest = time_from_seconds(seconds);
  return run_bench(seen, std::move(plan));
}

}  // namespace isodyne::test
