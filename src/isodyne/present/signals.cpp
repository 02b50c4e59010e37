#include "isodyne/present/signals.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "isodyne/core/text.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/run_folder.h"

namespace isodyne::present {

Result<std::vector<std::string>> chosen_signals(const record::Recording& recording,
                                                const std::vector<std::string>& words) {
  const std::vector<std::string> all = recording.names();
  std::vector<std::string> chosen;
  for (const std::string& word : words) {
    bool any = false;
    for (const std::string& name : all) {
      if (!matches(word, name)) continue;
      any = true;
      if (std::find(chosen.begin(), chosen.end(), name) == chosen.end()) chosen.push_back(name);
    }
    if (any) continue;
    const auto meant = closest(word, all);
    return Failure{"the recording has no signal called", word, meant ? "did you mean " + *meant + "?" : ""};
  }
  return chosen;
}

std::vector<std::string> usual_signals(const std::string& run, const record::Recording& recording, std::size_t most) {
  std::vector<std::string> names, all = recording.names();
  if (const auto opened = open_recording(run); opened && opened->loaded.program != nullptr) {
    const model::Program& program = *opened->loaded.program;
    for (const model::Figure& f : figures_of(program)) {
      for (const auto& panel : f.panels) {
        for (const model::VarId id : panel) names.push_back(program.variable(id).name);
      }
    }
    std::erase_if(names, [&](const std::string& n) { return std::find(all.begin(), all.end(), n) == all.end(); });
  }
  if (names.empty()) names = std::move(all);
  if (names.size() > most) names.resize(most);
  return names;
}

std::vector<std::string> labels_of(const record::SignalUnit& unit) {
  if (unit.si.find('|') == std::string::npos) return {};
  std::vector<std::string> labels(1);
  for (const char c : unit.si) {
    if (c == '|') {
      labels.emplace_back();
    } else {
      labels.back() += c;
    }
  }
  return labels;
}

namespace {

/// A value of each kind in [begin, end).
void add_of_stretch(const double* v, std::size_t begin, std::size_t end, std::vector<std::size_t>& chosen) {
  constexpr std::size_t kNone = SIZE_MAX;
  std::size_t low = kNone, high = kNone, hole = kNone;
  double least = INFINITY, most = -INFINITY;
  for (std::size_t i = begin; i < end; ++i) {
    if (v[i] < least) least = v[i], low = i;
    if (v[i] > most) most = v[i], high = i;
    if (v[i] != v[i] && hole == kNone) hole = i;
  }
  const std::size_t before = chosen.size();
  for (const std::size_t i : {begin, low, high, hole, end - 1}) {
    if (i != kNone) chosen.push_back(i);
  }
  const auto from = chosen.begin() + static_cast<std::ptrdiff_t>(before);
  std::sort(from, chosen.end());
  chosen.erase(std::unique(from, chosen.end()), chosen.end());
}

std::int64_t to_ns(double seconds) {
  constexpr double kMost = 9e18;
  return static_cast<std::int64_t>(std::clamp(std::round(seconds * 1e9), -kMost, kMost));
}

}  // namespace

std::vector<std::size_t> enough_to_draw(const double* values, std::size_t count, std::size_t most) {
  std::vector<std::size_t> chosen;
  if (count <= most) {
    chosen.resize(count);
    std::iota(chosen.begin(), chosen.end(), std::size_t{0});
    return chosen;
  }
  const std::size_t stretches = most / 5;
  for (std::size_t s = 0; s < stretches; ++s)
    add_of_stretch(values, count * s / stretches, count * (s + 1) / stretches, chosen);
  return chosen;
}

Result<SignalView> signal_view(const record::Recording& recording, const std::string& name, const Stretch& stretch,
                               std::size_t most) {
  const record::SignalUnit unit = recording.unit(name);
  SignalView v;
  v.name = name;
  if (unit.si == "bool") {
    v.lane = v.steps = true;
  } else if (v.labels = labels_of(unit); !v.labels.empty()) {
    v.lane = v.steps = true;
  } else if (unit.si == "int") {
    v.steps = true;
  } else if (unit.read_in != "1") {
    v.unit = unit.read_in;
  }
  const record::Instants& times = recording.times_of(name);
  std::size_t first = times.before(to_ns(stretch.begin)), last = times.until(to_ns(stretch.end));
  if (stretch.neighbours && first > 0) --first;
  if (stretch.neighbours && last < times.size()) ++last;
  const std::int64_t longest = recording.throughout(name) ? 0 : recording.period_of(name).count() * 3 / 2;
  // In blocks, so that ten million values need no room for ten million.
  constexpr std::size_t kBlock = 1 << 18;
  const std::size_t rows = last > first ? last - first : 0, blocks = (rows + kBlock - 1) / kBlock;
  std::vector<double> values(std::min(rows, kBlock));
  for (std::size_t b = 0; b < blocks; ++b) {
    const std::size_t begin = first + b * kBlock, count = std::min(kBlock, last - begin);
    if (!recording.read(name, begin, count, values.data()))
      return Failure{"cannot read the signal", name, "the recording is damaged there"};
    const std::size_t share = most == 0 ? count : std::max<std::size_t>(5, most * count / rows);
    for (const std::size_t i : enough_to_draw(values.data(), count, share)) {
      const std::int64_t at = times[begin + i];
      if (longest > 0 && begin + i > 0 && at - times[begin + i - 1] > longest) {
        v.seconds.push_back(to_seconds(Time{at}));
        v.values.push_back(NAN);
      }
      v.seconds.push_back(to_seconds(Time{at}));
      v.values.push_back((values[i] - unit.offset) / unit.factor);
    }
  }
  return v;
}

}  // namespace isodyne::present
