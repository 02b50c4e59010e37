// Controllers: what they read and write, and where they are.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/io/channels.h"
#include "isodyne/check/io/settings.h"

namespace isodyne::check {

namespace {
bool is_part(const lang::ControllerDecl& c) {
  return std::any_of(c.settings.begin(), c.settings.end(), [](const auto& s) { return s.kind.text == "part"; });
}
}  // namespace

void ChannelCheck::declare_controllers(const lang::ControllerDecl& c) {
  constexpr int kMostInArray = 1000;
  if (check_.root.parts.contains(c.name.text) || check_.root.variables.contains(c.name.text) ||
      check_.root.vectors.contains(c.name.text) || check_.root.arrays.contains(c.name.text)) {
    check_.error(Code::duplicate, c.name.span, fmt::format("`{}` is defined twice", c.name.text), "rename one of them");
    return;
  }
  if (!c.count) return declare_controller({&c, c.name.text, nullptr});
  const auto count = check_.whole_number(*c.count, &check_.root, nullptr, "the number of controllers");
  if (!count) return;
  if (*count < 1 || *count > kMostInArray) {
    check_.error(Code::out_of_limits, c.count->span,
                 fmt::format("an array has 1 to {} controllers, not {:.0f}", kMostInArray, *count));
    return;
  }
  check_.root.arrays[c.name.text] = static_cast<int>(*count);
  for (int i = 1; i <= static_cast<int>(*count); ++i) {
    const Env& env = check_.environments.emplace_back(Env{nullptr, "index", static_cast<double>(i)});
    declare_controller({&c, fmt::format("{}[{}]", c.name.text, i), &env});
  }
}

void ChannelCheck::declare_controller(const One& one) {
  const lang::ControllerDecl& c = *one.decl;
  Instance& inside = pseudo_part({one.name, c.name.span});
  const auto number = static_cast<std::int32_t>(controllers_.size());
  for (const lang::ControllerDecl::Write& w : c.writes) {
    if (!w.type) continue;
    Variable value;
    value.role = Role::controller_output;
    value.type = check_.type_of(*w.type, value.unit);
    const int size = std::max(1, value.type.size);
    const VarId id = check_.define(inside, w.name, value);
    for (int i = 0; i < size; ++i) own_value_of_.try_emplace(id + i, number);
  }
  Controller controller;
  controller.name = one.name;
  if (c.count) controller.array = c.name.text;
  controller.span = c.name.span;
  check_.program.controllers.push_back(controller);
  controllers_.push_back(one);
}

void ChannelCheck::define_controller(const One& one, Controller& controller) {
  const lang::ControllerDecl& c = *one.decl;
  if (!c.every) {
    check_.error(Code::missing, c.name.span, fmt::format("controller `{}` has no period", c.name.text),
                 "add `every 20 ms`");
  } else if (const auto period = x_.check_span(*c.every, scope(one.env), "the period of the controller")) {
    controller.period = *period;
  }
  if (c.lost) {
    controller.when_lost = c.lost->text == "safe"   ? WhenLost::safe
                           : c.lost->text == "hold" ? WhenLost::hold
                                                    : WhenLost::stop;
    if (controller.when_lost == WhenLost::stop && c.lost->text != "stop")
      check_.error(Code::unknown_name, c.lost->span, fmt::format("a lost controller cannot be `{}`", c.lost->text),
                   "write `lost stop`, `lost hold` or `lost safe`");
  }
  const std::size_t errors = check_.diagnostics.errors();
  define_reads(one, controller);
  define_writes(one, controller);
  const bool known = check_.diagnostics.errors() == errors;
  for (const lang::Path& path : c.shares) {
    const VarId id = check_.resolve_one(check_.root, path, one.env);
    if (id == kNone || !check_.program.variable(id).type.valid()) continue;
    const Role role = check_.program.variable(id).role;
    const auto value = check_.first_value(id);
    const bool again = std::any_of(controller.shares.begin(), controller.shares.end(),
                                   [&](const SharedParameter& s) { return s.id == id; });
    if (again)
      check_.error(Code::duplicate, path.span, fmt::format("`{}` is shared twice", path.text()));
    else if ((role != Role::param && role != Role::fixed_param) || !value)
      check_.error(Code::wrong_kind, path.span, fmt::format("`{}` is not a parameter", path.text()),
                   "only what stays as it is can be shared with the controller's code");
    else
      controller.shares.push_back({id, *value});
  }
  controller.tags = c.tags;
  for (const auto& [column, title] : c.tag_columns) {
    TagColumns& t = controller.tag_columns;
    std::string* const to = column.text == "name"      ? &t.name
                            : column.text == "address" ? &t.address
                            : column.text == "type"    ? &t.type
                            : column.text == "unit"    ? &t.unit
                            : column.text == "comment" ? &t.comment
                                                       : nullptr;
    if (to == nullptr)
      check_.error(Code::unknown_name, column.span, fmt::format("a tag has no `{}`", column.text),
                   "columns are `name`, `address`, `type`, `unit` and `comment`");
    else
      *to = title;
  }
  Settings(check_, x_, one.env).define(c, known, controller);
}

void ChannelCheck::define_reads(const One& one, Controller& controller) {
  for (const lang::ControllerDecl::Read& read : one.decl->reads) {
    const lang::Path& path = read.path;
    if (read.over) {
      read_message(read, controller);
      continue;
    }
    bool meant = false;
    if (const auto frame = frame_named(path, true, meant)) read_frame(*frame, controller);
    if (meant) continue;
    const Target target = check_.resolve(check_.root, path, one.env);
    const std::size_t first = controller.reads.size();
    bool all = target.found();
    for (const VarId id : target.ids) all = all && read_value(path, id, controller);
    if (all && !target.vector) name_element(path, target.ids.front(), is_part(*one.decl), controller);
    if (all && target.vector)
      controller.read_vectors.push_back({flat_name(path.parts.back().text), first, target.ids.size()});
  }
}

bool ChannelCheck::read_value(const lang::Path& path, VarId id, Controller& controller) {
  const Variable& v = check_.program.variable(id);
  if (!v.type.valid()) return false;
  if (v.role != Role::sensor && v.role != Role::input && !v.given) {
    check_.error(Code::wrong_kind, path.span,
                 fmt::format("`{}` is neither a sensor, an input of the bench nor a frame", path.text()),
                 "a controller knows the plant only through its sensors: add a `sensor`");
    return false;
  }
  if (std::find(controller.reads.begin(), controller.reads.end(), id) != controller.reads.end()) {
    check_.error(Code::duplicate, path.span, fmt::format("`{}` is read twice", path.text()));
    return false;
  }
  controller.reads.push_back(id);
  controller.knows.push_back(id);
  return true;
}

void ChannelCheck::name_element(const lang::Path& path, VarId id, bool part, Controller& controller) {
  if (!path.parts.back().index) return;
  const std::string& name = path.parts.back().text;
  const auto same = [&](VarId other) {
    return other != id && own_name(controller, other, check_.program.variable(other).name) == name;
  };
  const bool taken = std::any_of(controller.reads.begin(), controller.reads.end(), same) ||
                     std::any_of(controller.writes.begin(), controller.writes.end(),
                                 [&](const ControllerWrite& w) { return same(w.value); });
  if (!taken) {
    controller.known_as.emplace_back(id, name);
  } else if (part) {
    check_.error(Code::duplicate, path.span, fmt::format("the part of this controller knows another `{}`", name),
                 fmt::format("let it exchange `{}` as a whole, or one element of it", name));
  }
}

std::optional<std::int32_t> ChannelCheck::frame_named(const lang::Path& path, bool to_controller, bool& meant) {
  if (!path.plain()) return std::nullopt;
  const auto& frames = check_.program.frames;
  const auto found =
      std::find_if(frames.begin(), frames.end(), [&](const Frame& f) { return f.name == path.parts[0].text; });
  if (found == frames.end()) return std::nullopt;
  meant = true;
  const auto index = static_cast<std::int32_t>(found - frames.begin());
  if (found->to_controller != to_controller) {
    check_.error(Code::wrong_kind, path.span,
                 found->to_controller
                     ? fmt::format("frame `{}` goes to the controller: its fields are sensors and inputs", found->name)
                     : fmt::format("frame `{}` comes from the controller: its fields are actuators", found->name),
                 found->to_controller ? "put it behind `reads`" : "put it behind `writes`");
    return std::nullopt;
  }
  const auto [first, fresh] = frames_used_.try_emplace(index, path.span);
  if (fresh) return index;
  check_.error(Code::duplicate, path.span, fmt::format("frame `{}` is exchanged twice", found->name))
      .notes.push_back({first->second, "the first is here"});
  return std::nullopt;
}

void ChannelCheck::read_frame(std::int32_t index, Controller& controller) {
  const Frame& frame = check_.program.frames[static_cast<std::size_t>(index)];
  controller.read_frames.push_back({index, controller.reads.size()});
  for (const FrameField& f : frame.fields) {
    controller.reads.push_back(f.raw);
    if (f.of == kNone) continue;
    const auto sensor = std::find_if(check_.program.sensors.begin(), check_.program.sensors.end(),
                                     [&](const Sensor& s) { return s.counts == f.of; });
    controller.knows.push_back(sensor != check_.program.sensors.end() ? sensor->value : f.of);
  }
}

std::int32_t ChannelCheck::actuator_of(VarId value) const {
  const auto& all = check_.program.actuators;
  const auto found = std::find_if(all.begin(), all.end(), [&](const Actuator& a) { return a.value == value; });
  return found == all.end() ? kNone : static_cast<std::int32_t>(found - all.begin());
}

bool ChannelCheck::first_to_write(VarId value, Span span) {
  const auto [first, fresh] = check_.defined.try_emplace(value, span);
  if (!fresh)
    check_.error(Code::driven_twice, span, fmt::format("`{}` is written twice", check_.program.variable(value).name))
        .notes.push_back({first->second, "the first is here"});
  return fresh;
}

void ChannelCheck::write_frame(std::int32_t index, Controller& controller) {
  // A copy: hidden variables are added meanwhile.
  const std::vector<FrameField> fields = check_.program.frames[static_cast<std::size_t>(index)].fields;
  controller.write_frames.push_back({index, controller.writes.size()});
  for (const FrameField& f : fields) {
    ControllerWrite write;
    write.value = f.raw;
    write.actuator = f.actuator;
    write.in_frame = true;
    if (f.actuator != kNone) first_to_write(f.of, f.span);
    const Variable& v = check_.program.variable(f.raw);
    write.pending = check_.define_hidden(v.name + " answered", v.type, v.unit);
    controller.writes.push_back(write);
    controller.drives.push_back(f.of != kNone ? f.of : f.raw);
  }
}

/// What a name in `writes` stands for: a value of the controller's own, or an actuator; elements of a vector in order.
Target ChannelCheck::target_of(const lang::ControllerDecl::Write& w, const Env* env, Instance& inside) {
  if (w.type) {
    const auto one = inside.variables.find(w.name.text);
    const auto vector = inside.vectors.find(w.name.text);
    Target target;
    if (one != inside.variables.end()) target.ids.push_back(one->second);
    if (vector != inside.vectors.end()) {
      target.vector = true;
      for (int i = 0; i < vector->second.size; ++i) target.ids.push_back(vector->second.first + i);
    }
    if (!target.found() || check_.program.variable(target.ids.front()).span.begin != w.name.span.begin) return {};
    return target;
  }
  const Target target = check_.resolve(check_.root, w.path(), env);
  if (!target.found()) return {};
  if (actuator_of(target.ids.front()) == kNone) {
    check_.error(Code::wrong_kind, w.name.span, fmt::format("`{}` is neither an actuator nor a frame", w.name.text),
                 "declare an `actuator`, or give the name a unit to make it a value of the controller: `alarm : bool`");
    return {};
  }
  // `plc.fill_paddle` is the same quantity
  if (target.vector) {
    inside.vectors.try_emplace(w.name.text, Elements{target.ids.front(), static_cast<int>(target.ids.size())});
    for (std::size_t i = 0; i < target.ids.size(); ++i)
      inside.variables.try_emplace(fmt::format("{}[{}]", w.name.text, i + 1), target.ids[i]);
  } else {
    inside.variables.try_emplace(w.name.text, target.ids.front());
  }
  return target;
}

void ChannelCheck::define_writes(const One& one, Controller& controller) {
  const lang::ControllerDecl& c = *one.decl;
  Instance& inside = *check_.root.parts.at(one.name);
  for (const auto& w : c.writes) {
    bool meant = false;
    if (!w.type && !w.index) {
      if (const auto frame = frame_named(lang::Path(w.name), false, meant)) write_frame(*frame, controller);
    }
    if (meant) continue;
    const Target target = target_of(w, one.env, inside);
    const std::size_t first = controller.writes.size();
    for (const VarId id : target.ids) {
      if (!check_.program.variable(id).type.valid() || !first_to_write(id, w.name.span)) break;
      ControllerWrite write;
      write.value = id;
      if (!w.type) write.actuator = actuator_of(id);
      const Variable& v = check_.program.variable(id);
      write.pending = check_.define_hidden(v.name + " answered", v.type, v.unit);
      controller.writes.push_back(write);
      controller.drives.push_back(id);
    }
    if (w.index && target.ids.size() == 1) name_element(w.path(), target.ids.front(), is_part(c), controller);
    if (target.vector && controller.writes.size() == first + target.ids.size())
      controller.write_vectors.push_back({w.name.text, first, target.ids.size()});
  }
  std::size_t edges = controller.writes.size();
  for (ControllerWrite& w : controller.writes) {
    if (w.actuator == kNone || !at(check_.program.actuators, w.actuator).gate) continue;
    w.edges = edges;
    edges += kEdgeNumbers;
  }
  constexpr Time kMostPeriod = std::chrono::seconds(2);  // instants of edges are 32 bits wide
  if (edges > controller.writes.size() && controller.period > kMostPeriod)
    check_.error(Code::bad_period, c.every->span,
                 fmt::format("a controller that writes gates has a period of {} at most", format_span(kMostPeriod)),
                 "let it write a `bool`, which changes once a period");
}

}  // namespace isodyne::check
