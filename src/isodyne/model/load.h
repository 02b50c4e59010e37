#pragma once
// From files to a Program: the one way in for every command.

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "isodyne/core/diagnostics.h"
#include "isodyne/core/result.h"
#include "isodyne/model/program.h"

namespace isodyne::model {

/// Gives the text of a file, named relative to the main file's folder ("plant.dyne").
using Reader = std::function<Result<std::string>(const std::string& relative)>;

struct Loaded {
  std::shared_ptr<Sources> sources;   ///< in the order read; 0 is the main file
  std::vector<std::string> relative;  ///< name of each source relative to the main file's folder
  Diagnostics diagnostics;
  std::shared_ptr<const Program> program;  ///< null if there are errors
};

/// Reads `main` and every file it uses, checks them together, and makes the Program if there is no error.
///
/// `folder` is put before names in messages ("examples/canal-lock/"); it may be empty. All errors of a
/// pass are found at once; a text that cannot be parsed is not checked further.
Loaded load_bench(const std::string& folder, const std::string& main, const Reader& reader);

}  // namespace isodyne::model
