#include "isodyne/session/resumed.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/bench/run_plan.h"
#include "isodyne/core/text.h"
#include "isodyne/record/recording.h"

namespace isodyne::session {

namespace fs = std::filesystem;

namespace {

/// What a recording knows last of a quantity.
std::optional<double> last_of(const record::Recording& r, const std::string& name) {
  const std::size_t rows = r.has(name) ? r.times_of(name).size() : 0;
  double value = 0;
  if (rows == 0 || !r.read(name, rows - 1, 1, &value)) return std::nullopt;
  return value;
}

/// Quantities whose recorded value a fault has made: what they would be without it is not in the recording.
std::set<program::VarId> falsified(const record::Recording& r, const program::Program& p) {
  std::set<program::VarId> all;
  for (const program::Fault& f : p.faults) {
    const auto acts = last_of(r, f.name);
    if (acts && *acts == 0) continue;
    for (const std::int32_t tap : f.taps()) {
      const program::VarId target = p.taps[static_cast<std::size_t>(tap)].target;
      // Where it is not recorded, the events of the last piece do not tell when it began.
      const bool chosen = contains(r.identity().faults, f.name);
      if (acts || chosen) all.insert(target);
    }
  }
  return all;
}

/// Of several files each stands at its place, and a recording may give them in another order.
std::map<std::string, std::string> in_order(const std::vector<std::pair<std::string, std::string>>& sources) {
  return {sources.begin(), sources.end()};
}

}  // namespace

std::string Resumed::text() const {
  std::string line = fmt::format(
      "It goes on where {} stood at {}, with {}; controllers, delays, timers of modes, faults "
      "and the scenario begin anew.",
      run, format_instant(at), counted(values.size(), "value"));
  std::map<std::string, std::vector<std::string>> by_reason;
  for (const auto& [name, why] : without) by_reason[why].push_back(name);
  for (const auto& [why, names] : by_reason) line += fmt::format(" As the bench says: {} ({}).", listed(names), why);
  return line;
}

std::optional<std::string> newest_run(const std::string& among, const Bench& bench, std::string& why_not) {
  why_not = fmt::format("there is no served run of this bench in {}", among);
  std::vector<std::pair<fs::file_time_type, std::string>> all;
  std::error_code none;
  for (const auto& entry : fs::directory_iterator(among, none)) {
    const auto written = fs::last_write_time(entry.path() / "recording.h5", none);
    if (!none) all.emplace_back(written, entry.path().string());
  }
  std::sort(all.rbegin(), all.rend());
  for (const auto& [written, run] : all) {
    const auto recording = record::Recording::open_run(run);
    // Of `isodyne run` there may be others: what somebody tried is not where the bench stood.
    if (!recording || !(*recording)->identity().piece_from || (*recording)->growing() ||
        (*recording)->times().empty() || (*recording)->identity().main != bench.sources.front().first)
      continue;
    if ((*recording)->ending() == observe::ending_word(observe::Ending::diverged)) {
      why_not = fmt::format("{} diverged", run);
      return std::nullopt;
    }
    const bool changed = in_order((*recording)->identity().sources) != in_order(bench.sources);
    if (changed) {
      why_not = fmt::format("{} is of another text of this bench", run);
      return std::nullopt;
    }
    return run;
  }
  return std::nullopt;
}

Result<Resumed> resumed(const std::string& run, const program::Program& program) {
  const auto opened = record::Recording::open_run(run);
  if (!opened) return opened.failure();
  const record::Recording& r = **opened;
  Resumed made;
  made.run = run;
  made.at = Time{r.times().back()};
  const std::set<program::VarId> false_ones = falsified(r, program);
  for (std::size_t i = 0; i < program.variables.size(); ++i) {
    const auto id = static_cast<program::VarId>(i);
    const program::Variable& v = program.variable(id);
    if (!program.startable(id) || v.name.empty() || v.role == program::Role::fault_setting) continue;
    const auto last = last_of(r, v.name);
    const auto not_this = [&](const char* why) { made.without.emplace_back(v.name, why); };
    if (!last)
      not_this("not recorded");
    else if (false_ones.contains(id))
      not_this("a fault acted on it");
    else if (!std::isfinite(*last) || bench::start_trouble(program, id, *last))
      not_this("cannot begin with what it was");
    else
      made.values.emplace_back(id, *last);
  }
  return made;
}

}  // namespace isodyne::session
