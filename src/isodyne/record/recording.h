#pragma once
// Reads a recording.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"
#include "isodyne/record/recorder.h"

namespace isodyne::record {

struct RecordedEvent {
  Time at{};
  std::string kind, subject, text;
};

/// How the numbers of a signal are to be read: SI, and (SI − offset) / factor in the unit that people read.
struct SignalUnit {
  std::string si, read_in;
  double factor = 1, offset = 0;
};

class Recording {
 public:
  static Result<std::unique_ptr<Recording>> open(const std::string& file);
  /// The same of a run folder, or of a file.
  static Result<std::unique_ptr<Recording>> open_run(const std::string& path);
  ~Recording();

  const RunIdentity& identity() const { return identity_; }
  /// How the run ended; empty if the recording was never closed (a kill, a full disk).
  const std::string& ending() const { return ending_; }
  const std::vector<std::int64_t>& times_ns() const { return times_; }
  const std::vector<RecordedEvent>& events() const { return events_; }

  /// All rows of a signal in SI, as many as there are times; nothing if there is no such signal.
  std::optional<std::vector<double>> signal(const std::string& name) const;
  bool has(const std::string& name) const;
  SignalUnit unit(const std::string& name) const;
  /// Names of all signals.
  std::vector<std::string> names() const;

 private:
  Recording();
  struct Files;
  bool read_identity();
  bool read_sources();
  bool read_events();

  std::unique_ptr<Files> h5_;
  RunIdentity identity_;
  std::string ending_;
  std::vector<std::int64_t> times_;
  std::vector<RecordedEvent> events_;
};

}  // namespace isodyne::record
