#pragma once
// A recording as the images that it was made of, for whoever looked at the run itself: the judge cannot tell.
//
// There is an image at each instant of the signals that were recorded most often, and at each edge of gates of which the
// edges were recorded; others have the values of their instant before. What was recorded only around some instants is not there.
//
// Quantities that nobody recorded are computed where their equations read only what is there; parameters that were not
// recorded have the value that the run began with, and what was set by hand from then on.

#include <deque>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "isodyne/engine/code.h"
#include "isodyne/observe/events.h"
#include "isodyne/record/recording.h"

namespace isodyne::record {

class Playback {
 public:
  /// `wanted`: the variables of `program` that will be looked at.
  Playback(std::shared_ptr<const program::Program> program, const Recording& recording,
           const std::vector<program::VarId>& wanted);

  /// Those that are neither there nor to be computed.
  const std::vector<program::VarId>& missing() const { return missing_; }
  /// One of them that a quantity is, or is made of; kNone: all of it is there.
  program::VarId missing_for(program::VarId id) const;
  std::size_t images() const { return times_->size(); }
  /// The time between two images.
  Time period() const { return period_; }
  void run(const std::function<void(const observe::Image&)>& see);

 private:
  struct Column {
    program::VarId id = program::kNone;
    std::vector<double> values;
    const Instants* times = nullptr;
    std::size_t next = 0;  ///< row of the first instant that is not reached yet
  };
  void want(program::VarId id);
  void add_edges();
  bool parameter(program::VarId id);

  std::shared_ptr<const program::Program> program_;
  const Recording& recording_;
  const Instants* times_;
  Instants with_edges_;  ///< theirs and those of edges, if there are any
  Time period_;
  std::vector<double> image_;
  std::vector<Column> columns_;
  /// In the order in which they have to be computed. What a delay gives is what its input was, between two images on a
  /// straight line as in the run between two instants.
  struct Computed {
    program::VarId id = program::kNone;
    engine::Evaluator value;  ///< of a delay: its input, and its lag
    const program::Delay* delay = nullptr;
    std::deque<std::pair<double, double>> past{};  ///< s, value; at least one before the longest lag
  };
  static double recall(Computed& c, double now);
  std::vector<Computed> computed_;
  /// Of parameters that were not recorded: what was set by hand, in the order of time.
  struct Change {
    Time at{};
    program::VarId id = program::kNone;
    double value = 0;
  };
  std::vector<Change> changes_;
  std::vector<char> known_;
  std::vector<program::VarId> missing_;
};

/// Everything that requirements, measures and the edges among them read.
std::vector<program::VarId> judged_variables(const program::Program& program);

}  // namespace isodyne::record
