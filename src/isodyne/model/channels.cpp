#include "isodyne/model/channels.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::model {

namespace {
const Type kInteger{Type::Kind::integer, {}, kNone};
}

/// Channels and controllers can be looked into like parts: `level_tx.counts`, `plc.alarm`.
Instance& Channels::pseudo_part(const lang::Name& name) {
  auto& slot = check_.root.parts[name.text];
  if (slot == nullptr) {
    slot = std::make_unique<Instance>();
    slot->prefix = name.text + ".";
    slot->parent = &check_.root;
  }
  return *slot;
}

void Channels::declare() {
  for (const lang::SensorDecl& s : bench_.sensors) declare_sensor(s);
  for (const lang::ActuatorDecl& a : bench_.actuators) declare_actuator(a);
  for (const lang::ControllerDecl& c : bench_.controllers) declare_controller(c);
}

void Channels::declare_sensor(const lang::SensorDecl& s) {
  const std::size_t before = check_.program.variables.size();
  Variable value;
  value.role = Role::sensor;
  value.doc = s.doc;
  Sensor sensor;
  sensor.name = s.name.text;
  sensor.span = s.name.span;
  sensor.value = check_.define(check_.root, s.name, value);
  if (check_.program.variables.size() == before) return;  // a duplicate
  Instance& inside = pseudo_part(s.name);
  Variable truth;
  truth.role = Role::sensor_true;
  truth.doc = s.doc.empty() ? "" : s.doc + " (the quantity itself)";
  sensor.truth = check_.define(inside, {"true", s.name.span}, truth);
  if (s.counts) {
    Variable counts;
    counts.role = Role::counts;
    counts.type = kInteger;
    counts.doc = s.doc.empty() ? "" : s.doc + " (raw word)";
    sensor.counts = check_.define(inside, {"counts", s.name.span}, counts);
  }
  const std::size_t index = check_.program.sensors.size();
  check_.program.sensors.push_back(sensor);
  const auto work = [this, &s, index, done = std::make_shared<bool>(false)] {
    if (!*done) {
      *done = true;
      define_sensor(s, check_.program.sensors[index]);
    }
  };
  check_.pending[sensor.value] = work;
  check_.pending[sensor.truth] = work;
}

void Channels::declare_actuator(const lang::ActuatorDecl& a) {
  Variable value;
  value.role = Role::actuator;
  value.doc = a.doc;
  value.type = check_.type_of(a.type, value.unit);
  const std::size_t before = check_.program.variables.size();
  Actuator actuator;
  actuator.name = a.name.text;
  actuator.span = a.name.span;
  actuator.value = check_.define(check_.root, a.name, value);
  if (check_.program.variables.size() > before) check_.program.actuators.push_back(actuator);
}

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

void Channels::define() {
  check_.demand_all();
  std::size_t next = 0;
  for (const lang::ActuatorDecl& a : bench_.actuators) {
    const bool kept =
        next < check_.program.actuators.size() && check_.program.actuators[next].span.begin == a.name.span.begin;
    if (kept) define_actuator(a, check_.program.actuators[next++]);
  }
  next = 0;
  for (const lang::ControllerDecl& c : bench_.controllers) {
    const bool kept =
        next < check_.program.controllers.size() && check_.program.controllers[next].span.begin == c.name.span.begin;
    if (kept) define_controller(c, check_.program.controllers[next++]);
  }
}

std::optional<std::pair<double, double>> Channels::interval(const lang::Interval& i, const Type& type,
                                                            const char* what) {
  const auto low = check_.constant(x_.check_as(*i.low, scope(), type, what), i.low->span, what);
  const auto high = check_.constant(x_.check_as(*i.high, scope(), type, what), i.high->span, what);
  if (!low || !high) return std::nullopt;
  if (*low >= *high) {
    check_.error(Code::out_of_limits, join(i.low->span, i.high->span),
                 fmt::format("{} must go from a smaller to a larger value", what));
    return std::nullopt;
  }
  return std::pair{*low, *high};
}

void Channels::define_sensor(const lang::SensorDecl& s, Sensor& sensor) {
  if (!s.of) {
    check_.error(Code::missing, s.name.span, fmt::format("sensor `{}` does not say what it measures", s.name.text),
                 "add `of part.quantity`");
    return;
  }
  const Typed of = x_.check(*s.of, scope());
  if (!s.every) {
    check_.error(Code::missing, s.name.span, fmt::format("sensor `{}` has no sampling period", s.name.text),
                 "add `every 20 ms`");
  } else if (const auto period = x_.check_span(*s.every, scope(), "the sampling period")) {
    sensor.period = *period;
  }
  if (!of.valid()) return;
  for (const VarId id : {sensor.truth, sensor.value}) {
    check_.program.variables[static_cast<std::size_t>(id)].type = of.type;
    check_.program.variables[static_cast<std::size_t>(id)].unit = of.shown;
  }
  check_.program.equations.push_back({sensor.truth, of.node, s.of->span});
  if (of.type.size > 0) {
    check_.error(
        Code::type_mismatch, s.of->span,
        fmt::format("sensor `{}` measures {}; a sensor has one value", s.name.text, describe(check_.program, of.type)),
        "name one element: `x[1]`");
    return;
  }
  if (of.type.kind != Type::Kind::real) {
    for (const lang::Expr* clause : {s.range ? s.range->low.get() : nullptr, s.counts ? s.counts->low.get() : nullptr,
                                     s.filter.get(), s.noise.get()}) {
      if (clause == nullptr) continue;
      check_.error(Code::type_mismatch, clause->span,
                   fmt::format("sensor `{}` measures {}; ranges, counts, filters and noise are for real quantities",
                               s.name.text, describe(check_.program, of.type)));
    }
    return;
  }
  sensor_range(s, sensor, of.type);
  if (s.filter) sensor.filter = x_.check_span(*s.filter, scope(), "the time constant of the filter").value_or(Time{});
  if (s.noise) {
    Type difference = of.type;
    difference.absolute = false;
    const auto noise =
        check_.constant(x_.check_as(*s.noise, scope(), difference, "the noise"), s.noise->span, "the noise");
    sensor.noise = noise.value_or(0);
    sensor.noise_text = one_line(check_.program.sources->covered(s.noise->span));
    if (sensor.noise < 0)
      check_.error(Code::out_of_limits, s.noise->span, "noise is a standard deviation and cannot be negative");
  }
}

void Channels::sensor_range(const lang::SensorDecl& s, Sensor& sensor, const Type& type) {
  if (s.range) sensor.range = interval(*s.range, type, "the range");
  if (s.electrical) {
    const Typed low = x_.check(*s.electrical->low, scope());
    const Typed high = x_.check(*s.electrical->high, scope());
    if (low.valid() && high.valid() && low.type != high.type) {
      check_.error(Code::unit_mismatch, s.electrical->high->span,
                   "both ends of the electrical range need the same unit");
    }
    const std::string& text = check_.program.sources->text(s.electrical->low->span.source);
    sensor.electrical =
        text.substr(s.electrical->low->span.begin, s.electrical->high->span.end - s.electrical->low->span.begin);
  }
  if (!s.counts) return;
  if (!s.range) {
    check_.error(Code::missing, s.counts->low->span, fmt::format("sensor `{}` has counts but no range", s.name.text),
                 "add `range 0 m .. 10 m`: the values that the first and last count stand for");
    return;
  }
  const auto counts = interval(*s.counts, kInteger, "the counts");
  if (counts && sensor.range)
    sensor.to_counts = Linear{sensor.range->first, sensor.range->second, counts->first, counts->second};
}

void Channels::define_actuator(const lang::ActuatorDecl& a, Actuator& actuator) {
  const Type type = check_.program.variable(actuator.value).type;
  if (!type.valid()) return;
  if (a.counts && a.as) {
    if (type.kind != Type::Kind::real) {
      check_.error(Code::type_mismatch, a.counts->low->span,
                   fmt::format("actuator `{}` is {}; only real values have counts", a.name.text,
                               describe(check_.program, type)));
      return;
    }
    const auto counts = interval(*a.counts, kInteger, "the counts");
    const auto values = interval(*a.as, type, "the values");
    if (counts && values) actuator.to_counts = Linear{values->first, values->second, counts->first, counts->second};
  }
  if (a.start) {
    const NodeId node = x_.check_as(*a.start, scope(), type, "the start value");
    actuator.start = check_.constant(node, a.start->span, "the start value").value_or(0);
  }
}

void Channels::define_controller(const lang::ControllerDecl& c, Controller& controller) {
  if (!c.every) {
    check_.error(Code::missing, c.name.span, fmt::format("controller `{}` has no period", c.name.text),
                 "add `every 20 ms`");
  } else if (const auto period = x_.check_span(*c.every, scope(), "the period of the controller")) {
    controller.period = *period;
  }
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
