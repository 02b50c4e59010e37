#include "isodyne/check/stimulus/faults.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/check/plant/gate_faults.h"
#include "isodyne/check/plant/taps.h"
#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

struct FaultKindEntry {
  FaultKind kind;
  const char* word;
  std::string_view amount, where;
};

constexpr FaultKindEntry kFaultKinds[] = {
#define FAULT(id, word, amount, where, meaning) {FaultKind::id, word, #amount, #where},
#include "isodyne/program/fault_kinds.def"
#undef FAULT
};

const FaultKindEntry* fault_kind_named(const std::string& word) {
  const auto* found =
      std::find_if(std::begin(kFaultKinds), std::end(kFaultKinds), [&](const auto& k) { return word == k.word; });
  return found == std::end(kFaultKinds) ? nullptr : found;
}

}  // namespace

void Faults::define() {
  for (const lang::FaultDecl& f : check_.document.faults) fault(f);
  for (const lang::ComposeDecl& c : check_.document.compositions) compose(c);
}

bool Faults::wrong(const lang::FaultDecl& f, const std::string& why, const std::string& advice) {
  check_.error(Code::type_mismatch, f.kind.span, why, advice);
  return false;
}

void Faults::fault(const lang::FaultDecl& f) {
  const auto found = check_.root.variables.find(f.name.text);
  if (found == check_.root.variables.end() || check_.program.variable(found->second).span.begin != f.name.span.begin)
    return;
  Fault fault;
  fault.name = f.name.text;
  fault.doc = f.doc;
  fault.span = f.name.span;
  fault.active = found->second;
  if (f.target.parts.empty()) {
    check_.error(Code::missing, f.name.span, fmt::format("fault `{}` does not say where it is", f.name.text),
                 "add `on name offset 5 cm`");
    return;
  }
  const FaultKindEntry* kind = fault_kind_named(f.kind.text);
  if (kind == nullptr) {
    std::vector<std::string> words;
    for (const FaultKindEntry& k : kFaultKinds) words.emplace_back(k.word);
    report_unknown_word(check_, f.kind, "kind of fault", words);
  } else {
    fault.kind = kind->kind;
  }
  const std::size_t errors = check_.diagnostics.errors();
  amount_type_ = {};
  const bool messages = on_messages(f, fault);
  const bool placed = messages || (check_.knows_place(f.target) ? on_place(f, fault) : on_quantity(f, fault));
  time(f, fault);
  if (kind != nullptr && placed && check_.diagnostics.errors() == errors) settings(f, fault);
  if (kind == nullptr || !placed || check_.diagnostics.errors() > errors) return;
  check_.program.faults.push_back(std::move(fault));
}

/// `plc.reads`, `plc.writes`, or the name of what carries messages between controllers.
bool Faults::on_messages(const lang::FaultDecl& f, Fault& fault) {
  const auto& parts = f.target.parts;
  const Program& p = check_.program;
  const auto named = [](const auto& list, const std::string& name) {
    const auto found = std::find_if(list.begin(), list.end(), [&](const auto& x) { return x.name == name; });
    return found == list.end() ? kNone : static_cast<std::int32_t>(found - list.begin());
  };
  if (parts.size() == 2 && (parts[1].text == "reads" || parts[1].text == "writes")) {
    const auto key = check_.key(parts[0], check_.root, nullptr);
    if (key) fault.controller = named(p.controllers, *key);
    fault.to_controller = parts[1].text == "reads";
  }
  if (parts.size() == 1) fault.messages = named(p.messages, parts[0].text);
  if (fault.controller == kNone && fault.messages == kNone) return false;
  const FaultKindEntry* kind = fault_kind_named(f.kind.text);
  if (kind == nullptr) return true;
  if (kind->where != "message" && kind->where != "anywhere") {
    wrong(f, fmt::format("`{}` changes a value, and `{}` are messages", f.kind.text, f.target.text()),
          "messages know `loss`, `delay`, `jitter`, `repeats`, `reorder`, `corrupt` and `freeze`");
    return true;
  }
  if (kind->amount == "none") {
    if (f.amount) check_.error(Code::unexpected, f.amount->span, fmt::format("`{}` takes no amount", f.kind.text));
  } else if (!f.amount) {
    check_.error(Code::missing, f.kind.span, fmt::format("`{}` needs an amount", f.kind.text),
                 fmt::format("for example `{} {}`", f.kind.text, kind->amount == "time" ? "5 ms" : "5 %"));
  } else {
    share_or_time(f, kind->amount, fault);
  }
  extras(f, fault);
  return true;
}

/// A node or a terminal: contacts that the solver of its network has, and nothing else of the plant.
bool Faults::on_place(const lang::FaultDecl& f, Fault& fault) {
  if (f.kind.text != "short" && f.kind.text != "open")
    return wrong(f, fmt::format("`{}` is a place, and `{}` changes a value", f.target.text(), f.kind.text),
                 "places know `short` and `open`");
  const auto places = check_.resolve_places(check_.root, f.target);
  if (!places || !extras(f, fault)) return false;
  fault.place = f.target.text();
  fault.amount = x_.constant(0);
  if (f.amount) {
    check_.error(Code::unexpected, f.amount->span, fmt::format("`{}` of a place takes no amount", f.kind.text),
                 "a short is written `short to ground through 10 mohm`");
    return false;
  }
  if (f.other) fault.amount_text = "to " + f.other->text();
  const auto through = f.through ? check_.program.sources->in_one_line(f.through->span) : std::string("1 mohm");
  if (f.kind.text == "short") fault.amount_text += (f.other ? " through " : "through ") + through;
  return f.kind.text == "short" ? shorts(f, fault, *places) : opens(f, fault, *places);
}

bool Faults::shorts(const lang::FaultDecl& f, const Fault& fault, const PlacesMeant& places) {
  constexpr double kThrough = 1e-3;  // ohm, where nothing is said
  double resistance = kThrough;
  if (f.through) {
    const Type ohm{Type::Kind::real, parse_unit("ohm")->dimension, kNone};
    const auto value = check_.constant(x_.check_as(*f.through, scope(), ohm, "what it is shorted through"),
                                       f.through->span, "what it is shorted through");
    if (!value) return false;
    if (!(*value > 0)) {
      check_.error(Code::out_of_limits, f.through->span, "a short has a resistance above 0 ohm",
                   "leave it out for 1 mohm");
      return false;
    }
    resistance = *value;
  }
  const auto contact = [&](std::int32_t a, std::int32_t b) {
    check_.fault_contacts.push_back({fault.active, false, a, b, resistance, fault.name, f.target.span});
  };
  if (!f.other) {
    if (places.ids.size() < 2)
      return wrong(f, fmt::format("`{}` is one place, so it cannot be shorted with itself", f.target.text()),
                   "say what with: `short to ground`");
    for (std::size_t i = 0; i < places.ids.size(); ++i) {
      for (std::size_t k = 0; k < i; ++k) contact(places.ids[k], places.ids[i]);
    }
    return true;
  }
  const auto other = check_.resolve_places(check_.root, *f.other);
  if (!other) return false;
  const bool ground = other->ids.size() == 1 && other->ids.front() == 0;
  if (!ground && other->ids.size() != places.ids.size())
    return wrong(
        f,
        fmt::format("`{}` {}, `{}` {}", f.target.text(),
                    places.ids.size() == 1 ? "is one place" : fmt::format("are {}", places.ids.size()), f.other->text(),
                    other->ids.size() == 1 ? "is one place" : fmt::format("are {}", other->ids.size())),
        "name one of them, or short as many");
  for (std::size_t i = 0; i < places.ids.size(); ++i) contact(places.ids[i], ground ? 0 : other->ids[i]);
  return true;
}

/// A terminal at which others lie gets a node of its own, outside its part, for what lies there: so it can come off.
void Faults::node_outside(std::int32_t id) {
  Place inner = at(check_.places, id);
  if (!inner.terminal || inner.lies_at != kNone || inner.outside.empty()) return;
  Place node;
  node.path = inner.path + " (outside)";
  node.kind = inner.kind;
  node.owner = inner.owner == nullptr ? nullptr : inner.owner->parent;
  node.inside = inner.outside;
  node.inside.push_back(id);
  node.span = inner.span;
  const auto outer = static_cast<std::int32_t>(check_.places.size());
  for (const std::int32_t other : inner.outside) check_.places[static_cast<std::size_t>(other)].lies_at = outer;
  inner.outside.clear();
  inner.lies_at = outer;
  check_.places[static_cast<std::size_t>(id)] = inner;
  check_.places.push_back(std::move(node));
}

/// What comes off by several faults comes off by each: their contacts lie one behind the other. Where the next one
/// ends.
std::int32_t Faults::between_opened(std::int32_t terminal, std::int32_t lies_at) {
  for (Check::FaultContact& other : check_.fault_contacts) {
    if (!other.opens || other.a != terminal) continue;
    Place node;
    node.path = at(check_.places, terminal).path + " (coming off)";
    node.kind = at(check_.places, terminal).kind;
    node.owner = at(check_.places, terminal).owner;
    node.span = at(check_.places, terminal).span;
    other.a = static_cast<std::int32_t>(check_.places.size());
    check_.places.push_back(std::move(node));
    return other.a;
  }
  return lies_at;
}

bool Faults::opens(const lang::FaultDecl& f, const Fault& fault, const PlacesMeant& places) {
  if (f.other || f.through) {
    check_.error(Code::unexpected, f.kind.span, "`open` takes no more");
    return false;
  }
  for (const std::int32_t id : places.ids) {
    node_outside(id);
    const Place& place = at(check_.places, id);
    if (!place.terminal || place.lies_at == kNone) {
      check_.error(Code::wrong_kind, f.target.span,
                   place.terminal ? fmt::format("`{}` lies nowhere, so there is nothing to open", place.path)
                                  : fmt::format("node `{}` has no end to open", place.path),
                   "name the terminal that comes off, such as `part.a`");
      return false;
    }
    check_.fault_contacts.push_back(
        {fault.active, true, id, between_opened(id, place.lies_at), 0, fault.name, f.target.span});
  }
  return true;
}

bool Faults::on_quantity(const lang::FaultDecl& f, Fault& fault) {
  if (f.through || (f.other && f.kind.text == "short")) {
    check_.error(Code::wrong_kind, f.target.span, fmt::format("`{}` is no node and no terminal", f.target.text()),
                 "a wire that lies on a supply is written `on NAME.signal short 24 V`");
    return false;
  }
  const Target all = check_.resolve(check_.root, f.target);
  if (!all.found()) return false;
  const VarId target = all.ids.front();
  if (!check_.program.variable(target).type.valid()) return false;
  const Variable variable = check_.program.variable(target);
  if (fault_kind_named(f.kind.text) == nullptr) return false;
  if (all.vector) {
    fault.of_all = f.target.text();
    if (fault.kind == FaultKind::swap || fault.kind == FaultKind::replace)
      return wrong(f, fmt::format("`{}` is a vector, and `{}` changes one value", f.target.text(), f.kind.text),
                   fmt::format("name an element: `{}[1]`", f.target.text()));
  }
  if (with_edges(target)) {
    if (!on_gate(f, fault, target)) return false;
    return std::all_of(all.ids.begin() + 1, all.ids.end(),
                       [&](VarId id) { return note_gate_fault(check_, fault, id, kNone, f.target.span); });
  }
  for (const VarId id : all.ids) {
    const std::int32_t tap = tap_on(check_, id, f.target);
    if (tap == kNone) return false;
    if (id == target) {
      fault.tap = tap;
    } else {
      fault.also.push_back(tap);
    }
  }
  if (fault.kind == FaultKind::swap) return swap(f, fault, target);
  return amount(f, fault, variable);
}

/// A gate that is made, given or follows from others; an input of the bench changes at instants only.
bool Faults::with_edges(VarId target) const {
  const Variable& v = check_.program.variable(target);
  return v.gate && (v.role == Role::equation || v.role == Role::network || v.role == Role::actuator);
}

bool Faults::on_gate(const lang::FaultDecl& f, Fault& fault, VarId target) {
  VarId other = kNone;
  if (fault.kind == FaultKind::swap) {
    if (!f.other) return false;
    other = check_.resolve_one(check_.root, *f.other);
    if (other == kNone) return false;
    if (other == target || !with_edges(other)) {
      check_.error(Code::type_mismatch, f.other->span,
                   other == target ? fmt::format("`{}` cannot be swapped with itself", f.other->text())
                                   : fmt::format("`{}` is a gate, and `{}` is none", f.target.text(), f.other->text()),
                   "two gates can be swapped");
      return false;
    }
    fault.amount_text = "with " + check_.program.variable(other).name;
    fault.amount = x_.constant(0);
    if (!extras(f, fault)) return false;
  } else if (!amount(f, fault, check_.program.variable(target))) {
    return false;
  }
  return note_gate_fault(check_, fault, target, other, f.target.span);
}

/// Whether this kind of fault means something for what it is on.
bool Faults::place(const lang::FaultDecl& f, std::string_view where, const Variable& target) {
  const bool numeric = target.type.numeric();
  if ((where == "number" && !numeric) || (where == "truth" && !numeric && target.type.kind != Type::Kind::boolean))
    return wrong(f,
                 fmt::format("`{}` changes numbers, but `{}` is {}", f.kind.text, target.name,
                             describe(check_.program, target.type)),
                 "use `force` or `freeze`");
  const bool plain = numeric && target.type.dimension == Dimension{};
  if (where == "whole" && (!plain || (target.role != Role::counts && target.type.kind != Type::Kind::integer)))
    return wrong(f, fmt::format("`{}` turns bits of whole numbers, and `{}` is none", f.kind.text, target.name),
                 "faults on `NAME.counts` and on fields of frames see the bits");
  if (where == "signal" && target.role != Role::signal)
    return wrong(f, fmt::format("`{}` is about a wire, and `{}` is none", f.kind.text, target.name),
                 "a channel with an electrical range has one: `NAME.signal`; elsewhere `force` does it");
  if (where == "message")
    return wrong(f, fmt::format("`{}` happens to messages, and `{}` is a quantity", f.kind.text, target.name),
                 "messages are `CONTROLLER.reads`, `CONTROLLER.writes`, and what `messages` carry between controllers");
  return true;
}

/// Two sensors, or two actuators, of one type.
bool Faults::swap(const lang::FaultDecl& f, Fault& fault, VarId target) {
  const Variable one = check_.program.variable(target);
  if (one.role != Role::sensor && one.role != Role::actuator)
    return wrong(f, fmt::format("`{}` is no channel: only wires are swapped", one.name),
                 "name a sensor or an actuator");
  if (!f.other) return false;
  const VarId other = check_.resolve_one(check_.root, *f.other);
  if (other == kNone) return false;
  const Variable two = check_.program.variable(other);
  if (other == target || two.role != one.role || !(two.type == one.type)) {
    check_.error(Code::type_mismatch, f.other->span,
                 other == target
                     ? fmt::format("`{}` cannot be swapped with itself", two.name)
                     : fmt::format("`{}` is {}, and `{}` is {}: they cannot be swapped", one.name,
                                   describe(check_.program, one.type), two.name, describe(check_.program, two.type)),
                 "two sensors or two actuators of one unit can be");
    return false;
  }
  fault.other = tap_on(check_, other, *f.other);
  fault.amount_text = "with " + two.name;
  fault.amount = x_.constant(0);
  return fault.other != kNone && extras(f, fault);
}

bool Faults::amount(const lang::FaultDecl& f, Fault& fault, const Variable& target) {
  const FaultKindEntry& entry = *fault_kind_named(f.kind.text);
  fault.truth = target.type.kind == Type::Kind::boolean;
  if (!place(f, entry.where, target) || !extras(f, fault)) return false;
  const std::string_view rule = entry.amount;
  if (rule == "none") {
    if (f.amount) check_.error(Code::unexpected, f.amount->span, fmt::format("`{}` takes no amount", f.kind.text));
    return !f.amount;
  }
  const bool number = rule == "factor" || rule == "share" || rule == "bit";
  if (!f.amount) {
    const std::string unit = number ? "" : rule == "time" ? " ms" : " " + target.unit.text;
    check_.error(Code::missing, f.kind.span, fmt::format("`{}` needs an amount", f.kind.text),
                 fmt::format("for example `{} 5{}`", f.kind.text, rule == "share" ? " %" : unit));
    return false;
  }
  if (rule == "formula") return replacement(f, fault, target);
  if (rule == "share" || rule == "time") return share_or_time(f, rule, fault);
  const auto covered = [&](const lang::ExprPtr& e) { return check_.program.sources->in_one_line(e->span); };
  fault.amount_text = covered(f.amount);
  if (f.over) fault.amount_text = fmt::format("to {} over {}", covered(f.amount), covered(f.over));
  if (f.every) fault.amount_text += " every " + covered(f.every);
  Type type = target.type;
  if (rule == "factor" && type.absolute) {
    check_.error(Code::type_mismatch, f.kind.span,
                 fmt::format("`{}` means nothing for an absolute temperature", f.kind.text), "use `offset` or `force`");
    return false;
  }
  if (rule != "replace") type.absolute = false;
  if (number) type = {Type::Kind::real, {}, kNone};
  if (rule == "rate")
    type = {Type::Kind::real, divide(type.dimension, parse_unit("s")->dimension).value_or(Dimension{}), kNone};
  fault.amount = x_.check_as(*f.amount, scope(), type, fmt::format("the amount of `{}`", f.kind.text));
  if (fault.amount == kNone) return false;
  amount_type_ = type;
  // As people wrote it, if they did.
  const lang::Expr* plain = f.amount.get();
  while (plain->kind != lang::ExprKind::number && plain->args.size() == 1) plain = plain->args.front().get();
  const auto written = plain->kind == lang::ExprKind::number ? parse_unit(plain->word) : std::nullopt;
  amount_unit_ = number                                            ? Unit{}
                 : written && written->dimension == type.dimension ? *written
                 : rule == "rate"                                  ? si_unit(type.dimension)
                                                                   : target.unit;
  const auto constant = fold(check_.program, fault.amount, [](VarId) { return std::nullopt; });
  if (rule == "bit" && constant && (*constant < 0 || *constant > 52 || *constant != std::floor(*constant))) {
    check_.error(Code::out_of_limits, f.amount->span, "a bit has a whole number, from 0 (the lowest) to 52");
    return false;
  }
  return true;
}

bool Faults::share_or_time(const lang::FaultDecl& f, std::string_view rule, Fault& fault) {
  fault.amount_text = check_.program.sources->in_one_line(f.amount->span);
  if (rule == "time") {
    const auto lag = x_.check_span(*f.amount, scope(), "the time of the delay");
    fault.lag = lag.value_or(Time{});
    fault.amount = x_.constant(0);
    return lag.has_value();
  }
  fault.amount =
      x_.check_as(*f.amount, scope(), {Type::Kind::real, {}, kNone}, fmt::format("the amount of `{}`", f.kind.text));
  if (fault.amount == kNone) return false;
  const auto constant = fold(check_.program, fault.amount, [](VarId) { return std::nullopt; });
  amount_type_ = {Type::Kind::real, {}, kNone};
  amount_unit_ = {};
  if (!constant || (*constant >= 0 && *constant <= 1)) return true;
  check_.error(Code::out_of_limits, f.amount->span, "a share is between 0 % and 100 %");
  return false;
}

/// The formula sees `it`, `was` and the memories before everything else; a memory that was changed above, as changed.
bool Faults::replacement(const lang::FaultDecl& f, Fault& fault, const Variable& target) {
  fault.amount_text = "with " + check_.program.sources->in_one_line(f.amount->span);
  std::map<std::string, Typed> names;
  const auto hidden = [&](const std::string& name, const Type& type, const Unit& unit) {
    const VarId id = check_.define_hidden(fmt::format("{} {}", fault.name, name), type, unit);
    Typed t;
    t.node = x_.variable(id);
    t.type = type;
    t.shown = unit;
    names[name] = t;
    return id;
  };
  fault.replacement.it = hidden("it", target.type, target.unit);
  fault.replacement.was = hidden("was", target.type, target.unit);
  bool good = true;
  std::map<std::string, std::size_t> places;
  for (const lang::FaultDecl::Memory& m : f.memories) {
    Unit unit;
    const Type type = check_.type_of(m.type, unit);
    if (names.contains(m.name.text)) {
      check_.error(Code::duplicate, m.name.span, fmt::format("`{}` is there already", m.name.text));
      good = false;
    }
    if (!type.valid()) return false;
    Replacement::Memory memory;
    memory.start = x_.check_as(*m.value, scope(), type, fmt::format("what `{}` is at the beginning", m.name.text));
    good = good && memory.start != kNone;
    memory.id = hidden(m.name.text, type, unit);
    memory.next = names[m.name.text].node;
    places[m.name.text] = fault.replacement.memories.size();
    fault.replacement.memories.push_back(memory);
  }
  const ExprScope inside{&check_.root, &names};
  for (const lang::FaultDecl::Change& c : f.changes) {
    const auto place = places.find(c.target.text);
    if (place == places.end()) {
      check_.error(
          Code::unknown_name, c.target.span, fmt::format("this fault has no memory `{}`", c.target.text),
          fmt::format("add `memory {} : {} = …`", c.target.text, target.unit.text.empty() ? "1" : target.unit.text));
      good = false;
      continue;
    }
    Typed& known = names[c.target.text];
    const NodeId next = x_.check_as(*c.value, inside, known.type, fmt::format("the value of `{}`", c.target.text));
    if (next == kNone) return false;
    known.node = fault.replacement.memories[place->second].next = next;
  }
  fault.amount = x_.check_as(*f.amount, inside, target.type, "what takes its place");
  return good && fault.amount != kNone;
}

/// What only some kinds take: `every`, `over`, memories.
bool Faults::extras(const lang::FaultDecl& f, Fault& fault) {
  const std::size_t errors = check_.diagnostics.errors();
  if (!f.memories.empty() || !f.changes.empty()) {
    if (fault.kind != FaultKind::replace)
      check_.error(Code::unexpected, f.kind.span, fmt::format("`{}` has no memory", f.kind.text),
                   "write what takes the value's place: `replace with …`");
  }
  if (f.over && fault.kind != FaultKind::ramp)
    check_.error(Code::unexpected, f.over->span, fmt::format("`{}` takes no `over`", f.kind.text));
  if (fault.kind == FaultKind::ramp) {
    if (!f.over)
      check_.error(Code::missing, f.kind.span, "`ramp` needs to know how long it takes",
                   "for example `ramp to 200 s over 1 min`");
    else
      fault.lag = x_.check_span(*f.over, scope(), "the time of the ramp").value_or(Time{});
  }
  if (fault.kind != FaultKind::spikes) {
    if (f.every) check_.error(Code::unexpected, f.every->span, fmt::format("`{}` takes no `every`", f.kind.text));
    return check_.diagnostics.errors() == errors;
  }
  if (!f.every) {
    check_.error(Code::missing, f.kind.span, "`spikes` needs to know how often",
                 "for example `spikes 20 cm every 2 s`");
    return false;
  }
  fault.every = x_.check_span(*f.every, scope(), "the time between spikes").value_or(Time{});
  if (fault.every.count() <= 0)
    check_.error(Code::bad_period, f.every->span, "the time between spikes must be at least 1 ns");
  return check_.diagnostics.errors() == errors;
}

void Faults::time(const lang::FaultDecl& f, Fault& fault) {
  const auto written = [&](const char* word, const lang::ExprPtr& e) {
    if (e)
      fault.when_text += fmt::format("{}{} {}", fault.when_text.empty() ? "" : " ", word,
                                     check_.program.sources->in_one_line(e->span));
  };
  using Written = lang::FaultDecl::Time;
  written(f.time == Written::between ? "between" : "from", f.begin);
  written(f.time == Written::between ? "and" : "to", f.end);
  written(f.time == Written::once ? "once" : "while", f.condition);
  if (fault.when_text.empty()) fault.when_text = f.time == Written::by_hand ? "by hand" : "the whole run";
  written("lasting", f.lasting);
  written("until", f.until);
  written("pulsing", f.pulse);
  written("every", f.period);
  fault.when = static_cast<Fault::When>(f.time);
  const auto span = [&](const lang::ExprPtr& e, const char* what) -> std::optional<Time> {
    if (!e) return std::nullopt;
    return x_.check_span(*e, scope(), what);
  };
  fault.begin = span(f.begin, "the beginning of the fault").value_or(Time{});
  fault.end = span(f.end, "the end of the fault");
  if (fault.end && *fault.end <= fault.begin)
    check_.error(Code::out_of_limits, f.end->span, "the fault ends before it begins");
  if (f.condition)
    fault.condition =
        x_.check_truth(*f.condition, scope(), f.time == Written::once ? "what follows `once`" : "what follows `while`");
  fault.lasting = span(f.lasting, "the duration of the fault");
  if (f.until) fault.until = x_.check_truth(*f.until, scope(), "what follows `until`");
  fault.pulse = span(f.pulse, "how long the fault acts").value_or(Time{});
  fault.period = span(f.period, "the period of the fault").value_or(Time{});
  if (f.pulse && fault.pulse >= fault.period)
    check_.error(Code::out_of_limits, f.pulse->span, "the fault acts for the whole of its period",
                 "leave out `pulsing`, or give it a longer period");
}

VarId Faults::setting(const Fault& fault, const char* what, Type type, Unit unit, double value,
                      std::optional<std::pair<double, double>> limits) {
  const VarId id = check_.define_hidden(fmt::format("{}.{}", fault.name, what), type, std::move(unit));
  Variable& v = check_.program.variables[static_cast<std::size_t>(id)];
  v.role = Role::fault_setting;
  v.limits = limits;
  v.span = fault.span;
  check_.program.start.push_back({id, x_.constant(value), fault.span});
  return id;
}

/// What is a number in the text is one that a run may begin with another value of: an amount, from when, how long.
void Faults::settings(const lang::FaultDecl& f, Fault& fault) {
  const std::string_view rule = fault_kind_named(f.kind.text)->amount;
  const auto constant =
      fault.amount == kNone ? std::nullopt : fold(check_.program, fault.amount, [](VarId) { return std::nullopt; });
  // Bits have no values between two, and what comes in place of a value is a formula.
  if (constant && amount_type_.kind == Type::Kind::real && rule != "bit" && rule != "formula") {
    const bool share = rule == "share";
    fault.amount = x_.variable(setting(fault, "amount", amount_type_, amount_unit_, *constant,
                                       share ? std::optional(std::pair{0.0, 1.0}) : std::nullopt));
  }
  const Type seconds{Type::Kind::real, parse_unit("s")->dimension, kNone};
  constexpr double kLongest = 1e8;  // more than any run, less than a Time can hold
  if (fault.when == Fault::When::from)
    fault.begin_given = setting(fault, "from", seconds, *parse_unit("s"), to_seconds(fault.begin),
                                std::pair{0.0, fault.end ? to_seconds(*fault.end) : kLongest});
  if (fault.lasting)
    fault.lasting_given =
        setting(fault, "lasting", seconds, *parse_unit("s"), to_seconds(*fault.lasting), std::pair{0.0, kLongest});
}

void Faults::compose(const lang::ComposeDecl& c) {
  Composition composition;
  composition.span = c.span;
  for (const lang::Name& name : c.faults) {
    const auto& faults = check_.program.faults;
    const auto found = std::find_if(faults.begin(), faults.end(), [&](const Fault& f) { return f.name == name.text; });
    if (found == faults.end()) {
      std::vector<std::string> names;
      for (const Fault& f : faults) names.push_back(f.name);
      const auto meant = did_you_mean(name.text, names);
      check_.error(Code::unknown_name, name.span, fmt::format("there is no fault `{}`", name.text), meant.value_or(""));
      return;
    }
    composition.faults.push_back(static_cast<std::int32_t>(found - faults.begin()));
  }
  for (std::size_t i = 1; i < composition.faults.size(); ++i) {
    const Fault& first = check_.program.faults[static_cast<std::size_t>(composition.faults[0])];
    const Fault& other = check_.program.faults[static_cast<std::size_t>(composition.faults[i])];
    if (first.tap != kNone && first.tap == other.tap) continue;
    if (std::any_of(first.gates.begin(), first.gates.end(), [&](VarId gate) {
          return std::find(other.gates.begin(), other.gates.end(), gate) != other.gates.end();
        }))
      continue;
    check_.error(Code::wrong_kind, c.faults[i].span,
                 fmt::format("`{}` and `{}` do not act on one place, so they need no order", first.name, other.name));
    return;
  }
  check_.program.compositions.push_back(std::move(composition));
}

}  // namespace isodyne::check
