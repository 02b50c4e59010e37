#pragma once
// Everything needed to repeat a run, beside the recorded values.

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace isodyne::record {

/// RunIdentity::method of a run by the adaptive solver.
inline constexpr const char* kReferenceMethod = "reference: adaptive, relative tolerance 1e-10";

struct RunIdentity {
  std::string version;  ///< of Isodyne
  std::string scenario;
  std::string harness;  ///< empty: the whole bench
  std::vector<std::string> faults;
  std::string setting;
  std::string pace;  ///< "--paced --speed 0.5" of a run that kept to the wall clock; empty: lockstep
  std::uint64_t seed = 1;
  std::string main;     ///< name of the main source
  std::string method;   ///< how the continuous parts were stepped
  std::string state;    ///< text of the stored state that it goes on from; empty: from the beginning
  std::string longest;  ///< span given on the command line; may be empty
  std::vector<std::pair<std::string, std::string>> sources;  ///< relative name, text; the main file first
};

}  // namespace isodyne::record
