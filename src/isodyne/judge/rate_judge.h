#pragma once
// Requirements to verdicts, from a stream of images at instants of one rate.
//
// Images are kept until a batch of them is there (or flush() is called) and then looked at together: roughly at first,
// and one by one where that does not show that nothing of interest happens. The verdicts are those of looking at each,
// at a fraction of the cost; what is broken is told up to two batches later, with its time. Beside the run, batches are
// looked at on a thread of the judge's own.

#include <condition_variable>
#include <limits>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "isodyne/engine/block.h"
#include "isodyne/engine/code.h"
#include "isodyne/judge/formula.h"
#include "isodyne/judge/measurer.h"
#include "isodyne/judge/witness.h"
#include "isodyne/observe/events.h"
#include "isodyne/program/answer.h"
#include "isodyne/program/program.h"

namespace isodyne::judge {

using program::Answer;
using program::answer_word;

struct Breach {
  Time begin{}, end{};
};

struct Verdict {
  static constexpr std::size_t kMostBreaches = 100;

  std::int32_t requirement = 0;
  Answer answer = Answer::not_tested;
  std::int64_t tests = 0;  ///< how many times it was put to the test
  std::optional<Time> first_breach;
  std::vector<Breach> breaches;        ///< the first kMostBreaches
  std::optional<double> worst_margin;  ///< SI; negative: by how much it was broken
  std::optional<Time> worst_at;
};

/// A requirement that was broken for the first time.
struct Broken {
  std::int32_t requirement = 0;
  Time at{};
};

/// So many images later at most it is told that one has broken a requirement about the present.
inline constexpr std::int64_t kMostImagesLate = 2048;

class RateJudge {
 public:
  enum class Where { here, beside };  ///< on the thread that hands images over, or on one of its own
  /// Judges these requirements of the program, and measures these measures. `requirements` that are about measures are
  /// asked by measured() too.
  RateJudge(std::shared_ptr<const program::Program> program, std::vector<std::int32_t> requirements,
            std::vector<std::int32_t> measures, Where where);
  ~RateJudge();
  RateJudge(const RateJudge&) = delete;
  RateJudge& operator=(const RateJudge&) = delete;

  /// Takes the next image. Returns what turned out to be broken first in images up to it (valid until the next call).
  const std::vector<Broken>& image(const observe::Image& image);
  /// Looks at every image that it has taken. Returns the same.
  const std::vector<Broken>& flush();
  /// Values of its measures whose stretch was over by the last image, or at the end.
  const std::vector<Measured>& measured() const { return *measured_; }
  /// Asks about values of measures that another one measured. Returns the same.
  const std::vector<Broken>& ask_about(const std::vector<Measured>& fresh);

  /// There are no more images: what measures come to by that is in measured().
  void finish();
  /// Verdicts after finish(); once.
  std::vector<Verdict> verdicts(observe::Ending ending);
  /// After the verdicts: what was looked at around where each requirement was broken first and where it was worst.
  observe::Witnessed witnessed() const { return witness_.all(); }

 private:
  static constexpr double kFar = std::numeric_limits<double>::infinity();
  struct Monitor {
    Verdict verdict;
    std::size_t first = 0;           ///< of its expressions: trigger, check, margin; or those of the formula
    std::optional<Formula> formula;  ///< where time is spoken of
    bool reached = false;            ///< eventually, until: it has come true
    bool open = false;               ///< the end of the run leaves it open
    double worst = kFar;             ///< the worst margin so far
    double best = -kFar,
           all = kFar;           ///< eventually, until: the distance so far; until: the least of what holds up to it
    bool tested_before = false;  ///< trigger at the last image
    std::optional<Time> waiting_since;  ///< earliest trigger without its answer
    bool in_breach = false;
    bool listed = false;  ///< the present breach is in verdict.breaches
  };
  /// Images that wait to be looked at: what requirements read of them, a row each.
  struct Batch {
    std::vector<double> rows;
    std::vector<Time> times;
    std::size_t count = 0;
  };
  std::vector<std::vector<program::NodeId>> expressions(bool of_measures);
  void hand_over();
  void settle();
  void work();
  void look(Batch& batch);
  void look(const double* rows, const Time* times, std::size_t count);
  void bear_witness(Batch& batch);
  void instant(Monitor& m, Time at, const Value& trigger, const Value& check);
  void always(Monitor& m, Time at, const Value& trigger, const Value& check);
  void once(Monitor& m, Time at, const Value& trigger, const Value& check);
  void test(Monitor& m, bool asked);
  bool calm(Monitor& m);
  bool nothing_new(Monitor& m, const Time* times, std::size_t rows);
  void at_once(Monitor& m, Time now, bool triggered, bool holds, double margin);
  void in_time(Monitor& m, Time now, bool triggered, bool answered);
  void drain(Monitor& m);
  void ask(const std::vector<Measured>& fresh);
  void with_measures(Monitor& m, const std::vector<Measured>& fresh);
  const program::Requirement& requirement(const Monitor& m) const {
    return program_->requirements[static_cast<std::size_t>(m.verdict.requirement)];
  }
  bool measured(const Monitor& m) const { return !requirement(m).measures.empty(); }
  void worse(Monitor& m, double margin, Time now);
  void breach(Monitor& m, Time now);

  std::shared_ptr<const program::Program> program_;
  std::vector<std::int32_t> requirements_;  ///< of the program, one for each monitor
  std::vector<Monitor> monitors_;
  engine::BlockEvaluator block_;
  Witness witness_;  ///< used by look(), on whichever thread that is
  Batch filling_;    ///< by image()
  // Of the thread beside: it has `working_` while busy_, and otherwise nothing of the judge.
  Batch working_;
  std::mutex mutex_;
  std::condition_variable changed_;
  bool busy_ = false, leaving_ = false;
  std::vector<Broken> found_;  ///< by look(), not told yet
  std::thread beside_;
  bool any_with_measures_ = false;
  engine::Evaluator with_measures_;  ///< expressions of requirements about measures
  Measurer measurer_;
  const std::vector<Measured>* measured_ = nullptr;
  std::vector<double> latest_;  ///< value of each measure
  std::vector<char> known_;     ///< whether it has one
  Time last_{};
  std::vector<Broken> newly_broken_;
};

}  // namespace isodyne::judge
