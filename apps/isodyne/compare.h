#pragma once
// What `compare` does, for those who compare too.

#include <string>
#include <vector>

#include <nlohmann/json.hpp>

#include "subcommand.h"

namespace isodyne::app {

/// Compares each of the others with the first, as --align and --out of `options` say; `allow`: as of --allow. Prints
/// what differs, or adds it to `told`. Exit status of `compare`.
int compare_runs(const std::string& first, const std::vector<std::string>& others,
                 const std::vector<std::string>& allow, const Arguments& options, nlohmann::ordered_json* told);

}  // namespace isodyne::app
