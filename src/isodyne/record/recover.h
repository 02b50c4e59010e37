#pragma once
// Makes a recording whole whose writer was killed: what its tail says goes into a file that every HDF5 tool opens.

#include <cstddef>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/core/time.h"

namespace isodyne::record {

struct Recovered {
  bool was_whole = false;  ///< there was nothing to do
  std::size_t signals = 0, instants = 0, events = 0;
  Time until{};
  std::vector<std::string> lost;  ///< signals of which something could not be read; nothing was changed then
};

/// The new file takes the place of the old one when it is complete.
/// `ending`: how its run ended, if somebody knows.
Result<Recovered> recover(const std::string& file, const std::string& ending = {});

}  // namespace isodyne::record
