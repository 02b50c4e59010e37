#pragma once
// What can be said to a run, and how it is said through its door.

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "isodyne/core/json.h"
#include "isodyne/core/result.h"

namespace isodyne::live {

using Json = CheckedJson;

/// A command as it is said to a run.
struct Spoken {
  std::string method;
  Json params = Json::object();
  std::string what;  ///< "request = up": what was done, before " at 1.2 s"
};

/// A command of the command line, without the run that it is about.
struct Phrase {
  std::string name, words, summary;                          ///< words: "NAME VALUE"
  std::vector<std::pair<std::string, std::string>> options;  ///< "within", "TIME"
};

/// What can be said, which is the command line's; and what it means.
struct Phrases {
  std::vector<Phrase> all;
  std::function<Result<Spoken>(const std::vector<std::string>& words)> spoken;
};

}  // namespace isodyne::live
