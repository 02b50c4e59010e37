#pragma once
// What many tests need: a temporary folder, the built program, a bench out of a text.

#include <filesystem>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/bench/run.h"
#include "isodyne/check/load.h"
#include "isodyne/core/file.h"
#include "isodyne/judge/judge.h"

namespace isodyne::test {

/// Whether a sanitizer looks on, which makes everything some ten times as long.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
inline constexpr bool kSanitized = true;
#else
inline constexpr bool kSanitized = false;
#endif

/// A folder that is removed at the end of the test.
class TestFolder {
 public:
  std::string operator/(const std::string& name) const { return (folder_.path() / name).string(); }
  std::string path() const { return folder_.path().string(); }
  /// Writes a file and returns its path.
  std::string write(const std::string& name, const std::string& text) const;

 private:
  TemporaryFolder folder_;
};

struct Output {
  int status = -1;  ///< exit status; 128 + n after signal n
  std::string out, err;
};

/// Runs a shell command in a folder and waits for it.
Output shell(const std::string& command, const std::string& folder = ".");
/// Shell words: wait until the tail of a run's recording has more bytes than this, which shows that it runs, however
/// slow the machine is.
std::string until_written(const std::string& run, int bytes);
/// Shell words, after `kill -9` of the run in the background: wait until nobody writes its recording. The run itself is
/// a child of what was killed and dies a moment later, on a busy machine a long one.
std::string until_written_no_more(const std::string& run);
/// Runs the built isodyne in a folder.
Output run_isodyne(const std::string& arguments, const std::string& folder = ".");

/// Where the sources are, for the examples in them.
inline const std::string kSource = ISODYNE_SOURCE_FOLDER;
/// The canal lock among them.
inline const std::string kLock = kSource + "/examples/canal-lock/lock.dyne";

/// Whether a text has this part.
bool has(const std::string& text, const std::string& part);
/// The same checked, with the text shown if not.
void shows(const std::string& text, const std::string& part);

std::string slurp(const std::string& file);
/// What stands in a table of this text, in the row whose first field is `row`, under a title; fails the test if nothing
/// does.
std::string cell_of(const std::string& csv, const std::string& row, const std::string& title);

/// Checks a bench given as one text; it may name these files, and those of the library.
using NamedTexts = std::map<std::string, std::string>;
check::Loaded load_text(const std::string& text, const NamedTexts& files = {});
/// The same, where mistakes fail the test.
std::shared_ptr<const program::Program> program_of(const std::string& text, const NamedTexts& files = {});
/// A bench among the sources, "examples/canal-lock/lock.dyne"; mistakes fail the test.
std::shared_ptr<const program::Program> program_in(const std::string& file);
/// All diagnostics as people read them, without colours.
std::string diagnostics_of(const std::string& text);

/// Keeps what a run shows.
struct Seen : observe::Observer {
  std::shared_ptr<const program::Program> program;
  std::vector<std::string> names;           ///< variables to keep
  std::vector<std::vector<double>> values;  ///< per name, per image
  std::vector<Time> times;
  std::vector<observe::Event> events;
  judge::Judge judge;

  explicit Seen(std::shared_ptr<const program::Program> p, std::vector<std::string> wanted = {});
  void image(const observe::Image& image) override;
  void edges(const observe::Edges& e) override;
  std::vector<observe::EdgeSeen> edges_seen;
  std::vector<judge::Measured> measured;  ///< so far; what the end of the run brings is with its verdicts
  void event(const observe::Event& event) override { events.push_back(event); }
  double last(const std::string& name) const;
};

/// Runs a bench that has no controller for a time, or a scenario; the observer keeps what it showed.
bench::RunResult run_bench(Seen& seen, bench::RunPlan plan);
bench::RunResult run_for(Seen& seen, double seconds);

}  // namespace isodyne::test
