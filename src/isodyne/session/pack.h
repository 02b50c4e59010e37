#pragma once
// One file to hand over: a run with its evidence, the texts of its bench, and its controllers.

#include <cstddef>
#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/record/recording.h"

namespace isodyne::session {

struct Packed {
  std::size_t files = 0;
  std::vector<std::string> missing;  ///< what the controllers of the run are made of, and is not there any more
};

/// Writes a ZIP archive: the files of the run folder; `bench/`, the texts as they were run and beside them what stands
/// in the folders of the controllers' files below `bench_folder`; READ-ME.txt. The same files give the same archive.
Result<Packed> pack(const std::string& run, const record::Recording& recording, const std::string& bench_folder,
                    const std::string& archive);

}  // namespace isodyne::session
