#include "isodyne/check/io/settings.h"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

using SettingKind = Setting::Kind;

/// Whether a text is "host:port"; a port alone is one on this machine.
bool is_peer(const std::string& text) {
  const std::size_t colon = text.rfind(':');
  const std::string port = colon == std::string::npos ? text : text.substr(colon + 1);
  int number = 0;
  const auto read = std::from_chars(port.data(), port.data() + port.size(), number);
  return read.ec == std::errc{} && read.ptr == port.data() + port.size() && number >= 0 && number <= 65535;
}

}  // namespace

void Settings::define(const lang::ControllerDecl& c, bool known, Controller& controller) {
  for (const lang::ControllerDecl::Setting& s : c.settings) {
    const bool twice = std::any_of(controller.settings.begin(), controller.settings.end(),
                                   [&](const Setting& other) { return other.name == s.name.text; });
    if (twice) check_.error(Code::duplicate, s.name.span, fmt::format("setting `{}` is given twice", s.name.text));
    Setting setting;
    setting.name = s.name.text;
    setting.span = s.span;
    setting.text = check_.program.sources->in_one_line(s.span);
    setting.ready_within = std::chrono::seconds(10);
    if (!kind(s, setting)) continue;
    gates(s, setting, controller);
    for (const Clause& x : s.clauses) clause(x, setting);
    address(s, setting);
    complete(s, setting);
    // Where what it exchanges is wrong, what follows from that is not told once more.
    const bool followed = known || check_.model_named(s.logic.model) == nullptr;
    if (setting.kind == SettingKind::part && followed)
      setting.logic = logic_program(check_, s, controller, env_ == nullptr ? std::nullopt : std::optional(env_->value));
    if (setting.kind != SettingKind::part && !controller.array.empty())
      check_.error(Code::wrong_kind, s.kind.span,
                   fmt::format("`{}` is an array of controllers, and they are parts", controller.array),
                   fmt::format("write `setting {} = part …`, or a controller for each {}", s.name.text, s.kind.text));
    controller.settings.push_back(std::move(setting));
  }
  if (c.settings.empty()) {
    check_.error(Code::missing, c.name.span, fmt::format("controller `{}` has no setting", c.name.text),
                 "say where it is: `setting code = library \"name\"`");
  }
}

bool Settings::kind(const lang::ControllerDecl::Setting& s, Setting& setting) {
  const std::string words = s.kind.text + (s.role.text.empty() ? "" : " " + s.role.text);
  for (const PortKind& k : port_kinds()) {
    if (words != k.words) continue;
    setting.kind = k.kind;
    return true;
  }
  if (s.kind.text == "modbus") {
    check_.error(Code::unknown_name, s.role.span, fmt::format("a bench is not a `{}` of Modbus", s.role.text),
                 "write `modbus server`, where the controller asks, or `modbus client`, where the bench does");
    return false;
  }
  std::vector<std::string> names = {"part", "library", "program", "link", "modbus", "mqtt"};
  const auto meant = did_you_mean(s.kind.text, names);
  check_.error(
      Code::unknown_name, s.kind.span, fmt::format("a controller cannot be a `{}`", s.kind.text),
      meant.value_or("it can be a `part`, a `library`, a `program`, or at the end of a `link`, `modbus` or `mqtt`"));
  return false;
}

/// Registers and topics hold a value, which has no edges.
void Settings::gates(const lang::ControllerDecl::Setting& s, const Setting& setting, const Controller& controller) {
  const PortAt where = port_kind(setting.kind).at;
  if (where != PortAt::line && setting.kind != SettingKind::mqtt && setting.kind != SettingKind::modbus_client &&
      setting.kind != SettingKind::modbus_server)
    return;
  for (const ControllerWrite& w : controller.writes) {
    if (w.edges == 0) continue;
    check_.error(
        Code::wrong_kind, s.span,
        fmt::format("`{}` is a gate, whose edges do not go over {}", check_.program.variable(w.value).name,
                    s.kind.text),
        "declare the actuator as a `bool`, or be a `part`, a `library`, a `program` or at the end of a `link`");
    return;
  }
}

void Settings::clause(const Clause& c, Setting& setting) {
  const std::string& word = c.word.text;
  const PortKind& k = port_kind(setting.kind);
  if (std::string(k.clauses).find(" " + word + " ") == std::string::npos) {
    check_.error(Code::wrong_kind, c.word.span, fmt::format("`{}` means nothing for `{}`", word, k.words),
                 std::string(k.clauses) == " " ? "leave it out" : fmt::format("it takes{}", std::string(k.clauses)));
  } else if (word == "map") {
    setting.map = c.text;
  } else if (word == "topic") {
    setting.topic = c.text;
  } else if (word == "as") {
    setting.grouped = c.choice.text == "groups";
    if (!setting.grouped && c.choice.text != "signals")
      check_.error(Code::unknown_name, c.choice.span, fmt::format("topics do not come as `{}`", c.choice.text),
                   "write `as signals`, a topic each, or `as groups`, one JSON object for each direction");
  } else if (word == "over") {
    setting.over_socket = c.choice.text == "socket";
    if (!setting.over_socket && c.choice.text != "memory")
      check_.error(Code::unknown_name, c.choice.span,
                   fmt::format("a program cannot be reached over `{}`", c.choice.text),
                   "write `over memory` or `over socket`");
  } else if (word == "parity") {
    setting.parity = c.choice.text == "none"  ? Setting::Parity::none
                     : c.choice.text == "odd" ? Setting::Parity::odd
                                              : Setting::Parity::even;
    if (setting.parity == Setting::Parity::even && c.choice.text != "even")
      check_.error(Code::unknown_name, c.choice.span, fmt::format("there is no parity `{}`", c.choice.text),
                   "write `parity even`, `odd` or `none`");
  } else if (word == "unit") {
    number(c, "the address of the server", 1, 247, setting.unit);
  } else if (word == "rate") {
    number(c, "the rate of the line", 300, 4'000'000, setting.rate);
  } else if (word == "restart") {
    number(c, "how many times it may start again", 0, 1000, setting.restarts);
  } else if (const auto time = x_.check_span(*c.value, {&check_.root, nullptr, env_}, "the time for the start-up")) {
    setting.ready_within = *time;
  }
}

void Settings::number(const Clause& clause, const char* what, double lowest, double highest, int& to) {
  const auto value = check_.whole_number(*clause.value, &check_.root, env_, what);
  if (!value) return;
  if (*value < lowest || *value > highest) {
    check_.error(Code::out_of_limits, clause.value->span,
                 fmt::format("{} is {} to {}, not {}", what, lowest, highest, *value));
    return;
  }
  to = static_cast<int>(*value);
}

void Settings::address(const lang::ControllerDecl::Setting& s, Setting& setting) {
  setting.address = s.address;
  const PortAt at = port_kind(setting.kind).at;
  const bool network = at == PortAt::peer || at == PortAt::line;
  const bool serial = at == PortAt::line && s.address.starts_with("/");
  if (at == PortAt::model || serial || (network && is_peer(s.address))) return;
  if (network)
    check_.error(Code::wrong_kind, s.address_span, fmt::format("`{}` is not an address", s.address),
                 "write \"host:port\", such as \"127.0.0.1:1502\", or the file of a serial line");
  else if (s.address.find_first_not_of(' ') == std::string::npos)
    check_.error(Code::missing, s.address_span, fmt::format("this names no {}", s.kind.text));
}

void Settings::complete(const lang::ControllerDecl::Setting& s, const Setting& setting) {
  const bool modbus = setting.kind == SettingKind::modbus_server || setting.kind == SettingKind::modbus_client;
  if (modbus && setting.map.empty())
    check_.error(Code::missing, s.span,
                 fmt::format("setting `{}` does not say which channel has which register", setting.name),
                 "add `map \"registers.csv\"`; `isodyne io registers BENCH` writes one to begin with");
  if (setting.kind == SettingKind::mqtt && setting.topic.empty())
    check_.error(Code::missing, s.span, fmt::format("setting `{}` has no topic", setting.name),
                 "add what all names begin with: `topic \"lock/plc\"`");
}

}  // namespace isodyne::check
