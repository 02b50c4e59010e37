#include "isodyne/check/io/racks.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

constexpr int kMostChannels = 1024, kMostSlots = 9999;

lang::Interval copy(const lang::Interval& i) {
  return {lang::clone(*i.low), lang::clone(*i.high)};
}

template <typename Decl>
Decl* decl_named(std::vector<Decl>& list, const std::string& name) {
  const auto found = std::find_if(list.begin(), list.end(), [&](const Decl& d) { return d.name.text == name; });
  return found == list.end() ? nullptr : &*found;
}

}  // namespace

std::string Racks::text(const lang::Interval& i) const {
  return check_.program.sources->in_one_line(join(i.low->span, i.high->span));
}

/// Numbers of slots and channels are written down, not computed: nothing has a value yet.
std::optional<int> Racks::number(const lang::Expr& e, int most, const char* what) {
  const bool plain = e.kind == lang::ExprKind::number && e.word.empty();
  if (plain && e.value >= 1 && e.value <= most && e.value == std::floor(e.value)) return static_cast<int>(e.value);
  check_.error(Code::out_of_limits, e.span, fmt::format("{} is a whole number from 1 to {}", what, most));
  return std::nullopt;
}

void Racks::place() {
  for (const lang::ModuleDecl& m : check_.document.modules) {
    const auto [first, fresh] = modules_.try_emplace(m.name.text, &m);
    if (fresh) continue;
    check_
        .error(Code::duplicate, m.name.span, fmt::format("module `{}` is defined twice", m.name.text),
               "rename one of them")
        .notes.push_back({first->second->name.span, "the first is here"});
  }
  for (const lang::RackDecl& r : bench_.racks) {
    Rack rack;
    rack.name = r.name.text;
    rack.doc = r.doc;
    rack.span = r.name.span;
    for (const Rack& other : check_.program.racks) {
      if (other.name != rack.name) continue;
      check_
          .error(Code::duplicate, r.name.span, fmt::format("rack `{}` is defined twice", rack.name),
                 "rename one of them")
          .notes.push_back({other.span, "the first is here"});
    }
    for (const lang::RackDecl::Slot& s : r.slots) slot(r, s, rack);
    check_.program.racks.push_back(std::move(rack));
  }
}

std::vector<const lang::ModuleDecl::Channels*> Racks::channels_of(const lang::ModuleDecl& m, RackSlot& slot) {
  std::vector<const lang::ModuleDecl::Channels*> forms;
  for (const auto& c : m.channels) {
    const auto count = number(*c.count, kMostChannels, "the number of channels");
    const Span rest{c.span.source, c.count->span.end, c.span.end};
    const std::string form = c.lines && !c.gates ? "bool" : check_.program.sources->in_one_line(rest);
    for (int i = 0; i < count.value_or(0) && static_cast<int>(forms.size()) < kMostChannels; ++i) {
      forms.push_back(&c);
      RackChannel channel;
      channel.number = static_cast<int>(forms.size());
      channel.input = c.inputs;
      channel.line = c.lines;
      channel.gate = c.gates;
      channel.form = form;
      slot.channels.push_back(std::move(channel));
    }
  }
  return forms;
}

void Racks::slot(const lang::RackDecl& r, const lang::RackDecl::Slot& s, Rack& rack) {
  RackSlot made;
  made.module = s.module.text;
  made.doc = s.doc;
  made.span = s.span;
  made.inside = s.inside;
  const auto number_of_slot = number(*s.number, kMostSlots, "the number of a slot");
  if (!number_of_slot) return;
  made.number = *number_of_slot;
  for (const RackSlot& other : rack.slots) {
    if (other.number != made.number) continue;
    check_.error(Code::duplicate, s.number->span, fmt::format("slot {} has a module already", made.number))
        .notes.push_back({other.span, "the first is here"});
    return;
  }
  const auto module = modules_.find(s.module.text);
  if (module == modules_.end()) {
    std::vector<std::string> known;
    for (const auto& [name, decl] : modules_) known.push_back(name);
    const auto meant = did_you_mean(s.module.text, known);
    check_.error(
        Code::unknown_name, s.module.span, fmt::format("there is no kind of module called `{}`", s.module.text),
        meant.value_or("`use library \"modules.dyne\"` brings the usual ones; `module` declares one of your own"));
    return;
  }
  const auto forms = channels_of(*module->second, made);
  for (const lang::RackDecl::Channel& c : s.channels) channel(r, c, made, forms);
  rack.slots.push_back(std::move(made));
}

void Racks::channel(const lang::RackDecl& r, const lang::RackDecl::Channel& c, RackSlot& slot,
                    const std::vector<const lang::ModuleDecl::Channels*>& forms) {
  const auto n = number(*c.number, kMostChannels, "the number of a channel");
  if (!n) return;
  if (static_cast<std::size_t>(*n) > forms.size()) {
    check_.error(Code::out_of_limits, c.number->span,
                 fmt::format("module {} has {}", slot.module, counted(forms.size(), "channel")));
    return;
  }
  RackChannel& made = slot.channels[static_cast<std::size_t>(*n) - 1];
  const std::string where = fmt::format("{}.{}.{}", r.name.text, slot.number, *n);
  if (!made.name.empty()) {
    check_.error(Code::duplicate, c.number->span, fmt::format("channel {} has `{}` already", *n, made.name))
        .notes.push_back({made.span, "the first is here"});
    return;
  }
  const auto [use, fresh] = used_.try_emplace(c.name.text, Use{c.name.span, where});
  if (!fresh) {
    check_
        .error(Code::duplicate, c.name.span,
               fmt::format("`{}` has a place already, channel {}", c.name.text, use->second.where))
        .notes.push_back({use->second.span, "the first is here"});
    return;
  }
  made.name = c.name.text;
  made.on = !c.off;
  made.span = c.span;
  for (const lang::Name& g : c.groups) made.groups.push_back(g.text);
  const lang::ModuleDecl::Channels& form = *forms[static_cast<std::size_t>(*n) - 1];
  const std::string base = c.name.text.substr(0, c.name.text.find('['));
  lang::SensorDecl* sensor = decl_named(bench_.sensors, base);
  lang::ActuatorDecl* actuator = decl_named(bench_.actuators, base);
  if (c.value) {
    made.value = check_.program.sources->in_one_line(c.value->span);
    if (c.range) made.range = text(*c.range);
    if (sensor == nullptr && actuator == nullptr) {
      if (!made.input)
        check_.error(Code::wrong_kind, c.value->span,
                     fmt::format("channel {} of this module is an output: the controller gives its value", *n));
      else
        make(r, c, form);
      return;
    }
    check_.error(Code::duplicate, c.name.span, fmt::format("`{}` is declared already, so it has a value", c.name.text),
                 "take the `= …` away, or choose another name");
    return;
  }
  if (sensor == nullptr && actuator == nullptr) {
    std::vector<std::string> known;
    for (const auto& s : bench_.sensors) known.push_back(s.name.text);
    for (const auto& a : bench_.actuators) known.push_back(a.name.text);
    const auto meant = did_you_mean(c.name.text, known);
    check_.error(
        Code::unknown_name, c.name.span, fmt::format("`{}` is neither a sensor nor an actuator", c.name.text),
        meant.value_or(fmt::format("declare it, or give it a value here: `channel {} : {} = 12 mA`", *n, c.name.text)));
    return;
  }
  if ((sensor != nullptr) != made.input) {
    check_.error(
        Code::wrong_kind, c.name.span,
        sensor != nullptr
            ? fmt::format("`{}` is a sensor, and channel {} of module {} is an output", c.name.text, *n, slot.module)
            : fmt::format("`{}` is an actuator, and channel {} of module {} is an input", c.name.text, *n, slot.module),
        "sensors go to inputs of the rack, actuators to outputs");
    return;
  }
  // What one module says holds for all elements of a vector, so it is said once.
  const bool whole = base == c.name.text;
  const auto [first, first_of_all] = forms_.try_emplace(base, Form{made.form, c.name.span, whole});
  if (!first_of_all) {
    if (whole || first->second.whole || first->second.text == made.form) return;  // a vector as a whole is told later
    check_
        .error(Code::wrong_kind, c.name.span,
               fmt::format("this channel is `{}`, and that of another element of `{}` is `{}`", made.form, base,
                           first->second.text),
               "a vector has one form: put its elements on modules of one kind, or declare a channel for each")
        .notes.push_back({first->second.span, "the other is here"});
    return;
  }
  if (sensor != nullptr)
    complete(*sensor, form, c.name, "sensor");
  else
    complete(*actuator, form, c.name, "actuator");
  if (actuator != nullptr && form.gates && actuator->type.text == "gate") complete_gate(*actuator, form, c.name);
  if (!whole) return;  // each element is on or off by itself
  (sensor != nullptr ? static_cast<lang::ChannelDecl&>(*sensor) : static_cast<lang::ChannelDecl&>(*actuator)).off =
      c.off;
}

/// What the module says, the channel must not say again: one of the two would be wrong one day.
void Racks::complete(lang::ChannelDecl& own, const lang::ModuleDecl::Channels& form, const lang::Name& name,
                     const char* what) {
  const auto twice = [&](Span span, const char* clause) {
    check_
        .error(Code::duplicate, span, fmt::format("{} `{}` and its module both say `{}`", what, name.text, clause),
               "leave it to the module")
        .notes.push_back({form.span, "the module says it here"});
  };
  const auto take = [&](std::optional<lang::Interval>& to, const std::optional<lang::Interval>& from,
                        const char* clause) {
    if (!from) return;
    if (to) return twice(join(to->low->span, to->high->span), clause);
    to = copy(*from);
  };
  own.placed = true;
  own.module = form.span;
  take(own.range, form.range, "range");
  take(own.limits, form.limits, "limits");
  if ((form.electrical || form.curve) && own.curve) {
    twice(own.curve->span, "as");
  } else if (form.curve && own.electrical) {
    twice(join(own.electrical->low->span, own.electrical->high->span), "as");
  } else {
    take(own.electrical, form.electrical, "as");
    if (form.curve) own.curve = form.curve;
  }
  if (form.per && (own.per || own.counts)) {
    twice(own.per ? own.per->factor->span : own.counts->low->span, "counts");
  } else if (form.counts && own.per) {
    twice(own.per->factor->span, "counts");
  } else {
    take(own.counts, form.counts, "counts");
    if (form.per)
      own.per = lang::PerUnit{lang::clone(*form.per->factor), form.per->unit,
                              form.per->from ? lang::clone(*form.per->from) : nullptr};
  }
  if (form.word && own.word) return twice(own.word->bits->span, "word");
  if (form.word) own.word = lang::WordDecl{lang::clone(*form.word->bits), form.word->is_signed, form.word->wraps};
}

/// Which edges come when is for the module to say.
void Racks::complete_gate(lang::ActuatorDecl& own, const lang::ModuleDecl::Channels& form, const lang::Name& name) {
  const auto take = [&](lang::ExprPtr& to, const lang::ExprPtr& from, const char* clause) {
    if (!from) return;
    if (to) {
      check_
          .error(Code::duplicate, to->span,
                 fmt::format("actuator `{}` and its module both say `{}`", name.text, clause), "leave it to the module")
          .notes.push_back({form.span, "the module says it here"});
      return;
    }
    to = lang::clone(*from);
  };
  take(own.clock, form.clock, "clock");
  take(own.latency, form.latency, "latency");
}

void Racks::make(const lang::RackDecl& r, const lang::RackDecl::Channel& c, const lang::ModuleDecl::Channels& form) {
  lang::SensorDecl s;
  s.name = c.name;
  s.of = lang::clone(*c.value);
  s.off = c.off;
  s.doc = c.doc;
  if (!r.every) {
    check_.error(Code::missing, r.name.span,
                 fmt::format("rack `{}` measures `{}` itself, but does not say how often", r.name.text, c.name.text),
                 "add `every 20 ms` to the rack");
    return;
  }
  s.every = lang::clone(*r.every);
  if (c.range) s.range = copy(*c.range);
  complete(s, form, c.name, "channel");
  // What is given as it is on the wire needs no other range.
  if (!s.range && s.electrical) s.range = copy(*s.electrical);
  bench_.sensors.push_back(std::move(s));
}

/// A vector as a whole, or an element that it does not have.
void Racks::no_single_one(const RackChannel& c) {
  const auto vector = check_.root.vectors.find(c.name.substr(0, c.name.find('[')));
  if (vector == check_.root.vectors.end()) {
    if (c.name.find('[') != std::string::npos)
      check_.error(Code::wrong_kind, c.span, fmt::format("`{}` is no vector", c.name.substr(0, c.name.find('['))),
                   "leave the number out");
    return;
  }
  const bool whole = vector->first == c.name;
  check_.error(whole ? Code::type_mismatch : Code::out_of_limits, c.span,
               whole ? fmt::format("`{}` has {} elements, and a channel carries one", c.name, vector->second.size)
                     : fmt::format("`{}` has {} elements", vector->first, vector->second.size),
               fmt::format("name one of them: `{}[1]`", vector->first));
}

void Racks::define() {
  for (Rack& rack : check_.program.racks) {
    for (RackSlot& slot : rack.slots) {
      for (RackChannel& c : slot.channels) {
        if (c.name.empty()) continue;
        const auto found = check_.root.variables.find(c.name);
        if (found == check_.root.variables.end()) {
          no_single_one(c);
          continue;
        }
        const Variable& v = check_.program.variable(found->second);
        for (std::size_t i = 0; i < check_.program.sensors.size(); ++i) {
          if (check_.program.sensors[i].value == found->second) c.sensor = static_cast<std::int32_t>(i);
        }
        for (std::size_t i = 0; i < check_.program.actuators.size(); ++i) {
          if (check_.program.actuators[i].value == found->second) c.actuator = static_cast<std::int32_t>(i);
        }
        if (!c.on && c.sensor != kNone) check_.program.sensors[static_cast<std::size_t>(c.sensor)].on = false;
        if (!c.on && c.actuator != kNone) check_.program.actuators[static_cast<std::size_t>(c.actuator)].on = false;
        const bool wrong_way = c.input ? c.actuator != kNone : c.sensor != kNone;  // said before
        if (!v.type.valid() || wrong_way) continue;
        const bool line = v.type.kind == Type::Kind::boolean;
        if (c.gate && line && !v.gate) {
          check_.error(
              Code::type_mismatch, c.span,
              fmt::format("`{}` is a bool, and channel {} of module {} is for gates, whose edges have instants", c.name,
                          c.number, slot.module),
              fmt::format("declare it as `{} : gate`, or use a module with lines `of bool`", c.name));
          continue;
        }
        if (line == c.line) continue;
        check_.error(Code::type_mismatch, c.span,
                     line ? fmt::format("`{}` is a bool, and channel {} of module {} is for quantities", c.name,
                                        c.number, slot.module)
                          : fmt::format("`{}` is {}, and channel {} of module {} is a line", c.name,
                                        describe(check_.program, v.type), c.number, slot.module));
      }
    }
  }
}

}  // namespace isodyne::check
