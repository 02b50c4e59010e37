#include "isodyne/check/io/channels.h"

#include <algorithm>
#include <cmath>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {
const Type kInteger{Type::Kind::integer, {}, kNone};

/// While it lives, what is wrong with the module of a channel is told at the channel.
class ForChannel {
 public:
  ForChannel(Check& check, const lang::ChannelDecl& c, const lang::Name& name) : check_(check) {
    if (c.placed) check_.on_behalf = Check::OnBehalf{c.module, name.span, "its module says this"};
  }
  ~ForChannel() { check_.on_behalf.reset(); }
  ForChannel(const ForChannel&) = delete;
  ForChannel& operator=(const ForChannel&) = delete;

 private:
  Check& check_;
};

std::string written(const Program& p, const lang::Interval& i) {
  return p.sources->in_one_line(join(i.low->span, i.high->span));
}
std::string written(const Program& p, const lang::PerUnit& per) {
  return p.sources->in_one_line(join(per.factor->span, per.from ? per.from->span : per.unit.span));
}
/// A scale and its word as they were written, for listings.
template <typename Decl>
std::string counts_written(const Program& p, const Decl& d) {
  std::string text = d.counts ? written(p, *d.counts) : d.per ? written(p, *d.per) : "";
  if (d.word)
    text += fmt::format(", {}{}{}", p.sources->in_one_line(d.word->bits->span), d.word->is_signed ? " signed" : "",
                        d.word->wraps ? " wraps" : "");
  return text;
}
}  // namespace

/// Channels and controllers can be looked into like parts: `level_tx.counts`, `plc.alarm`.
Instance& ChannelCheck::pseudo_part(const lang::Name& name) {
  auto& slot = check_.root.parts[name.text];
  if (slot == nullptr) {
    slot = std::make_unique<Instance>();
    slot->prefix = name.text + ".";
    slot->parent = &check_.root;
  }
  return *slot;
}

void ChannelCheck::declare() {
  for (const lang::SensorDecl& s : bench_.sensors) declare_sensor(s);
  for (const lang::ActuatorDecl& a : bench_.actuators) declare_actuator(a);
  for (const lang::ControllerDecl& c : bench_.controllers) declare_controllers(c);
  for (std::size_t i = 0; i < controllers_.size(); ++i) {
    for (const lang::ControllerDecl::Read& read : controllers_[i].decl->reads) declare_message(i, read);
  }
}

namespace {
/// The name of the i-th element of a vector, or of what is none.
lang::Name element_name(const lang::Name& name, int size, int i) {
  return size == 0 ? name : lang::Name{fmt::format("{}[{}]", name.text, i + 1), name.span};
}
}  // namespace

void ChannelCheck::declare_sensor(const lang::SensorDecl& s) {
  const std::size_t before = check_.program.variables.size();
  const int size = s.of ? x_.size_of(*s.of, scope()) : 0;
  Variable value;
  value.role = Role::sensor;
  value.doc = s.doc;
  value.type.size = size;
  const VarId values = check_.define(check_.root, s.name, value);
  if (check_.program.variables.size() == before) return;  // a duplicate
  const std::size_t first = check_.program.sensors.size(), count = static_cast<std::size_t>(std::max(1, size));
  const auto work = [this, &s, first, count, done = std::make_shared<bool>(false)] {
    if (!*done) {
      *done = true;
      define_sensor(s, first, count);
    }
  };
  for (int i = 0; i < std::max(1, size); ++i) {
    const lang::Name name = element_name(s.name, size, i);
    Sensor sensor;
    sensor.name = name.text;
    sensor.span = s.name.span;
    sensor.value = values + i;
    Instance& inside = pseudo_part(name);
    Variable truth;
    truth.role = Role::sensor_true;
    truth.doc = s.doc.empty() ? "" : s.doc + " (the quantity itself)";
    sensor.truth = check_.define(inside, {"true", s.name.span}, truth);
    declare_form(s, s.counts || s.per || s.pulses, inside, s.name, s.doc, sensor);
    check_.program.sensors.push_back(sensor);
    check_.pending[sensor.value] = work;
    check_.pending[sensor.truth] = work;
  }
  if (size > 0) check_.root.arrays[s.name.text] = size;
}

/// What can be looked at of a channel beside its value: the electrical signal and the raw word.
void ChannelCheck::declare_form(const lang::ChannelDecl& c, bool has_counts, Instance& inside, const lang::Name& name,
                                const std::string& doc, ChannelForm& form) {
  const ForChannel told(check_, c, name);
  form.on = !c.off;
  if (has_counts) {
    Variable counts;
    counts.role = Role::counts;
    counts.type = kInteger;
    counts.doc = doc.empty() ? "" : doc + " (raw word)";
    form.counts = check_.define(inside, {"counts", name.span}, counts);
  }
  if (!c.electrical && !c.curve) return;
  Variable signal;
  signal.role = Role::signal;
  signal.doc = doc.empty() ? "" : doc + " (electrical)";
  if (c.electrical) {
    const Typed low = x_.check(*c.electrical->low, scope());
    signal.type = low.type;
    signal.unit = low.shown;
  } else if (const auto f = check_.functions.find(c.curve->text); f != check_.functions.end()) {
    signal.type = check_.type_of(f->second->result, signal.unit);
  } else if (const auto t = check_.table_decls.find(c.curve->text); t != check_.table_decls.end()) {
    signal.type = check_.type_of(t->second->result, signal.unit);
  } else {
    std::vector<std::string> known;
    for (const auto& [text, decl] : check_.functions) known.push_back(text);
    for (const auto& [text, decl] : check_.table_decls) known.push_back(text);
    const auto meant = did_you_mean(c.curve->text, known);
    check_.error(
        Code::unknown_name, c.curve->span, fmt::format("there is no function or table called `{}`", c.curve->text),
        meant.value_or("the electrical form is given by its ends, `as 4 mA .. 20 mA`, or by a function or table"));
    return;
  }
  form.signal = check_.define(inside, {"signal", name.span}, signal);
}

void ChannelCheck::declare_actuator(const lang::ActuatorDecl& a) {
  Variable value;
  value.role = Role::actuator;
  value.doc = a.doc;
  value.type = check_.type_of(a.type, value.unit, &check_.root);
  value.gate = a.type.text == "gate";
  const int size = value.type.size;
  const std::size_t before = check_.program.variables.size();
  const VarId values = check_.define(check_.root, a.name, value);
  if (check_.program.variables.size() == before) return;
  for (int i = 0; i < std::max(1, size); ++i) {
    const lang::Name name = element_name(a.name, size, i);
    Actuator actuator;
    actuator.name = name.text;
    actuator.span = a.name.span;
    actuator.value = values + i;
    actuator.gate = value.gate;
    if (a.counts || a.per || a.electrical || a.curve)
      declare_form(a, a.counts || a.per, pseudo_part(name), a.name, a.doc, actuator);
    actuator.on = !a.off;
    check_.program.actuators.push_back(actuator);
  }
  if (size > 0 && (a.counts || a.per || a.electrical || a.curve)) check_.root.arrays[a.name.text] = size;
}

void ChannelCheck::define() {
  check_.demand_all();
  auto& all = check_.program.actuators;
  std::size_t next = 0;
  for (const lang::ActuatorDecl& a : bench_.actuators) {
    for (; next < all.size() && all[next].span.begin == a.name.span.begin; ++next) define_actuator(a, all[next]);
  }
}

void ChannelCheck::define_controllers() {
  define_messages();
  for (std::size_t i = 0; i < controllers_.size(); ++i)
    define_controller(controllers_[i], check_.program.controllers[i]);
}

std::optional<std::pair<double, double>> ChannelCheck::interval(const lang::Interval& i, const Type& type,
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

/// When it samples: every so often, or at the edges of a gate.
void ChannelCheck::sampling(const lang::SensorDecl& s, Sensor& sensor) {
  if (s.every && s.at) {
    check_.error(Code::duplicate, s.at->span,
                 fmt::format("sensor `{}` samples `every` {} and `at` edges", s.name.text,
                             check_.program.sources->in_one_line(s.every->span)),
                 "keep one of the two");
  } else if (s.at) {
    sensor.at = check_.resolve_one(check_.root, *s.at);
    if (sensor.at == kNone) return;
    if (!check_.program.variable(sensor.at).gate) {
      check_.error(Code::wrong_kind, s.at->span, fmt::format("`{}` is no gate", s.at->text()),
                   "a sensor samples at the rising edges of a `gate`, such as the `valley` of a `Modulator`; a `let` "
                   "without a type that follows from a gate needs `: gate`");
      sensor.at = kNone;
    }
  } else if (!s.every) {
    check_.error(Code::missing, s.name.span, fmt::format("sensor `{}` has no sampling period", s.name.text),
                 "add `every 20 ms`, or `at` and a gate at whose edges it samples");
  } else if (const auto period = x_.check_span(*s.every, scope(), "the sampling period")) {
    sensor.period = *period;
  }
  if (s.offset) sensor.offset = x_.check_span(*s.offset, scope(), "the offset").value_or(Time{});
  if (sensor.offset >= sensor.period && sensor.period.count() > 0) {
    check_.error(Code::bad_period, s.offset->span,
                 fmt::format("this offset ({}) is not smaller than the period ({})", format_span(sensor.offset),
                             format_span(sensor.period)));
  }
}

void ChannelCheck::define_sensor(const lang::SensorDecl& s, std::size_t first, std::size_t count) {
  if (!s.of) {
    check_.error(Code::missing, s.name.span, fmt::format("sensor `{}` does not say what it measures", s.name.text),
                 "add `of part.quantity`");
    return;
  }
  const Typed of = x_.check(*s.of, scope());
  for (std::size_t i = 0; i < count; ++i) sampling(s, check_.program.sensors[first + i]);
  if (!of.valid()) return;
  if (static_cast<std::size_t>(std::max(1, of.type.size)) != count) {
    check_.error(
        Code::type_mismatch, s.of->span,
        fmt::format("sensor `{}` measures {}, which could not be told from the names here", s.name.text,
                    describe(check_.program, of.type)),
        "name what it measures by its path, and sensors behind those that they measure; or take one element, `x[1]`");
    return;
  }
  Type type = of.type;
  type.size = 0;
  for (std::size_t i = 0; i < count; ++i) {
    Sensor& sensor = check_.program.sensors[first + i];
    for (const VarId id : {sensor.truth, sensor.value}) {
      check_.program.variables[static_cast<std::size_t>(id)].type = type;
      check_.program.variables[static_cast<std::size_t>(id)].unit = of.shown;
    }
    check_.program.equations.push_back({sensor.truth, of.type.size > 0 ? of.elements[i] : of.node, s.of->span});
    define_element(s, type, sensor);
  }
}

void ChannelCheck::define_element(const lang::SensorDecl& s, const Type& type, Sensor& sensor) {
  const std::string who = fmt::format("sensor `{}`", s.name.text);
  if (type.kind != Type::Kind::real) {
    no_form(s, type, who);
    for (const lang::Expr* clause : {s.pulses ? s.pulses->factor.get() : nullptr, s.filter.get(), s.noise.get()}) {
      if (clause == nullptr) continue;
      check_.error(Code::type_mismatch, clause->span,
                   fmt::format("{} measures {}; pulses, filters and noise are for real quantities", who,
                               describe(check_.program, type)));
    }
    return;
  }
  form(s, type, s.name, who, sensor);
  if (s.pulses) pulses(s, type, sensor);
  if (s.filter) sensor.filter = x_.check_span(*s.filter, scope(), "the time constant of the filter").value_or(Time{});
  if (s.noise) {
    Type difference = type;
    difference.absolute = false;
    const auto noise =
        check_.constant(x_.check_as(*s.noise, scope(), difference, "the noise"), s.noise->span, "the noise");
    sensor.noise = noise.value_or(0);
    sensor.noise_text = check_.program.sources->in_one_line(s.noise->span);
    if (sensor.noise < 0)
      check_.error(Code::out_of_limits, s.noise->span, "noise is a standard deviation and cannot be negative");
  }
}

/// Truth values, whole numbers and choices go as they are.
bool ChannelCheck::no_form(const lang::ChannelDecl& c, const Type& type, const std::string& who) {
  bool none = true;
  if (c.placed) return none;  // the rack says that it is on the wrong module
  for (const lang::Expr* clause :
       {c.range ? c.range->low.get() : nullptr, c.electrical ? c.electrical->low.get() : nullptr,
        c.counts ? c.counts->low.get() : nullptr, c.per ? c.per->factor.get() : nullptr,
        c.word ? c.word->bits.get() : nullptr}) {
    if (clause == nullptr) continue;
    none = false;
    check_.error(
        Code::type_mismatch, clause->span,
        fmt::format("{} is {}; ranges, counts and words are for real quantities", who, describe(check_.program, type)));
  }
  return none;
}

void ChannelCheck::form(const lang::ChannelDecl& c, const Type& type, const lang::Name& name, const std::string& who,
                        ChannelForm& form) {
  const ForChannel told(check_, c, name);
  if (c.range) {
    form.range = interval(*c.range, type, "the range");
    form.range_text = written(check_.program, *c.range);
  }
  electrical(c, type, name, who, form);
  if (c.counts && c.per) {
    check_.error(Code::duplicate, name.span, fmt::format("{} has more than one scale", who),
                 "keep one of `counts LOW .. HIGH` and `counts N per UNIT`");
    return;
  }
  if (c.counts) {
    if (!c.range && (c.electrical || c.curve)) return;  // said before
    if (!c.range) {
      check_.error(
          Code::missing, c.counts->low->span, fmt::format("{} has counts but no range", who),
          "add `range 0 m .. 10 m`: the values that the first and last count stand for; or write `counts 100 per` "
          "and a unit");
      return;
    }
    const auto counts = interval(*c.counts, kInteger, "the counts");
    if (counts && form.range)
      form.to_counts = Linear{form.range->first, form.range->second, counts->first, counts->second};
  } else if (c.per) {
    form.to_counts = by_factor(*c.per, type, type);
  }
  form.counts_text = counts_written(check_.program, c);
  if (c.word && form.counts == kNone)
    check_.error(Code::missing, c.word->bits->span, fmt::format("{} has a word but no counts", who),
                 "add `counts 0 .. 4095`, or `counts 100 per` and a unit");
  if (form.to_counts) word(c.word, name, who, c.counts.has_value(), *form.to_counts, form.word);
}

/// Pulses are counted over time: so many per litre of a flow in litres a second.
void ChannelCheck::pulses(const lang::SensorDecl& s, const Type& type, Sensor& sensor) {
  const std::string who = fmt::format("sensor `{}`", s.name.text);
  if (s.at) {
    check_.error(Code::wrong_kind, s.pulses->factor->span, "pulses are counted from one period to the next",
                 "give this sensor `every` and a period instead of `at`");
    return;
  }
  if (s.counts || s.per) {
    check_.error(Code::duplicate, s.name.span, fmt::format("{} has more than one scale", who),
                 "keep one of `counts LOW .. HIGH`, `counts N per UNIT` and `pulses N per UNIT`");
    return;
  }
  Type integral = type;
  integral.dimension = multiply(type.dimension, parse_unit("s")->dimension).value_or(Dimension{});
  sensor.pulses = true;
  sensor.to_counts = by_factor(*s.pulses, integral, integral);
  if (s.pulses->from)
    check_.error(Code::unexpected, s.pulses->from->span, "pulses have no beginning: each sample counts anew");
  sensor.counts_text = "pulses " + written(check_.program, *s.pulses) + sensor.counts_text;
  if (sensor.to_counts) word(s.word, s.name, who, false, *sensor.to_counts, sensor.word);
}

/// The electrical form: what the ends of the range are on the wire, or the value of a curve over it.
void ChannelCheck::electrical(const lang::ChannelDecl& c, const Type& type, const lang::Name& name,
                              const std::string& who, ChannelForm& form) {
  if (!c.electrical && !c.curve) {
    if (c.limits)
      check_.error(Code::missing, c.limits->low->span,
                   fmt::format("{} has limits of an electrical form that it does not have", who),
                   "say what the ends of the range are on the wire: `range 0 m .. 10 m as 4 mA .. 20 mA limits 3.8 mA "
                   ".. 20.5 mA`");
    return;
  }
  if (form.signal == kNone) return;
  const Type signal = check_.program.variable(form.signal).type;
  if (!c.range) {
    const std::string unit = type.absolute ? " degC" : type.dimension.none() ? "" : " " + si_unit(type.dimension).text;
    check_.error(Code::missing, name.span, fmt::format("{} has an electrical form but no range", who),
                 fmt::format("add `range 0{0} .. 1{0}`: the values at both ends", unit));
    return;
  }
  if (!signal.valid()) return;
  double least = 0, most = 0;
  if (c.curve) {
    curve(c, type, form);
    if (!form.curve) return;
    std::tie(least, most) = std::minmax(form.curve->signal.front(), form.curve->signal.back());
    form.electrical_text = c.curve->text;
  } else {
    form.electrical_text = written(check_.program, *c.electrical);
    const Typed high = x_.check(*c.electrical->high, scope());
    if (!high.valid()) return;
    if (high.type != signal) {
      check_.error(Code::unit_mismatch, c.electrical->high->span,
                   "both ends of the electrical range need the same unit");
      return;
    }
    const auto ends = interval(*c.electrical, signal, "the electrical range");
    if (!ends) return;
    std::tie(least, most) = *ends;
    if (form.range) form.to_signal = Linear{form.range->first, form.range->second, least, most};
  }
  if (!c.limits) return;
  form.signal_limits = interval(*c.limits, signal, "the limits");
  if (form.signal_limits && (form.signal_limits->first > least || form.signal_limits->second < most)) {
    check_.error(Code::out_of_limits, join(c.limits->low->span, c.limits->high->span),
                 fmt::format("the limits are within what the channel puts out, {} .. {}",
                             check_.program.format(form.signal, least), check_.program.format(form.signal, most)),
                 "limits are what it can give at most, beyond both ends of the range");
    form.signal_limits = std::nullopt;
  }
}

/// A function or table of one argument, taken at equal distances over the range: it has to be reversed.
void ChannelCheck::curve(const lang::ChannelDecl& c, const Type& type, ChannelForm& form) {
  if (!form.range) return;
  constexpr int kPieces = 1024;
  const Unit unit = type.absolute ? *parse_unit("degC") : si_unit(type.dimension);
  Characteristic curve{form.range->first, form.range->second, {}};
  const std::size_t nodes = check_.program.nodes.size();
  for (int i = 0; i <= kPieces; ++i) {
    lang::Expr call;
    call.kind = lang::ExprKind::call;
    call.span = c.curve->span;
    call.path = lang::Path(*c.curve);
    call.word = c.curve->text;
    call.args.push_back(std::make_unique<lang::Expr>());
    lang::Expr& at = *call.args[0];
    at.span = c.curve->span;
    at.value = unit.read(curve.first + (curve.last - curve.first) * i / kPieces);
    at.word = unit.text == "1" ? "" : unit.text;
    const Typed value = x_.check(call, scope());
    const auto number =
        value.valid() ? check_.constant(value.node, c.curve->span, "the electrical form") : std::nullopt;
    if (!number) return;
    curve.signal.push_back(*number);
  }
  check_.program.nodes.resize(nodes);  // only their values were wanted
  const auto wrong = [&](bool rising) {
    for (std::size_t i = 1; i < curve.signal.size(); ++i) {
      if (rising ? !(curve.signal[i] > curve.signal[i - 1]) : !(curve.signal[i] < curve.signal[i - 1])) return true;
    }
    return false;
  };
  if (wrong(true) && wrong(false)) {
    check_.error(Code::out_of_limits, c.curve->span,
                 fmt::format("`{}` neither rises nor falls throughout the range, so it cannot be read backwards",
                             c.curve->text));
    return;
  }
  form.curve = std::move(curve);
}

/// So many counts per unit, from a value whose count is 0.
std::optional<Linear> ChannelCheck::by_factor(const lang::PerUnit& per, const Type& type, const Type& from_type) {
  const auto factor = check_.constant(x_.check_as(*per.factor, scope(), {Type::Kind::real, {}, kNone}, "the factor"),
                                      per.factor->span, "the factor");
  Unit unit;
  const Type own = check_.type_of(per.unit, unit);
  if (!factor || !own.valid()) return std::nullopt;
  if (own.kind != Type::Kind::real || own.dimension != type.dimension) {
    check_.error(Code::unit_mismatch, per.unit.span,
                 fmt::format("counts per {} do not fit a quantity in {}", per.unit.text,
                             describe(check_.program, Type{Type::Kind::real, type.dimension, kNone})));
    return std::nullopt;
  }
  if (!(*factor != 0)) {
    check_.error(Code::out_of_limits, per.factor->span, "a factor of 0 makes every value the same");
    return std::nullopt;
  }
  double from = 0;
  if (per.from)
    from = check_
               .constant(x_.check_as(*per.from, scope(), from_type, "where the counts begin"), per.from->span,
                         "where the counts begin")
               .value_or(0);
  return Linear{from, from + unit.factor, 0, *factor};
}

/// What the word can hold; without a declaration the ends of the scale.
void ChannelCheck::word(const std::optional<lang::WordDecl>& declared, const lang::Name& name, const std::string& who,
                        bool has_ends, const Linear& scale, Word& word) {
  word.lowest = std::min(scale.low_to, scale.high_to);
  word.highest = std::max(scale.low_to, scale.high_to);
  if (!declared) {
    if (has_ends) return;
    check_.error(Code::missing, name.span, fmt::format("{} does not say how wide its word is", who),
                 "add `word 16 bit`, with `signed` and `wraps` where it is so");
    return;
  }
  const lang::Expr& bits = *declared->bits;
  const bool plain = bits.kind == lang::ExprKind::number && bits.word == "bit";
  if (!plain || bits.value < 1 || bits.value > 52 || bits.value != std::floor(bits.value)) {
    check_.error(Code::out_of_limits, bits.span, "the width of a word is 1 bit .. 52 bit",
                 "for example `word 16 bit signed`");
    return;
  }
  word.bits = static_cast<int>(bits.value);
  word.is_signed = declared->is_signed;
  word.wraps = declared->wraps;
  const double low = word.is_signed ? -std::ldexp(1, word.bits - 1) : 0;
  const double high = std::ldexp(1, word.is_signed ? word.bits - 1 : word.bits) - 1;
  if (has_ends && (word.lowest < low || word.highest > high)) {
    check_.error(Code::out_of_limits, bits.span,
                 fmt::format("the counts {} .. {} do not fit this word, which holds {:.0f} .. {:.0f}", word.lowest,
                             word.highest, low, high),
                 "make it wider, or the counts smaller");
  }
  word.lowest = low;
  word.highest = high;
}

void ChannelCheck::define_actuator(const lang::ActuatorDecl& a, Actuator& actuator) {
  const Type type = check_.program.variable(actuator.value).type;
  if (!type.valid()) return;
  const std::string who = fmt::format("actuator `{}`", a.name.text);
  if (type.kind != Type::Kind::real && !no_form(a, type, who)) return;
  edges(a, who, actuator);
  if (type.kind == Type::Kind::real) form(a, type, a.name, who, actuator);
  if (a.start) {
    const NodeId node = x_.check_as(*a.start, scope(), type, "the start value");
    actuator.start = check_.constant(node, a.start->span, "the start value").value_or(0);
  }
  if (a.safe)
    actuator.safe =
        check_.constant(x_.check_as(*a.safe, scope(), type, "the safe value"), a.safe->span, "the safe value");
  if (a.start) fits(actuator, actuator.start, a.start->span, "start");
  if (actuator.safe) fits(actuator, *actuator.safe, a.safe->span, "safe");
}

/// A gate is a digital channel with a clock of its own, through which edges come later.
void ChannelCheck::edges(const lang::ActuatorDecl& a, const std::string& who, Actuator& actuator) {
  for (const auto& [clause, word, to] : {std::tuple{a.clock.get(), "clock", &actuator.clock},
                                         std::tuple{a.latency.get(), "latency", &actuator.latency}}) {
    if (clause == nullptr) continue;
    if (!actuator.gate) {
      check_.error(
          Code::wrong_kind, clause->span, fmt::format("{} is no gate, so it has no `{}`", who, word),
          fmt::format("edges with instants of their own are those of a `gate`: `actuator {} : gate`", a.name.text));
      continue;
    }
    *to = x_.check_span(*clause, scope(), word == std::string("clock") ? "the clock" : "the latency").value_or(Time{});
  }
  constexpr Time kMost = std::chrono::seconds(1);
  for (const auto& [clause, value] : {std::pair{a.clock.get(), actuator.clock}, {a.latency.get(), actuator.latency}}) {
    if (clause != nullptr && value > kMost)
      check_.error(Code::out_of_limits, clause->span, "the clock and the latency of a gate are 1 s at most");
  }
}

/// What the channel cannot hold the plant cannot get.
void ChannelCheck::fits(const Actuator& actuator, double value, Span span, const char* which) {
  if (!actuator.to_counts || actuator.word.lowest >= actuator.word.highest) return;
  const Linear& l = *actuator.to_counts;
  const double counts =
      std::round(l.low_to + (value - l.low_from) * (l.high_to - l.low_to) / (l.high_from - l.low_from));
  if (counts >= actuator.word.lowest && counts <= actuator.word.highest) return;
  check_.error(Code::out_of_limits, span,
               fmt::format("the {} value is {:.0f} counts, and the channel holds {:.0f} .. {:.0f}", which, counts,
                           actuator.word.lowest, actuator.word.highest));
}

}  // namespace isodyne::check
