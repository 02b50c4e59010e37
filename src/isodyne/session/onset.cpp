#include "isodyne/session/onset.h"

#include <algorithm>

#include "isodyne/core/json.h"

namespace isodyne::session {

void OnsetWatch::event(const observe::Event& event) {
  if (event.kind != observe::EventKind::fault_on) return;
  const std::string& name = at(program_.faults, event.subject).name;
  const bool known =
      std::any_of(onset_.began.begin(), onset_.began.end(), [&](const auto& b) { return b.first == name; });
  if (!known) onset_.began.emplace_back(name, to_seconds(event.at));
}

void OnsetWatch::image(const observe::Image& image) {
  const double now = to_seconds(image.at);
  for (std::size_t i = 0; i < ids_.size(); ++i) {
    if (image.variables[ids_[i]] == 0) continue;
    Onset::Signal& s = onset_.signals[i];
    s.last_s = now;
    if (!s.first_s && !onset_.began.empty()) s.first_s = now;
  }
}

std::string OnsetWatch::text() const {
  CheckedJson began = CheckedJson::array(), signals = CheckedJson::array();
  for (const auto& [name, at] : onset_.began) began.push_back({name, at});
  const auto maybe = [](const std::optional<double>& v) { return v ? CheckedJson(*v) : CheckedJson(nullptr); };
  for (const Onset::Signal& s : onset_.signals) signals.push_back({maybe(s.first_s), maybe(s.last_s)});
  return CheckedJson{{"began", began}, {"signals", signals}}.dump();
}

std::optional<Onset> read_onset(const std::string& text) {
  if (text.empty()) return std::nullopt;
  const auto json = parse_json(text);
  if (!json) return std::nullopt;
  Onset onset;
  for (const auto& b : (*json)["began"]) onset.began.emplace_back(b.at(0).get<std::string>(), b.at(1).get<double>());
  const auto maybe = [](const auto& v) { return v.is_null() ? std::nullopt : std::optional(v.template get<double>()); };
  for (const auto& s : (*json)["signals"]) onset.signals.push_back({maybe(s.at(0)), maybe(s.at(1))});
  return onset;
}

}  // namespace isodyne::session
