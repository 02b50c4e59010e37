#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "command.h"
#include "isodyne/core/text.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

using Json = nlohmann::ordered_json;

Json diagnostic_json(const Sources& sources, const Diagnostic& d) {
  Json j;
  j["severity"] = d.severity == Severity::error ? "error" : "warning";
  j["code"] = code_text(d.code);
  j["file"] = d.span.known() ? Json(sources.name(d.span.source)) : Json(nullptr);
  const Position at = sources.position(d.span);
  j["line"] = at.line;
  j["column"] = at.column;
  j["message"] = d.message;
  j["advice"] = d.advice;
  j["notes"] = Json::array();
  for (const Note& n : d.notes) j["notes"].push_back({{"place", sources.place(n.span)}, {"text", n.text}});
  return j;
}

}  // namespace

int run_check(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const model::Loaded loaded = load_file(file);
  const bool good = loaded.program != nullptr;
  if (arguments.has(Option::json)) {
    Json j;
    j["good"] = good;
    j["diagnostics"] = Json::array();
    for (const Diagnostic& d : loaded.diagnostics.list())
      j["diagnostics"].push_back(diagnostic_json(*loaded.sources, d));
    say(j.dump(2, ' ', false, Json::error_handler_t::replace));
    return good ? kHeld : kWrongInput;
  }
  print_diagnostics(loaded, file);
  if (!good) return kWrongInput;
  const model::Program& p = *loaded.program;
  say(fmt::format("{} is in order: {}, {}, {}, {}, {}, {}, {} in {}.", p.name, counted(p.parts.size(), "part"),
                  counted(p.states.size(), "state"), counted(p.equations.size(), "equation"),
                  counted(p.sensors.size() + p.actuators.size(), "channel"), counted(p.faults.size(), "fault"),
                  counted(p.scenarios.size(), "scenario"), counted(p.requirements.size(), "requirement"),
                  counted(loaded.sources->size(), "file")));
  return kHeld;
}

}  // namespace isodyne::app
