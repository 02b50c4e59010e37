#include "runs.h"

#include "terminal.h"

namespace isodyne::app {

std::optional<std::vector<present::RunFolder>> open_runs(const std::vector<std::string>& folders) {
  std::vector<present::RunFolder> runs;
  for (const std::string& folder : folders) {
    auto run = present::open_run(folder);
    if (!run) {
      say_error(run.failure().text());
      return std::nullopt;
    }
    runs.push_back(std::move(*run));
  }
  return runs;
}

}  // namespace isodyne::app
