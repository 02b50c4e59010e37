#include "isodyne/session/onset.h"

#include <algorithm>

#include "isodyne/core/json.h"

namespace isodyne::session {

void OnsetWatch::event(const observe::Event& event) {
  const bool on = event.kind == observe::EventKind::fault_on;
  if (!on && event.kind != observe::EventKind::fault_off) return;
  const std::string& name = at(program_.faults, event.subject).name;
  changed_ = true;
  on ? void(acting_.insert(name)) : void(acting_.erase(name));
  if (!on) return;
  const bool known =
      std::any_of(onset_.began.begin(), onset_.began.end(), [&](const auto& b) { return b.first == name; });
  if (!known) onset_.began.emplace_back(name, to_seconds(event.at));
}

void OnsetWatch::image(const observe::Image& image) {
  const double now = to_seconds(image.at);
  if (changed_) acting_now(now);
  for (std::size_t i = 0; i < ids_.size(); ++i) {
    if (image.variables[ids_[i]] == 0) continue;
    Onset::Signal& s = onset_.signals[i];
    s.last_s = now;
    if (!s.first_s && !onset_.began.empty()) s.first_s = now;
  }
}

void OnsetWatch::acting_now(double now) {
  constexpr std::size_t kMost = 64;
  changed_ = false;
  const std::vector<std::string> all(acting_.begin(), acting_.end());
  const auto within = [](const std::vector<std::string>& a, const std::vector<std::string>& b) {
    return std::includes(b.begin(), b.end(), a.begin(), a.end());
  };
  if (all.empty() || onset_.together.size() >= kMost) return;
  for (const auto& [known, at] : onset_.together) {
    if (within(all, known)) return;
  }
  onset_.together.emplace_back(all, now);
}

std::string OnsetWatch::text() const {
  CheckedJson began = CheckedJson::array(), signals = CheckedJson::array(), together = CheckedJson::array();
  for (const auto& [name, at] : onset_.began) began.push_back({name, at});
  const auto maybe = [](const std::optional<double>& v) { return v ? CheckedJson(*v) : CheckedJson(nullptr); };
  for (const Onset::Signal& s : onset_.signals) signals.push_back({maybe(s.first_s), maybe(s.last_s)});
  for (const auto& [names, at] : onset_.together) together.push_back({names, at});
  return CheckedJson{{"began", began}, {"signals", signals}, {"together", together}}.dump();
}

std::optional<Onset> read_onset(const std::string& text) {
  if (text.empty()) return std::nullopt;
  const auto json = parse_json(text);
  if (!json) return std::nullopt;
  Onset onset;
  for (const auto& b : (*json)["began"]) onset.began.emplace_back(b.at(0).get<std::string>(), b.at(1).get<double>());
  const auto maybe = [](const auto& v) { return v.is_null() ? std::nullopt : std::optional(v.template get<double>()); };
  for (const auto& s : (*json)["signals"]) onset.signals.push_back({maybe(s.at(0)), maybe(s.at(1))});
  for (const auto& t : (*json)["together"])
    onset.together.emplace_back(t.at(0).get<std::vector<std::string>>(), t.at(1).get<double>());
  return onset;
}

}  // namespace isodyne::session
