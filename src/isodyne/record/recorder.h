#pragma once
// Writes a run into an HDF5 file; docs/recording.md says what is where.
//
// The file is flushed every kRowsPerFlush rows, so that after a kill or a crash everything up to the last
// flush can be read. Before each flush the space for it is reserved, so that a full disk is noticed while the
// file is still whole. The same run gives the same bytes: no wall-clock time, no host name in it.

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/bench/events.h"
#include "isodyne/core/result.h"
#include "isodyne/model/program.h"

namespace isodyne::record {

/// RunIdentity::method of a run by the adaptive solver.
inline constexpr const char* kReferenceMethod = "reference: adaptive, relative tolerance 1e-10";

/// Everything needed to repeat the run, beside the recorded values.
struct RunIdentity {
  std::string version;  ///< of Isodyne
  std::string scenario;
  std::string harness;  ///< empty: the whole bench
  std::vector<std::string> faults;
  std::string setting;
  std::string pace;  ///< "--paced --speed 0.5" of a run that kept to the wall clock; empty: lockstep
  std::uint64_t seed = 1;
  std::string main;                                          ///< name of the main source
  std::string method;                                        ///< how the continuous parts were stepped
  std::string longest;                                       ///< span given on the command line; may be empty
  std::vector<std::pair<std::string, std::string>> sources;  ///< relative name, text; the main file first
};

class Recorder {
 public:
  static constexpr std::size_t kRowsPerFlush = 512;

  static Result<std::unique_ptr<Recorder>> create(const std::string& file,
                                                  std::shared_ptr<const model::Program> program,
                                                  const RunIdentity& identity);
  ~Recorder();

  /// Takes the image if its instant is one of the recording's period.
  void image(const bench::Image& image);
  /// Takes the image whatever its instant: the last one of a run.
  void last_image(const bench::Image& image);
  void event(const bench::Event& event);

  /// False once something could not be written; trouble() says what.
  bool good() const { return good_; }
  const Failure& trouble() const { return trouble_; }

  /// Writes what is left, how the run ended, and closes the file.
  Status close(bench::Ending ending);

 private:
  struct Files;
  Recorder(std::string file, std::shared_ptr<const model::Program> program);
  bool create_signals();
  void flush();
  bool reserve();
  std::vector<struct EventRow> event_rows() const;
  void take(Time at, const double* variables);
  void fail(int reason);

  std::string file_;
  std::shared_ptr<const model::Program> program_;
  std::unique_ptr<Files> h5_;
  std::vector<model::VarId> columns_;
  std::vector<std::int64_t> times_;          // rows not written yet
  std::vector<std::vector<double>> values_;  // per column
  Time next_{}, taken_at_{-1};
  std::vector<bench::Event> events_;
  bool good_ = true, whole_ = true;  // whole: nothing was half written
  Failure trouble_;
};

/// The variables that are recorded: everything that can change and can be named.
std::vector<model::VarId> recorded_variables(const model::Program& program);

}  // namespace isodyne::record
