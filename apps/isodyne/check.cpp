#include <algorithm>
#include <cmath>

#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/bench/rated_run.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/io/parameters.h"
#include "isodyne/ports/make_port.h"
#include "isodyne/session/summary.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

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

/// One compared value as people read it.
struct RatedRow {
  std::string part, quantity, expected, tolerance, found, deviation;
  bool matches = false;
};

/// Two decimals, and no sign before a zero.
std::string signed_percent(double value) {
  return std::abs(value) < 0.005 ? "0.00 %" : fmt::format("{:+.2f} %", value);
}

std::vector<RatedRow> rows_of(const program::RatedCase& c, const bench::RatedResult& result) {
  std::vector<RatedRow> rows;
  for (std::size_t i = 0; i < c.expected.size(); ++i) {
    const auto& e = c.expected[i];
    const auto& r = result.values[i];
    const Unit difference = difference_unit(e.unit);
    RatedRow row;
    row.part = c.part.empty() ? c.model : c.part;
    row.quantity = e.quantity;
    row.expected = format_value(r.expected, e.unit);
    row.tolerance = e.relative ? format_number(r.tolerance * 100) + " %" : format_value(r.tolerance, difference);
    row.found = format_value(r.found, e.unit);
    row.deviation = e.relative ? signed_percent(100 * (r.found - r.expected) / std::abs(r.expected))
                               : fmt::format("{:+.3g} {}", (r.found - r.expected) / difference.factor,
                                             difference.text == "1" ? "" : difference.text);
    row.matches = r.matches;
    rows.push_back(std::move(row));
  }
  return rows;
}

/// Runs all rated cases; true if every value matches. `json` receives the rows if it is there.
bool rated_checks(const check::Loaded& loaded, Json* json) {
  TextTable table({{"Part"},
                   {"Quantity"},
                   {"Data sheet", TextTable::Align::right},
                   {"Within", TextTable::Align::right},
                   {"Found", TextTable::Align::right},
                   {"Off by", TextTable::Align::right},
                   {""}});
  std::size_t values = 0, matching = 0;
  std::vector<std::string> troubles;
  for (const program::RatedCase& c : loaded.rated) {
    const bench::RatedResult result = bench::run_rated(c);
    if (!result.trouble.empty())
      troubles.push_back(fmt::format("{}: {}", c.part.empty() ? c.model : c.part, result.trouble));
    for (const RatedRow& row : rows_of(c, result)) {
      ++values;
      if (row.matches) ++matching;
      const std::string verdict = row.matches ? "matches" : "differs";
      table.row({row.part, row.quantity, row.expected, row.tolerance, row.found, row.deviation, verdict},
                row.matches ? "32" : "1;31", 6);
      if (json != nullptr) {
        json->push_back({{"part", row.part},
                         {"quantity", row.quantity},
                         {"expected", row.expected},
                         {"tolerance", row.tolerance},
                         {"found", row.found},
                         {"deviation", row.deviation},
                         {"matches", row.matches},
                         {"source", c.source}});
      }
    }
  }
  if (json == nullptr) {
    if (loaded.rated.empty()) {
      say("No model here states rated values: add a `rated` block to it.");
    } else {
      put(stdout, table.text(width_of(stdout), colours_on(stdout)));
      say(fmt::format("{} of {} rated values match.", matching, values));
    }
  }
  for (const std::string& t : troubles) say_error(t);
  return matching == values && troubles.empty();
}

void say_in_order(const check::Loaded& loaded, const std::string& file) {
  if (loaded.program == nullptr) {
    std::size_t modules = 0;
    for (const check::ModelInfo& m : loaded.models) modules += m.module ? 1 : 0;
    const std::size_t models = loaded.models.size() - modules;
    say(fmt::format("{} is in order: {}{}{} in {}.", file, models > 0 ? counted(models, "model") : "",
                    models > 0 && modules > 0 ? ", " : "", modules > 0 ? counted(modules, "module") : "",
                    counted(loaded.sources->size(), "file")));
    return;
  }
  const program::Program& p = *loaded.program;
  say(fmt::format("{} is in order: {}, {}, {}, {}, {}, {}, {} in {}.", p.name, counted(p.parts.size(), "part"),
                  counted(p.states.size(), "state"), counted(p.equations.size(), "equation"),
                  counted(p.sensors.size() + p.actuators.size(), "channel"), counted(p.faults.size(), "fault"),
                  counted(p.scenarios.size(), "scenario"), counted(p.requirements.size(), "requirement"),
                  counted(loaded.sources->size(), "file")));
}

/// Compares a controller's parameter file with the plant; the exit status. `json` receives the rows if it is there.
int parameter_checks(const check::Loaded& loaded, const std::string& file, Json* json) {
  const Result<std::string> text = read_file(file);
  const auto values = text ? io::read_parameters(*text, file) : Result<std::vector<io::FileParameter>>(text.failure());
  if (!values) {
    say_error(values.failure().text());
    return kWrongInput;
  }
  if (loaded.program == nullptr) {
    say_error("parameters are compared with those of a bench, and this file has none");
    return kWrongInput;
  }
  const auto rows = io::compare(loaded.program, *values);
  TextTable table(
      {{"Parameter"}, {"Plant", TextTable::Align::right}, {"File", TextTable::Align::right}, {""}, {"Remark"}});
  std::size_t equal = 0;
  for (const io::ParameterRow& r : rows) {
    const bool same = r.state == io::ParameterRow::State::equal;
    equal += same ? 1 : 0;
    table.row({r.name, r.plant, r.file, io::parameter_word(r.state), r.remark}, same ? "32" : "1;31", 3);
    if (json == nullptr) continue;
    json->push_back({{"parameter", r.name},
                     {"plant", r.plant},
                     {"file", r.file},
                     {"state", io::parameter_word(r.state)},
                     {"remark", r.remark}});
  }
  if (json == nullptr) {
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
    say(fmt::format("{} of {} agree.", equal, counted(rows.size(), "value")));
  }
  return equal == rows.size() ? kHeld : kBroken;
}

/// What is wrong with the register maps that settings name, a text for each map. That one is not there yet which no run
/// uses unless it is told to is a warning.
struct MapTroubles {
  std::vector<std::string> errors, warnings;
};
MapTroubles map_troubles(const check::Loaded& loaded, const std::string& file) {
  MapTroubles troubles;
  if (loaded.program == nullptr) return troubles;
  ports::PortPlace place;
  place.folder = folder_of(file);
  place.read_file = read_file;
  for (const program::Controller& c : loaded.program->controllers) {
    for (const program::Setting& s : c.settings) {
      if (s.map.empty()) continue;
      const auto map = ports::map_of(*loaded.program, c, s, place);
      if (map) continue;
      const std::string text = fmt::format("setting `{}` of `{}`: {}", s.name, c.name, map.failure().text());
      std::error_code none;
      const bool there = std::filesystem::exists(std::filesystem::path(place.folder) / s.map, none);
      const bool usual = &s == &c.settings.front();
      if (there || usual)
        troubles.errors.push_back(fmt::format("{}: {}", loaded.sources->place(s.span), text));
      else
        troubles.warnings.push_back(fmt::format("{}: warning: {}", loaded.sources->place(s.span), text));
    }
  }
  return troubles;
}

/// Each harness makes a bench of its own, with mistakes of its own: told once, under its name.
bool harnesses_are_good(const check::Loaded& loaded, const std::string& file) {
  if (!loaded.good()) return true;  // what is wrong is said already
  bool good = true;
  for (const auto& h : loaded.harnesses) {
    check::Wish wish;
    wish.harness = h.name;
    const check::Loaded alone = load_file(file, wish);
    if (alone.good()) continue;
    say_error(fmt::format("harness `{}`:", h.name));
    print_diagnostics(alone, file);
    good = false;
  }
  return good;
}

}  // namespace

int run_check(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const bool rated = arguments.has(Option::rated);
  const check::Loaded loaded =
      load_file(file, {.rules = {}, .harness = "", .bench_needed = false, .rated = rated, .lint = true});
  const MapTroubles maps = map_troubles(loaded, file);
  const bool harnesses = harnesses_are_good(loaded, file);
  if (arguments.has(Option::json)) {
    Json j;
    j["good"] = loaded.good() && maps.errors.empty() && harnesses;
    j["diagnostics"] = Json::array();
    for (const Diagnostic& d : loaded.diagnostics.list())
      j["diagnostics"].push_back(diagnostic_json(*loaded.sources, d));
    if (!maps.errors.empty()) j["maps"] = maps.errors;
    if (!maps.warnings.empty()) j["map_warnings"] = maps.warnings;
    bool matches = true;
    if (rated && loaded.good()) {
      j["rated"] = Json::array();
      matches = rated_checks(loaded, &j["rated"]);
    }
    int status = !loaded.good() || !maps.errors.empty() || !harnesses ? kWrongInput : matches ? kHeld : kBroken;
    if (const auto parameters = arguments.value(Option::parameters); parameters && loaded.good()) {
      j["parameters"] = Json::array();
      status = std::max(status, parameter_checks(loaded, *parameters, &j["parameters"]));
    }
    say(j.dump(2, ' ', false, Json::error_handler_t::replace));
    return status;
  }
  print_diagnostics(loaded, file);
  for (const std::string& warning : maps.warnings) say_aside(warning);
  for (const std::string& trouble : maps.errors) say_error(trouble);
  if (!loaded.good() || !maps.errors.empty() || !harnesses) return kWrongInput;
  say_in_order(loaded, file);
  int status = !rated || rated_checks(loaded, nullptr) ? kHeld : kBroken;
  if (const auto parameters = arguments.value(Option::parameters))
    status = std::max(status, parameter_checks(loaded, *parameters, nullptr));
  return status;
}

}  // namespace isodyne::app
