#pragma once
// Everything needed to repeat a run, beside the recorded values; and the one place that knows it as text.
//
// A recording has the fields as attributes, a stored state as members of its JSON, the catalogue as one number made of
// all of them, a command line as words. All of these come from identity_fields(), so that no field can be forgotten in
// one of them.

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/time.h"

namespace isodyne::record {

/// How the values of a recording came about.
enum class MadeBy {
  steps,      ///< by the steps and methods of the bench
  reference,  ///< by the adaptive solver at tight tolerance
  others      ///< measured, or computed elsewhere, and imported
};

/// How a run kept to the wall clock.
struct RunPace {
  double speed = 1;  ///< simulated seconds per second
};

/// A value that a run had in the place of the one that its bench gives: the start of a state, or a parameter.
struct Override {
  std::string name;
  double value = 0;   ///< SI
  std::string unit;   ///< SI, of a real number that has one
  std::string label;  ///< of a truth or a choice: "true"
  std::string shown{};  ///< "0.3 mm/s", where that comes to the same number; not kept

  /// "chamber.level=2 m", as it is written on the command line.
  std::string text() const;
};

struct RunIdentity {
  std::string version;  ///< of Isodyne
  std::string main;     ///< name of the main source
  std::string scenario;
  std::string harness;  ///< empty: the whole bench
  std::vector<std::string> faults;
  std::string setting;
  std::uint64_t seed = 1;
  MadeBy made_by = MadeBy::steps;
  std::string method;           ///< for people: how the continuous parts were stepped, or where the values are from
  std::optional<Time> longest;  ///< that the run was given
  std::optional<RunPace> pace;  ///< nothing: lockstep
  std::vector<Override> overrides;
  bool live = false;  ///< others were let in while it ran
  std::optional<Time> piece_from;  ///< it is a piece of a run's recording, from there on
  std::string state;  ///< text of the stored state that it goes on from; empty: from the beginning
  std::vector<std::pair<std::string, std::string>> sources;  ///< relative name, text; the main file first
};

/// One field as text, but for the sources and the state, which are texts of their own.
struct IdentityField {
  const char* key;    ///< in files; never changed
  const char* words;  ///< for people: "time given"
  std::string (*text)(const RunIdentity&);
  bool (*read)(RunIdentity&, const std::string& text);  ///< false: that is no text of this field
  bool rare = false;                                    ///< written only where there is something to say
};
std::span<const IdentityField> identity_fields();

/// `method` of a run by the adaptive solver, and the beginning of it in a recording that was imported.
inline constexpr const char* kReferenceMethod = "reference: adaptive, relative tolerance 1e-10";
inline constexpr const char* kImportedMethod = "imported from ";

/// The command and its words that give the run again, from inside the folder of the bench: "run", "lock.dyne",
/// "uplock", "--fault", "level_drift", "--seed", "1". What was measured elsewhere has none.
std::vector<std::string> command_words(const RunIdentity& identity);

/// A name for everything that was asked of a run: the same for runs that ought to be the same, another for others,
/// whatever their version and sources. Fit for a folder.
std::string wish_name(const RunIdentity& identity, const std::string& bench);

/// A number for everything that the run was made of, the version and the sources among it: FNV-1a, not for security.
std::string fingerprint(const RunIdentity& identity);

}  // namespace isodyne::record
