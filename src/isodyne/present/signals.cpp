#include "isodyne/present/signals.h"

#include <algorithm>

#include "isodyne/core/text.h"
#include "isodyne/present/figure.h"
#include "isodyne/present/run_folder.h"

namespace isodyne::present {

bool matches(std::string_view pattern, std::string_view name) {
  const std::size_t star = pattern.find('*');
  if (star == std::string_view::npos) return pattern == name;
  if (!name.starts_with(pattern.substr(0, star))) return false;
  const std::string_view rest = pattern.substr(star + 1);
  for (std::size_t i = star; i <= name.size(); ++i) {
    if (matches(rest, name.substr(i))) return true;
  }
  return false;
}

Result<std::vector<std::string>> chosen_signals(const record::Recording& recording,
                                                const std::vector<std::string>& words) {
  constexpr std::size_t kMostStars = 8;
  const std::vector<std::string> all = recording.names();
  std::vector<std::string> chosen;
  for (const std::string& word : words) {
    if (static_cast<std::size_t>(std::count(word.begin(), word.end(), '*')) > kMostStars)
      return Failure{"too many stars in", word, "at most 8"};
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

Result<SignalView> signal_view(const record::Recording& recording, const std::string& name, const Stretch& stretch) {
  const auto values = recording.signal(name);
  if (!values) return Failure{"cannot read the signal", name, "the recording is damaged there"};
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
  for (std::size_t i = 0; i < values->size(); ++i) {
    const double at = to_seconds(Time{recording.times_ns()[i]});
    if (at < stretch.begin || at > stretch.end) continue;
    v.seconds.push_back(at);
    v.values.push_back(((*values)[i] - unit.offset) / unit.factor);
  }
  return v;
}

}  // namespace isodyne::present
