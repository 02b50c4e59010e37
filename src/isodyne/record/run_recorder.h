#pragma once
// The recording of a run: one file, or pieces of it one after the other, of which the oldest are dropped.
//
// Each piece is a recording of its own in `pieces`, with its part of the rows and events; every instant is in exactly
// one. The newest is `recording.h5`, a link. Of a run in pieces all events are in `events.csv` as well, which is never
// cut. A piece that is full is closed beside the run. Used by one thread, like a Recorder.

#include <cstdint>
#include <deque>
#include <future>
#include <memory>
#include <string>

#include "isodyne/core/descriptor.h"
#include "isodyne/record/recorder.h"

namespace isodyne::record {

/// How a run is recorded in pieces; neither time nor bytes: as a whole.
struct PiecePlan {
  Time every{};                  ///< simulated time of a piece; 0: whatever it takes
  std::uint64_t bytes = 0;       ///< of a piece; 0: whatever it takes
  Time keep{};                   ///< pieces that ended longer ago, in simulated time, are dropped; 0: none
  std::uint64_t keep_bytes = 0;  ///< of all pieces together, the one that is written among them; 0: any
  /// Runs whose pieces count too, each in a folder of this one: those that ended longer ago, by the wall clock. Empty:
  /// none.
  std::string among;

  bool any() const { return every > Time{} || bytes > 0; }
};

class RunRecorder {
 public:
  /// `go_on`: where a piece cannot be written, the next one is tried.
  static Result<std::unique_ptr<RunRecorder>> create(const std::string& folder,
                                                     std::shared_ptr<const program::Program> program,
                                                     const RunIdentity& identity, std::int64_t verdicts_late,
                                                     const PiecePlan& plan = {}, bool go_on = false);
  ~RunRecorder();

  void image(const observe::Image& image);
  void rows(const observe::Rows& rows) { now_->rows(rows); }
  void edges(const observe::Edges& edges) { now_->edges(edges); }
  void last_image(const observe::Image& image) { now_->last_image(image); }
  void event(const observe::Event& event);
  void judged(const observe::Witnessed& witnessed) { now_->judged(witnessed); }

  bool good() const { return now_->good() && trouble_.operation.empty(); }
  const Failure& trouble() const { return trouble_.operation.empty() ? now_->trouble() : trouble_; }
  Time recorded_until() const { return now_->recorded_until(); }
  std::size_t pieces() const { return number_; }
  std::size_t dropped() const { return dropped_; }
  /// Of pieces that could not be written to their end; empty: none.
  const std::string& gaps() const { return gaps_; }

  Status close(observe::Ending ending);

 private:
  RunRecorder(std::string folder, std::shared_ptr<const program::Program> program, RunIdentity identity,
              std::int64_t verdicts_late, PiecePlan plan, bool go_on);
  Status begin_piece(Time at);
  bool full(Time at);
  void close_beside();
  void take_closed(bool all);
  void drop_old(Time now);
  std::string file_of(std::size_t number) const;

  std::string folder_;
  std::shared_ptr<const program::Program> program_;
  RunIdentity identity_;
  std::int64_t verdicts_late_;
  PiecePlan plan_;
  bool go_on_;
  std::unique_ptr<Recorder> now_;
  std::size_t number_ = 0, dropped_ = 0;
  Time since_{}, tried_{};
  std::int64_t images_ = 0;
  struct Closing {
    std::size_t number;
    Time until;
    std::future<Status> done;
  };
  std::deque<Closing> closing_;
  std::deque<std::pair<std::size_t, Time>> ended_;  ///< pieces that are there, with their ends, the oldest first
  Descriptor events_;
  Failure trouble_;
  std::string gaps_;
};

}  // namespace isodyne::record
