// Controllers: what they read and write, and where they are.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/model/channels.h"

namespace isodyne::model {

void Channels::declare_controller(const lang::ControllerDecl& c) {
  if (check_.root.parts.contains(c.name.text) || check_.root.variables.contains(c.name.text)) {
    check_.error(Code::duplicate, c.name.span, fmt::format("`{}` is defined twice", c.name.text), "rename one of them");
    return;
  }
  Instance& inside = pseudo_part(c.name);
  for (const lang::ControllerDecl::Write& w : c.writes) {
    if (!w.type) continue;
    Variable value;
    value.role = Role::controller_output;
    value.type = check_.type_of(*w.type, value.unit);
    check_.define(inside, w.name, value);
  }
  Controller controller;
  controller.name = c.name.text;
  controller.span = c.name.span;
  check_.program.controllers.push_back(controller);
}

void Channels::define_controller(const lang::ControllerDecl& c, Controller& controller) {
  if (!c.every) {
    check_.error(Code::missing, c.name.span, fmt::format("controller `{}` has no period", c.name.text),
                 "add `every 20 ms`");
  } else if (const auto period = x_.check_span(*c.every, scope(), "the period of the controller")) {
    controller.period = *period;
  }
  controller.safe_when_lost = c.safe_when_lost;
  define_reads(c, controller);
  define_writes(c, controller);
  for (const auto& s : c.settings) {
    const bool known = std::any_of(controller.settings.begin(), controller.settings.end(),
                                   [&](const Setting& other) { return other.name == s.name.text; });
    if (known) check_.error(Code::duplicate, s.name.span, fmt::format("setting `{}` is given twice", s.name.text));
    controller.settings.push_back({s.name.text, s.library, s.span});
  }
  if (controller.settings.empty()) {
    check_.error(Code::missing, c.name.span, fmt::format("controller `{}` has no setting", c.name.text),
                 "say where it is: `setting code = library \"name\"`");
  }
}

void Channels::define_reads(const lang::ControllerDecl& c, Controller& controller) {
  for (const lang::Path& path : c.reads) {
    const VarId id = check_.resolve_one(check_.root, path);
    if (id == kNone || !check_.program.variable(id).type.valid()) continue;
    const Role role = check_.program.variable(id).role;
    if (role != Role::sensor && role != Role::input) {
      check_.error(Code::wrong_kind, path.span,
                   fmt::format("`{}` is neither a sensor nor an input of the bench", path.text()),
                   "a controller knows the plant only through its sensors: add a `sensor`");
    } else if (std::find(controller.reads.begin(), controller.reads.end(), id) != controller.reads.end()) {
      check_.error(Code::duplicate, path.span, fmt::format("`{}` is read twice", path.text()));
    } else {
      controller.reads.push_back(id);
    }
  }
}

void Channels::define_writes(const lang::ControllerDecl& c, Controller& controller) {
  Instance& inside = *check_.root.parts.at(c.name.text);
  for (const auto& w : c.writes) {
    ControllerWrite write;
    if (w.type) {
      const auto found = inside.variables.find(w.name.text);
      if (found == inside.variables.end() || check_.program.variable(found->second).span.begin != w.name.span.begin)
        continue;
      write.value = found->second;
      if (!check_.program.variable(write.value).type.valid()) continue;
    } else {
      write.value = check_.resolve_one(check_.root, lang::Path(w.name));
      if (write.value == kNone) continue;
      const auto actuator = std::find_if(check_.program.actuators.begin(), check_.program.actuators.end(),
                                         [&](const Actuator& a) { return a.value == write.value; });
      if (actuator == check_.program.actuators.end()) {
        check_.error(
            Code::wrong_kind, w.name.span, fmt::format("`{}` is not an actuator", w.name.text),
            "declare an `actuator`, or give the name a unit to make it a value of the controller: `alarm : bool`");
        continue;
      }
      write.actuator = static_cast<std::int32_t>(actuator - check_.program.actuators.begin());
      inside.variables.try_emplace(w.name.text, write.value);  // `plc.fill_paddle` is the same quantity
    }
    const auto [first, fresh] = check_.defined.try_emplace(write.value, w.name.span);
    if (!fresh) {
      check_.error(Code::driven_twice, w.name.span, fmt::format("`{}` is written twice", w.name.text))
          .notes.push_back({first->second, "the first is here"});
      continue;
    }
    const Variable& v = check_.program.variable(write.value);
    write.pending = check_.define_hidden(v.name + " answered", v.type, v.unit);
    controller.writes.push_back(write);
  }
}

}  // namespace isodyne::model
