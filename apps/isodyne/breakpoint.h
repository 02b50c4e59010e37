#pragma once
// Stopping a run on a condition: look at everything, step, change something, go on.
//
// Runs in lockstep only, on the thread that steps: the plant waits before its instant ends. What is typed is checked as
// a text of the bench would be, in a bench of its own, so that the run itself is not touched.

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "command.h"
#include "isodyne/bench/run.h"
#include "isodyne/engine/code.h"

namespace isodyne::app {

/// An expression about a bench that is loaded already, evaluated on its images.
class Probe {
 public:
  /// Prints what is wrong with the expression, and is then not good().
  Probe(const std::string& file, const std::string& harness, const program::Program& program,
        const std::string& expression);
  bool good() const { return value_ != nullptr; }
  bool truth(const double* image);
  /// The quantities that it reads, of the program that runs.
  const std::vector<program::VarId>& reads() const { return reads_; }

 private:
  std::shared_ptr<const program::Program> own_;
  std::unique_ptr<engine::Evaluator> value_;
  std::vector<std::pair<program::VarId, program::VarId>> same_;  ///< there, here
  std::vector<program::VarId> reads_;
  std::vector<double> image_;
};

class Breakpoint {
 public:
  struct Plan {
    std::string file, harness;
    std::string condition;                               ///< --break
    std::optional<std::string> dump;                     ///< --break-dump: write there and go on
    std::function<bool(const std::string&, Time)> save;  ///< stores the state in a file
  };
  /// Says what is wrong, and is then not good(). `stop` ends the run when it is set.
  Breakpoint(Plan plan, std::shared_ptr<const program::Program> program, std::atomic<bool>& stop);
  bool good() const { return good_; }
  void follow(bench::Run& run) { run_ = &run; }
  /// Whether its condition was ever true.
  bool came() const { return came_; }

  /// Looks at an image, and stops there if it is time to.
  void image(const observe::Image& image);

 private:
  void say_where(const observe::Image& image, const std::string& reason) const;
  void write_dump(const observe::Image& image, const std::string& reason);
  void ask(const observe::Image& image);
  bool command(const std::string& line, const observe::Image& image);
  void set(const std::string& words, const observe::Image& image);
  void show(const std::string& words, const observe::Image& image) const;

  Plan plan_;
  std::shared_ptr<const program::Program> program_;
  std::atomic<bool>& stop_;
  bench::Run* run_ = nullptr;
  std::unique_ptr<Probe> condition_, until_;
  std::string until_text_;
  bool good_ = true, was_ = false, came_ = false;
  std::int64_t steps_ = -1;  ///< until the next stop; −1: none is counted
};

}  // namespace isodyne::app
