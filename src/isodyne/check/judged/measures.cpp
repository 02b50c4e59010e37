#include "isodyne/check/judged/measures.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

struct MeasureKindEntry {
  MeasureKind kind;
  const char* word;
  std::string_view signal, clauses, result;
};

constexpr MeasureKindEntry kMeasureKinds[] = {
#define MEASURE(id, word, signal, clauses, result, meaning) {MeasureKind::id, word, #signal, clauses, #result},
#include "isodyne/program/measures.def"
#undef MEASURE
};

const MeasureKindEntry* measure_kind_named(const std::string& word) {
  const auto* found =
      std::find_if(std::begin(kMeasureKinds), std::end(kMeasureKinds), [&](const auto& k) { return word == k.word; });
  return found == std::end(kMeasureKinds) ? nullptr : found;
}

}  // namespace

void Measures::declare() {
  for (const lang::MeasureDecl& m : check_.document.measures) {
    Variable v;
    v.role = Role::measure;
    v.doc = m.doc;
    check_.define(check_.root, m.name, std::move(v));  // its type is known once it is defined
  }
}

void Measures::define() {
  for (const lang::MeasureDecl& m : check_.document.measures) measure(m);
}

void Measures::measure(const lang::MeasureDecl& m) {
  const auto found = check_.root.variables.find(m.name.text);
  if (found == check_.root.variables.end() || check_.program.variable(found->second).span.begin != m.name.span.begin)
    return;
  const MeasureKindEntry* kind = measure_kind_named(m.kind.text);
  if (kind == nullptr) {
    std::vector<std::string> words;
    for (const MeasureKindEntry& k : kMeasureKinds) words.emplace_back(k.word);
    report_unknown_word(check_, m.kind, "measure", words);
    return;
  }
  Measure made;
  made.kind = kind->kind;
  made.name = m.name.text;
  made.doc = m.doc;
  made.value = found->second;
  made.span = m.name.span;
  made.text = check_.program.sources->in_one_line({m.span.source, m.name.span.end, m.span.end});
  made.text.erase(0, made.text.find_first_not_of("{ "));
  Typed of;
  const bool good = signal(m, kind->signal, made, of) && clauses(m, kind->clauses, made, of) && window(m, made);
  if (!good || !result(m, kind->result, made, of)) return;
  check_.program.measures.push_back(std::move(made));
}

bool Measures::signal(const lang::MeasureDecl& m, std::string_view rule, Measure& made, Typed& of) {
  of = x_.check(*m.of, scope());
  if (!of.valid()) return false;
  const bool fits = rule == "truth" ? of.type.kind == Type::Kind::boolean : of.type.numeric();
  if (!fits || of.type.size > 0) {
    check_.error(
        Code::type_mismatch, m.of->span,
        fmt::format("`{}` is about {}, but this is {}", m.kind.text,
                    rule == "truth" ? "what is true or false" : "a number", describe(check_.program, of.type)));
    return false;
  }
  made.of = of.node;
  if (rule == "energy" || made.kind == MeasureKind::energy) {
    if (of.type.dimension != parse_unit("W")->dimension) {
      check_.error(
          Code::unit_mismatch, m.of->span,
          fmt::format("`energy` is the integral of a power, but this is {}", describe(check_.program, of.type)),
          "use `integral`");
      return false;
    }
  }
  return true;
}

std::optional<double> Measures::number(const lang::ExprPtr& e, const char* what, const Dimension& dimension) {
  const NodeId node = x_.check_as(*e, scope(), {Type::Kind::real, dimension, kNone}, what);
  return node == kNone ? std::nullopt : check_.constant(node, e->span, what);
}

/// Whether the clauses that were written are those that the kind takes.
bool Measures::takes(const lang::MeasureDecl& m, std::string_view taken) {
  struct Clause {
    char letter;
    const lang::ExprPtr* e;
    const char* word;
    const char* example;
  };
  const Clause all[] = {{'t', &m.to, "to", "to 5 m"},
                        {'w', &m.within, "within", "within 5 cm"},
                        {'b', &m.low, "between", ""},
                        {'f', &m.at, "at", "at 50 Hz"},
                        {'a', &m.against, "against", "against other.signal"},
                        {'n', &m.number, "number", "harmonic 5 at 50 Hz"}};
  const std::size_t open = taken.find('(');
  bool good = true;
  for (const Clause& c : all) {
    const std::size_t at = taken.find(c.letter);
    const bool known = at != std::string_view::npos, optional = known && open != std::string_view::npos && at > open;
    if (*c.e && !known) {
      check_.error(Code::unexpected, (*c.e)->span, fmt::format("`{}` takes no `{}`", m.kind.text, c.word));
      good = false;
    }
    if (!*c.e && known && !optional) {
      check_.error(Code::missing, m.kind.span, fmt::format("`{}` needs `{}`", m.kind.text, c.word),
                   fmt::format("for example `{}`", c.example));
      good = false;
    }
  }
  return good;
}

bool Measures::clauses(const lang::MeasureDecl& m, std::string_view taken, Measure& made, const Typed& of) {
  if (!takes(m, taken)) return false;
  Type difference = of.type;
  difference.absolute = false;
  if (m.to && (made.to = x_.check_as(*m.to, scope(), of.type, "where it should arrive")) == kNone) return false;
  if (m.within && (made.within = x_.check_as(*m.within, scope(), difference, "the distance")) == kNone) return false;
  if (m.low) {
    const auto low = number(m.low, "a share of the way"), high = number(m.high, "a share of the way");
    if (!low || !high) return false;
    if (!(*low >= 0 && *low < *high && *high <= 1)) {
      check_.error(Code::out_of_limits, m.low->span, "the shares rise, and lie between 0 % and 100 %");
      return false;
    }
    made.low = *low;
    made.high = *high;
  }
  if (m.at) {
    const auto hertz = number(m.at, "the frequency", parse_unit("Hz")->dimension);
    if (!hertz) return false;
    if (*hertz <= 0) {
      check_.error(Code::out_of_limits, m.at->span, "a frequency is above 0 Hz");
      return false;
    }
    made.at = *hertz;
  }
  if (m.against) {
    const Typed other = x_.check(*m.against, scope());
    if (!other.valid()) return false;
    if (!other.type.numeric() || other.type.size > 0) {
      check_.error(Code::type_mismatch, m.against->span, "a phase is against another signal, which is a number");
      return false;
    }
    made.against = other.node;
  }
  if (m.number) {
    const auto n = number(m.number, "the number of the harmonic");
    if (!n) return false;
    if (*n < 1 || *n > 1000 || *n != std::floor(*n)) {
      check_.error(Code::out_of_limits, m.number->span, "a harmonic has a whole number from 1 to 1000");
      return false;
    }
    made.number = static_cast<int>(*n);
  }
  return true;
}

bool Measures::result(const lang::MeasureDecl& m, std::string_view rule, Measure& made, const Typed& of) {
  Variable& v = check_.program.variables[static_cast<std::size_t>(made.value)];
  Type type{Type::Kind::real, {}, kNone};
  const Dimension second = parse_unit("s")->dimension;
  const auto times = [&](Dimension d, const Dimension& other) { return multiply(d, other); };
  std::optional<Dimension> d;
  Unit unit;
  if (rule == "same") {
    d = of.type.dimension;
    unit = of.shown;
    const bool position =
        made.kind == MeasureKind::mean || made.kind == MeasureKind::least || made.kind == MeasureKind::most;
    type.absolute = of.type.absolute && position;
    if (of.type.absolute && !position) unit = si_unit(of.type.dimension);
  } else if (rule == "time") {
    d = second;
    unit = *parse_unit("s");
  } else if (rule == "share") {
    d = Dimension{};
    unit = *parse_unit("%");
  } else if (rule == "frequency") {
    unit = *parse_unit("Hz");
    d = unit.dimension;
  } else if (rule == "angle") {
    unit = *parse_unit("deg");
    d = unit.dimension;
  } else if (rule == "count") {
    d = Dimension{};
    unit = *parse_unit("1");
  } else if (rule == "energy") {
    unit = *parse_unit("J");
    d = unit.dimension;
  } else {
    d = times(of.type.dimension, second);
    if (d && rule == "square") d = times(*d, of.type.dimension);
    if (d && rule == "weighted") d = times(*d, second);
    if (d) unit = si_unit(*d);
  }
  if (!d) {
    check_.error(Code::unit_mismatch, m.of->span,
                 fmt::format("the unit of `{}` of this is beyond all bounds", m.kind.text));
    return false;
  }
  type.dimension = *d;
  v.type = type;
  v.unit = unit;
  return true;
}

bool Measures::window(const lang::MeasureDecl& m, Measure& made) {
  using Window = lang::MeasureDecl::Window;
  made.window = static_cast<Measure::Window>(m.window);
  const auto span = [&](const lang::ExprPtr& e, const char* what, Time& to) {
    const auto time = x_.check_span(*e, scope(), what);
    to = time.value_or(Time{});
    return time.has_value();
  };
  switch (m.window) {
    case Window::whole_run:
      return true;
    case Window::over:
      if (!span(m.begin, "the begin", made.begin) || !span(m.end, "the end", made.end)) return false;
      if (made.end > made.begin) return true;
      check_.error(Code::out_of_limits, m.end->span, "the stretch ends before it begins");
      return false;
    case Window::per:
      if (!span(m.begin, "the period", made.end)) return false;
      if (made.end.count() > 0) return true;
      check_.error(Code::bad_period, m.begin->span, "a period is longer than 0 s");
      return false;
    case Window::while_:
      made.event = x_.check_truth(*m.begin, scope(), "what follows `while`");
      return made.event != kNone;
    case Window::after:
      made.event = x_.check_truth(*m.begin, scope(), "what follows `after`");
      if (m.lasting && (!span(m.lasting, "how long is measured", made.end) || made.end.count() == 0)) return false;
      if (m.until && (made.until = x_.check_truth(*m.until, scope(), "what follows `until`")) == kNone) return false;
      return made.event != kNone;
  }
  return false;
}

}  // namespace isodyne::check
