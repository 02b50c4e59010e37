#include <charconv>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/bench/loopback_run.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/ports/make_port.h"
#include "isodyne/session/summary.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

using io::WireState;
using program::Program;

/// What was asked for: the cable list, and wires that do something else.
struct Chosen {
  std::int32_t cables = program::kNone, wiring = program::kNone;
};

std::optional<Chosen> chosen(const Arguments& arguments, const Program& p) {
  Chosen c;
  std::vector<std::string> names;
  const std::string wanted = arguments.words.size() > 1 ? arguments.words[1] : "";
  for (std::size_t i = 0; i < p.cables.size(); ++i) {
    names.push_back(p.cables[i].name);
    if (wanted.empty() ? p.cables.size() == 1 : p.cables[i].name == wanted) c.cables = static_cast<std::int32_t>(i);
  }
  for (std::size_t i = 0; i < p.wirings.size(); ++i) {
    names.push_back(p.wirings[i].name);
    if (p.wirings[i].name != wanted || wanted.empty()) continue;
    c.wiring = static_cast<std::int32_t>(i);
    c.cables = p.wirings[i].cables;
  }
  if (c.cables != program::kNone) return c;
  std::string all;
  for (const std::string& n : names) list_on(all, n);
  if (names.empty())
    say_error(fmt::format("bench {} has no cable list; declare one: `cables plug {{ sensor -> actuator }}`", p.name));
  else if (wanted.empty())
    say_error(fmt::format("which cable list? Bench {} has {}", p.name, all));
  else {
    const auto meant = did_you_mean(wanted, names);
    say_error(
        fmt::format("bench {} has no cable list or wiring `{}`; {}", p.name, wanted, meant.value_or("it has " + all)));
  }
  return std::nullopt;
}

std::string percent_of_range(double share) {
  return format_number(std::round(1e4 * share) / 100) + " %";
}

/// What is wrong, in words that tell what to look for.
std::string finding_text(const Program& p, const program::Cables& cables, const io::WireFinding& f) {
  switch (f.state) {
    case WireState::good:
      return "";
    case WireState::open:
      return "reads what it reads when nothing is connected";
    case WireState::dead:
      return fmt::format("stays at {} of its range whatever is sent", percent_of_range(f.offset));
    case WireState::crossed:
      return fmt::format("follows {} instead", p.sensors[static_cast<std::size_t>(cables.cables[f.other].sensor)].name);
    case WireState::inverted:
      return "falls when it should rise: the two wires are swapped, or the sense is reversed";
    case WireState::scaled: {
      std::string text =
          f.noise >= 0.01 ? fmt::format("reads about {:.2g} times what is sent", f.factor)
                          : fmt::format("reads {} times what is sent", format_number(std::round(1e4 * f.factor) / 1e4));
      if (std::abs(f.offset) >= 5e-4 + f.noise)
        text +=
            fmt::format(" {} {} of the range", f.offset < 0 ? "less" : "plus", percent_of_range(std::abs(f.offset)));
      if (f.noise >= 0.01) text += fmt::format(", noise of {}", percent_of_range(f.noise));
      return text;
    }
    case WireState::noisy:
      return fmt::format("noise of {} of its range (standard deviation)", percent_of_range(f.noise));
  }
  return "";
}

Json finding_json(const Program& p, const program::Cables& cables, const program::Cable& c, const io::WireFinding& f) {
  Json j{{"output", p.sensors[static_cast<std::size_t>(c.sensor)].name},
         {"input", p.actuators[static_cast<std::size_t>(c.actuator)].name},
         {"state", io::wire_word(f.state)},
         {"finding", finding_text(p, cables, f)}};
  if (f.state == WireState::crossed)
    j["follows"] = p.sensors[static_cast<std::size_t>(cables.cables[f.other].sensor)].name;
  if (f.state != WireState::crossed && f.state != WireState::open && f.state != WireState::dead) {
    j["factor"] = f.factor;
    j["offset"] = f.offset;
  }
  j["noise"] = f.noise;
  return j;
}

const program::Setting* setting_of(const program::Controller& c, const std::string& name) {
  for (const program::Setting& s : c.settings) {
    if (s.name == name) return &s;
  }
  std::string all;
  for (const program::Setting& s : c.settings) list_on(all, s.name);
  say_error(fmt::format("controller `{}` has no setting `{}`; it has {}", c.name, name, all));
  return nullptr;
}

int show(const Arguments& arguments, const Program& p, const Chosen& c, const bench::LoopbackResult& result,
         const std::string& over) {
  const program::Cables& cables = p.cables[static_cast<std::size_t>(c.cables)];
  std::size_t good = 0;
  TextTable table({{"Output"}, {"Input"}, {"Wire"}, {"Finding"}});
  Json rows = Json::array();
  for (std::size_t i = 0; i < cables.cables.size(); ++i) {
    const program::Cable& cable = cables.cables[i];
    const io::WireFinding& f = result.findings[i];
    good += f.state == WireState::good ? 1 : 0;
    table.row({p.sensors[static_cast<std::size_t>(cable.sensor)].name,
               p.actuators[static_cast<std::size_t>(cable.actuator)].name, io::wire_word(f.state),
               finding_text(p, cables, f)},
              f.state == WireState::good ? "32" : "1;31", 2);
    rows.push_back(finding_json(p, cables, cable, f));
  }
  if (arguments.has(Option::json)) {
    say(Json{{"cables", cables.name}, {"over", over}, {"good", good}, {"wires", rows}}.dump(2));
  } else {
    say(fmt::format("{}: {} over {}, {}", p.name, cables.name, over, counted(result.exchanges, "exchange")));
    put(stdout, table.text(width_of(stdout), colours_on(stdout)));
    say(fmt::format("{} of {} good.", good, counted(cables.cables.size(), "wire")));
  }
  return good == cables.cables.size() ? kHeld : kBroken;
}

}  // namespace

int run_io_loopback(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const Program& p = *loaded.program;
  const auto c = chosen(arguments, p);
  if (!c) return kWrongInput;
  std::uint64_t seed = 1;
  if (!read_seed(arguments, seed)) return kWrongInput;
  const auto index = bench::controller_of(p, c->cables);
  if (!index) {
    say_error(index.failure().text());
    return kWrongInput;
  }
  const program::Controller& controller = p.controllers[static_cast<std::size_t>(*index)];
  ports::ForeignCalls calls(std::chrono::seconds(1));
  std::unique_ptr<ports::ControllerPort> port;
  std::string over = "simulated wires";
  if (const auto setting = arguments.value(Option::setting)) {
    const program::Setting* s = setting_of(controller, *setting);
    if (s == nullptr) return kWrongInput;
    const ports::PortPlace place{.folder = folder_of(file), .logs = {}, .read_file = read_file, .calls = &calls};
    port = ports::make_port(p, controller, *s, place);
    over = fmt::format("controller {}, setting {}", controller.name, s->name);
  } else {
    const program::Wiring wiring =
        c->wiring == program::kNone ? bench::faultless(p, c->cables) : p.wirings[static_cast<std::size_t>(c->wiring)];
    if (c->wiring != program::kNone) over += " (" + wiring.name + ")";
    port = std::make_unique<bench::WiringPort>(p, controller, wiring, seed);
  }
  const auto result = bench::run_loopback(loaded.program, c->cables, controller, *port, seed);
  if (!result) {
    say_error(result.failure().text());
    return kNotCompleted;
  }
  return show(arguments, p, *c, *result, over);
}

}  // namespace isodyne::app
