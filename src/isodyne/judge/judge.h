#pragma once
// Requirements to verdicts, from a stream of images: the same while a run goes on and afterwards.

#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/engine/code.h"
#include "isodyne/judge/formula.h"
#include "isodyne/judge/measurer.h"
#include "isodyne/model/program.h"

namespace isodyne::judge {

enum class Answer {
  held,
  broken,
  not_tested,   ///< never put to the test: what it speaks of did not happen
  undecided,    ///< the run ended before it could be told
  interrupted,  ///< not broken before somebody stopped the run
};

/// "held", "broken", "not put to the test" …
const char* answer_word(Answer answer);

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

class Judge {
 public:
  explicit Judge(std::shared_ptr<const model::Program> program);

  /// Looks at the next image. Returns the requirements newly broken by it (valid until the next call).
  const std::vector<std::int32_t>& image(const bench::Image& image);

  /// Values of measures whose stretch was over by the last image, or at the end.
  const std::vector<Measured>& measured() const { return *measured_; }

  /// Verdicts after the last image; once.
  std::vector<Verdict> verdicts(bench::Ending ending);

 private:
  struct Monitor {
    Verdict verdict;
    std::size_t first = 0;           ///< of its expressions: trigger, check, margin; or those of the formula
    std::optional<Formula> formula;  ///< where time is spoken of
    bool reached = false;            ///< eventually, until: it has come true
    bool open = false;               ///< the end of the run leaves it open
    double best = -std::numeric_limits<double>::infinity(),
           all = std::numeric_limits<double>::infinity();  ///< eventually, until: the distance so far; until: the least
                                                           ///< of what holds up to it
    bool tested_before = false;                            ///< trigger at the last image
    std::optional<Time> waiting_since;                     ///< earliest trigger without its answer
    bool in_breach = false;
    bool listed = false;  ///< the present breach is in verdict.breaches
  };
  std::vector<model::NodeId> expressions();
  void instant(Monitor& m, Time at, const Value& trigger, const Value& check);
  void always(Monitor& m, Time at, const Value& trigger, const Value& check);
  void once(Monitor& m, Time at, const Value& trigger, const Value& check);
  void at_once(Monitor& m, Time now);
  void in_time(Monitor& m, Time now);
  void drain(Monitor& m);
  void take(const std::vector<Measured>& fresh);
  void with_measures(Monitor& m, const std::vector<Measured>& fresh);
  const model::Requirement& requirement(const Monitor& m) const {
    return program_->requirements[static_cast<std::size_t>(m.verdict.requirement)];
  }
  void worse(Monitor& m, double margin, Time now);
  void breach(Monitor& m, Time now);

  std::shared_ptr<const model::Program> program_;
  std::vector<Monitor> monitors_;
  engine::Evaluator expressions_;
  Measurer measurer_;
  const std::vector<Measured>* measured_ = nullptr;
  std::vector<double> latest_;  ///< value of each measure
  std::vector<char> known_;     ///< whether it has one
  Time last_{};
  std::vector<std::int32_t> newly_broken_;
};

}  // namespace isodyne::judge
