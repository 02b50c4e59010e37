#pragma once
// The catalogue of runs: an SQLite file with a line for each run folder. It is an index only: everything in it can be
// read again from the folders. Several programs may use it at once.

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/identity.h"
#include "isodyne/session/summary.h"

namespace isodyne::session {

struct CatalogueEntry {
  std::string path;  ///< absolute
  std::string bench, scenario, faults, setting, seed, version;
  std::string overrides;     ///< values in place of the bench's: "chamber.area=500 m^2"
  std::string started;       ///< as in the verdicts
  std::string ending;        ///< empty: nobody has said yet how it ended
  std::string outcome;       ///< Summary::outcome(); empty: entered by 0.1, which did not say
  std::string inputs;        ///< of everything that the run was made of: the same for runs that must be the same
  std::string bench_folder;  ///< absolute: where the bench was that was run
  std::vector<std::string> tags;
  double simulated_s = 0, wall_s = 0;
  std::int64_t held = 0, broken = 0, not_tested = 0, undecided = 0;
  bool there = true;     ///< the folder has its recording
  bool running = false;  ///< somebody still writes it

  /// "running", "broken off", "held", "broken", "not put to the test", "undecided", or how it ended if that was not as
  /// asked.
  std::string verdict() const;
  /// "4 held, 1 not put to the test"; before it what else is to be said: "controller lost: 4 held".
  std::string verdict_text() const;
};

class Catalogue {
 public:
  /// Made if it is not there.
  static Result<std::unique_ptr<Catalogue>> open(const std::string& file);
  ~Catalogue();

  /// Enters a run, in the place of what was in that folder before. Its tags stay.
  Status enter(const CatalogueEntry& entry);
  /// All of which every word is part of something, the newest first. Looks which folders are still there.
  Result<std::vector<CatalogueEntry>> find(const std::vector<std::string>& words);
  Status tag(const std::string& path, const std::string& tag, bool remove);
  /// Takes the line out; the folder stays.
  Status forget(const std::string& path);

 private:
  Catalogue();
  struct Files;
  std::unique_ptr<Files> files_;
};

/// Where the user's catalogue is: $XDG_DATA_HOME/isodyne/runs.sqlite, or below ~/.local/share.
std::string usual_catalogue();

/// The folder of the bench, if the catalogue of this user knows the run: this very path, made of the same texts and
/// settings. What a run folder says about itself may have been written by anybody.
std::optional<std::string> bench_folder_of_own_run(const std::string& folder, const record::RunIdentity& identity);

CatalogueEntry entry_of(const std::string& folder, const Summary& summary, const record::RunIdentity& identity);

}  // namespace isodyne::session
