#pragma once
// Reads a recording: one that is whole, one that is being written, or one whose writer was killed.
//
// Signals are recorded in groups, each with instants of its own; those of the first group are the instants of the run.

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/observe/events.h"
#include "isodyne/record/identity.h"
#include "isodyne/record/instants.h"
#include "isodyne/record/recording_file.h"

namespace isodyne::record {

struct RecordedEvent {
  Time at{};
  std::string kind, subject, text;
  double value = 0;
  bool is(observe::EventKind what) const { return kind == observe::event_word(what); }
};

/// How the numbers of a signal are to be read: SI, and (SI − offset) / factor in the unit that people read.
struct SignalUnit {
  std::string si, read_in;
  double factor = 1, offset = 0;
  bool held = false;  ///< between two rows; else it is on the straight line
};

class Recording {
 public:
  static Result<std::unique_ptr<Recording>> open(const std::string& file);
  /// The same of a run folder, or of a file.
  static Result<std::unique_ptr<Recording>> open_run(const std::string& path);
  /// As open(), but without trying it in a process of its own before: for one that may itself end of a damaged file.
  static Result<std::unique_ptr<Recording>> open_untried(const std::string& file);
  ~Recording();

  const RunIdentity& identity() const { return identity_; }
  const std::string& bench() const { return bench_; }
  /// How the run ended; empty if the recording was never closed (it still goes on, a kill, a full disk).
  const std::string& ending() const { return ending_; }
  /// The writer has not closed it: what is not in the file was taken from its tail.
  bool unfinished() const { return tail_.has_value(); }
  /// When it was opened, somebody still wrote it.
  bool growing() const { return growing_; }
  /// The instants of the run.
  const Instants& times() const { return groups_.front().times; }
  const std::vector<RecordedEvent>& events() const { return events_; }

  /// The instants at which a signal was recorded; those of the run if there is no such signal.
  const Instants& times_of(const std::string& name) const;
  /// Recorded from the first instant to the last, not only around some.
  bool throughout(const std::string& name) const;
  /// Of a gate: has a row at each of its edges.
  bool at_edges(const std::string& name) const;
  /// The time between two rows where none is left out.
  Time period_of(const std::string& name) const;
  /// All rows of a signal in SI, as many as its instants; nothing if there is no such signal, or it cannot be read.
  std::optional<std::vector<double>> signal(const std::string& name) const;
  /// Rows [first, first + count) of it.
  bool read(const std::string& name, std::size_t first, std::size_t count, double* to) const;
  /// The instants of a group of head().
  const Instants& times_in(std::size_t group) const { return groups_[group].times; }
  /// Values of a signal at every instant around some that were judged (where a requirement was broken first, where it
  /// was worst), in order: they are kept beside its rows. Empty where there are none, or they cannot be read.
  std::vector<std::pair<std::int64_t, double>> judged_rows(const std::string& name) const;
  bool has(const std::string& name) const { return columns_.contains(name); }
  SignalUnit unit(const std::string& name) const;
  /// Names of all signals.
  std::vector<std::string> names() const;

  /// What was known before there was a row, to write the same recording again.
  RecordingHead head() const;

 private:
  struct Group {
    std::string path;  ///< of its signals
    std::int64_t period_ns = 0;
    std::string kept;
    bool judged = false;
    Instants times;
    std::vector<std::string> columns;  ///< in the order in which they were written
  };
  struct Column {
    std::size_t group = 0, place = 0;  ///< which of the group it is
  };

  Recording() = default;
  static Status survives(const std::string& file);
  void touch() const;
  Status read_all(const std::string& file);
  bool read_identity();
  std::optional<std::string> stored_text(const std::string& path) const;
  bool read_sources();
  bool read_groups();
  bool read_group(Group group, const std::string& time_path);
  bool read_times(Group& group, std::size_t index, const std::string& path);
  bool read_events();
  bool read_column(const std::string& name, const Column& column, std::size_t first, std::size_t count,
                   double* to) const;
  std::size_t rows_in_tail(std::size_t group) const;
  bool read_tail(std::size_t group, std::size_t place, std::size_t size, std::size_t first, std::size_t count,
                 void* to) const;

  Handle h5_;
  int descriptor_ = -1;  ///< the same file, of which the tail says what lies where
  std::optional<Tail> tail_;
  bool growing_ = false;
  RunIdentity identity_;
  std::string bench_, ending_;
  std::vector<Group> groups_;
  std::map<std::string, Column> columns_, judged_;
  std::vector<RecordedEvent> events_;
};

}  // namespace isodyne::record
