#include "isodyne/check/io/wiring.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

template <typename List>
std::int32_t index_of(const List& list, const std::string& name) {
  const auto found = std::find_if(list.begin(), list.end(), [&](const auto& x) { return x.name == name; });
  return found == list.end() ? kNone : static_cast<std::int32_t>(found - list.begin());
}

template <typename List>
std::string advice(const List& list, const std::string& name) {
  std::vector<std::string> names;
  for (const auto& x : list) names.push_back(x.name);
  const auto meant = did_you_mean(name, names);
  return meant.value_or("");
}

/// A level needs two ends: those of the range, or what the word can hold.
bool has_ends(const ChannelForm& f) {
  return f.range.has_value() || (f.to_counts && f.word.highest > f.word.lowest);
}

}  // namespace

void Wirings::define() {
  for (const lang::CablesDecl& c : check_.document.cables) cables(c);
  for (const lang::WiringDecl& w : check_.document.wirings) wiring(w);
}

template <typename List, typename Others>
std::int32_t Wirings::end_of(const lang::Name& name, const List& list, const Others& others, const char* what) {
  const std::int32_t index = index_of(list, name.text);
  if (index == kNone)
    check_.error(Code::unknown_name, name.span, fmt::format("there is no {} called `{}`", what, name.text),
                 index_of(others, name.text) != kNone
                     ? "a cable goes from a sensor, which we put out, to an actuator, which we read"
                     : advice(list, name.text));
  return index;
}

std::int32_t Wirings::sensor(const lang::Name& name) {
  return end_of(name, check_.program.sensors, check_.program.actuators, "sensor");
}
std::int32_t Wirings::actuator(const lang::Name& name) {
  return end_of(name, check_.program.actuators, check_.program.sensors, "actuator");
}

/// A line cannot carry a quantity, nor a voltage come back as a current.
bool Wirings::fit(const lang::Name& from, const lang::Name& to, std::int32_t s, std::int32_t a) {
  const Sensor& sensor = check_.program.sensors[static_cast<std::size_t>(s)];
  const Actuator& actuator = check_.program.actuators[static_cast<std::size_t>(a)];
  const Type& out = check_.program.variable(sensor.value).type;
  const Type& in = check_.program.variable(actuator.value).type;
  if (!out.valid() || !in.valid()) return false;
  const auto line = [](const Type& t) { return t.kind == Type::Kind::boolean; };
  const auto usable = [&](const Type& t) { return line(t) || t.kind == Type::Kind::real; };
  if (line(out) != line(in) || !usable(out) || !usable(in)) {
    check_.error(Code::type_mismatch, join(from.span, to.span),
                 fmt::format("`{}` is {} and `{}` is {}: a cable carries a line or a quantity", from.text,
                             describe(check_.program, out), to.text, describe(check_.program, in)));
    return false;
  }
  if (line(out)) return true;
  if (!has_ends(sensor) || !has_ends(actuator)) {
    const lang::Name& which = has_ends(sensor) ? to : from;
    check_.error(Code::missing, which.span,
                 fmt::format("`{}` has neither a range nor counts: it cannot be walked from end to end", which.text),
                 "add `range 0 m .. 10 m`");
    return false;
  }
  if (sensor.signal == kNone || actuator.signal == kNone) return true;
  const Type& wire = check_.program.variable(sensor.signal).type;
  const Type& read = check_.program.variable(actuator.signal).type;
  if (wire == read) return true;
  check_.error(Code::unit_mismatch, join(from.span, to.span),
               fmt::format("`{}` puts out {} and `{}` reads {}", from.text, describe(check_.program, wire), to.text,
                           describe(check_.program, read)));
  return false;
}

void Wirings::cables(const lang::CablesDecl& c) {
  if (const std::int32_t other = index_of(check_.program.cables, c.name.text); other != kNone) {
    check_
        .error(Code::duplicate, c.name.span, fmt::format("cable list `{}` is defined twice", c.name.text),
               "rename one of them")
        .notes.push_back({check_.program.cables[static_cast<std::size_t>(other)].span, "the first is here"});
    return;
  }
  Cables made{c.name.text, c.doc, {}, c.name.span};
  std::map<std::string, Span> used;
  for (const lang::CablesDecl::Cable& cable : c.cables) {
    bool twice = false;
    for (const lang::Name* end : {&cable.from, &cable.to}) {
      const auto [first, fresh] = used.try_emplace(end->text, end->span);
      if (fresh) continue;
      twice = true;
      check_
          .error(Code::duplicate, end->span, fmt::format("`{}` is in the cable list twice", end->text),
                 "a channel has one cable")
          .notes.push_back({first->second, "the first is here"});
    }
    const std::int32_t s = sensor(cable.from), a = actuator(cable.to);
    if (twice || s == kNone || a == kNone || !fit(cable.from, cable.to, s, a)) continue;
    made.cables.push_back({s, a, join(cable.from.span, cable.to.span)});
  }
  check_.program.cables.push_back(std::move(made));
}

double Wirings::share(const lang::ExprPtr& e, const char* what, double usual, double lowest) {
  if (!e) return usual;
  const auto value =
      check_.constant(x_.check_as(*e, {&check_.root, nullptr}, {Type::Kind::real, {}, kNone}, what), e->span, what);
  if (value && *value < lowest)
    check_.error(Code::out_of_limits, e->span, fmt::format("{} is at least {}", what, format_number(lowest)));
  return value.value_or(usual);
}

void Wirings::wiring(const lang::WiringDecl& w) {
  const std::int32_t list = index_of(check_.program.cables, w.of.text);
  if (list == kNone) {
    check_.error(Code::unknown_name, w.of.span, fmt::format("there is no cable list called `{}`", w.of.text),
                 advice(check_.program.cables, w.of.text));
    return;
  }
  if (const std::int32_t other = index_of(check_.program.wirings, w.name.text); other != kNone) {
    check_
        .error(Code::duplicate, w.name.span, fmt::format("wiring `{}` is defined twice", w.name.text),
               "rename one of them")
        .notes.push_back({check_.program.wirings[static_cast<std::size_t>(other)].span, "the first is here"});
    return;
  }
  Wiring made{w.name.text, w.doc, list, {}, w.name.span};
  std::map<std::int32_t, Span> ends;
  for (const lang::WiringDecl::Wire& one : w.wires) wire(one, made, ends);
  // What is not mentioned is as the list says, unless its end is taken.
  for (const Cable& c : check_.program.cables[static_cast<std::size_t>(list)].cables) {
    const bool mentioned =
        std::any_of(made.wires.begin(), made.wires.end(), [&](const Wire& x) { return x.sensor == c.sensor; });
    if (!mentioned && !ends.contains(c.actuator)) made.wires.push_back({c.sensor, c.actuator, false, 1, 0, {}});
  }
  check_.program.wirings.push_back(std::move(made));
}

void Wirings::wire(const lang::WiringDecl::Wire& w, Wiring& wiring, std::map<std::int32_t, Span>& ends) {
  Wire made;
  made.sensor = sensor(w.from);
  if (w.to) made.actuator = actuator(*w.to);
  if (made.sensor == kNone || (w.to && made.actuator == kNone)) return;
  if (w.to && !fit(w.from, *w.to, made.sensor, made.actuator)) return;
  if (w.to) {
    const auto [first, fresh] = ends.try_emplace(made.actuator, w.to->span);
    if (!fresh) {
      check_.error(Code::duplicate, w.to->span, fmt::format("two wires end at `{}`", w.to->text))
          .notes.push_back({first->second, "the first is here"});
      return;
    }
  }
  made.inverted = w.inverted;
  made.times = share(w.times, "the factor", 1, -1e6);
  made.noise = share(w.noise, "the noise", 0, 0);
  if (w.stuck) made.stuck = share(w.stuck, "the level", 0, 0);
  wiring.wires.push_back(made);
}

}  // namespace isodyne::check
