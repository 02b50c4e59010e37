// Rules of conditions, faults, scenarios, requirements, figures, cables and wirings.

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

bool Parser::judged_declaration(const std::string& doc) {
  if (t_.at("condition")) return condition(doc), true;
  if (t_.at("fault")) return fault(doc), true;
  if (t_.at("scenario")) return scenario(doc), true;
  if (t_.at("requirement")) return requirement(doc), true;
  if (t_.at("figure")) return figure(doc), true;
  if (t_.at("cables")) return cables(doc), true;
  if (t_.at("wiring")) return wiring(doc), true;
  return false;
}

// condition = "condition" name "=" expression
void Parser::condition(const std::string& doc) {
  t_.take();
  ConditionDecl c;
  c.doc = doc;
  c.name = t_.expect_name("the name of the condition");
  t_.expect("=", "and the condition");
  c.value = x_.expression();
  t_.expect_statement_end();
  document_.conditions.push_back(std::move(c));
}

// fault = "fault" name "{" "on" path kind [ expression ] [ "every" sum ] [ time ] "}"
void Parser::fault(const std::string& doc) {
  t_.take();
  FaultDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the fault");
  block("and where, what and when", [&] {
    if (t_.accept("on")) {
      f.target = x_.path("the name of what is faulty");
      t_.skip_newlines();
      f.kind = t_.expect_name("what goes wrong, such as `offset`, `drift`, `freeze`, `force` or `times`");
      const bool none = t_.at("}") || t_.at(TokenKind::newline) || t_.at("from") || t_.at("between") || t_.at("once") ||
                        t_.at("while") || t_.at("lasting") || t_.at("until") || t_.at("pulsing");
      if (!none) f.amount = x_.expression();
      if (t_.accept("every")) f.every = x_.sum();
    } else if (!fault_time(f)) {
      t_.fail("`on`, `from`, `between`, `once`, `while`, `lasting`, `until` or `pulsing`");
    }
  });
  document_.faults.push_back(std::move(f));
}

// time = [ "from" sum [ "to" sum ] | "between" sum "and" sum | "once" expression | "while" expression ]
//        [ "lasting" sum ] [ "until" expression ] [ "pulsing" sum "every" sum ]
bool Parser::fault_time(FaultDecl& f) {
  using Time = FaultDecl::Time;
  const auto begins = [&](Time time) {
    if (f.time != Time::whole_run)
      t_.diagnostics().error(Code::duplicate, t_.last_span(), "a fault begins in one way",
                             "make a second fault on the same place, and choose one of them for a run");
    f.time = time;
  };
  if (t_.accept("from")) {
    begins(Time::from);
    f.begin = x_.sum();
    if (t_.accept("to")) f.end = x_.sum();
  } else if (t_.accept("between")) {
    begins(Time::between);
    f.begin = x_.sum();
    t_.expect("and", "and the latest begin");
    f.end = x_.sum();
  } else if (t_.accept("once")) {
    begins(Time::once);
    f.condition = x_.expression();
  } else if (t_.accept("while")) {
    begins(Time::while_);
    f.condition = x_.expression();
  } else if (t_.accept("lasting")) {
    f.lasting = x_.sum();
  } else if (t_.accept("until")) {
    f.until = x_.expression();
  } else if (t_.accept("pulsing")) {
    f.pulse = x_.sum();
    t_.expect("every", "and the period, as in `pulsing 100 ms every 1 s`");
    f.period = x_.sum();
  } else {
    return false;
  }
  return true;
}

// scenario = "scenario" name "{" { action } "}"
void Parser::scenario(const std::string& doc) {
  t_.take();
  ScenarioDecl s;
  s.doc = doc;
  s.name = t_.expect_name("the name of the scenario");
  block("and what happens", [&] { s.steps.push_back(action()); });
  document_.scenarios.push_back(std::move(s));
}

// action = "start" path "=" expression | "set" path "=" expression | "ramp" path "to" expression "over" sum
//        | "wait" "until" expression "within" sum | "hold" sum
ScenarioStep Parser::action() {
  ScenarioStep s;
  const Span begin = t_.peek().span;
  const bool at_start = t_.at("start");
  if (at_start || t_.at("set")) {
    t_.take();
    s.kind = at_start ? ScenarioStep::Kind::start : ScenarioStep::Kind::set;
    s.target = x_.path("what to set");
    t_.expect("=", "and the value");
    s.value = x_.expression();
  } else if (t_.accept("ramp")) {
    s.kind = ScenarioStep::Kind::ramp;
    s.target = x_.path("what to move");
    t_.expect("to", "and the value to reach");
    s.value = x_.expression();
    t_.expect("over", "and how long it takes");
    s.duration = x_.sum();
  } else if (t_.accept("wait")) {
    s.kind = ScenarioStep::Kind::wait;
    t_.expect("until", "and what to wait for");
    s.value = x_.expression();
    t_.expect("within", "and the longest time to wait, such as `within 5 min`");
    s.duration = x_.sum();
  } else if (t_.accept("hold")) {
    s.kind = ScenarioStep::Kind::hold;
    s.duration = x_.sum();
  } else {
    t_.fail("an action", [&] {
      const auto meant = closest(t_.peek().text, {"start", "set", "ramp", "wait", "hold"});
      return meant ? fmt::format("did you mean `{}`?", *meant)
                   : std::string("actions are `start`, `set`, `ramp`, `wait until` and `hold`");
    }());
  }
  s.span = join(begin, t_.last_span());
  t_.expect_statement_end();
  return s;
}

// requirement = "requirement" label "{" [ "source" text ] formula "}"
// what = "always" formula | "never" formula | "eventually" formula | formula
//      | "whenever" formula "then" [ "within" sum ] formula
void Parser::requirement(const std::string& doc) {
  t_.take();
  RequirementDecl r;
  r.doc = doc;
  r.name = label();
  const std::size_t errors = t_.diagnostics().errors();
  block("and what must hold", [&] {
    const Span begin = t_.peek().span;
    if (t_.accept("source")) {
      r.source = t_.expect_text("where the requirement comes from, in quotes");
      return;
    }
    if (r.check) t_.fail("the end of the requirement", "one requirement states one formula; make a second one");
    using Form = RequirementDecl::Form;
    r.form = t_.accept("always")       ? Form::always
             : t_.accept("never")      ? Form::never
             : t_.accept("eventually") ? Form::eventually
             : t_.accept("whenever")   ? Form::whenever
                                       : Form::holds;
    if (r.form == Form::whenever) {
      r.trigger = x_.formula();
      t_.expect("then", "and what must follow");
      if (t_.accept("within")) r.within = x_.sum();
    }
    r.check = x_.formula();
    if (r.form == Form::holds && (r.check->kind != ExprKind::over_time || r.check->word != "until"))
      t_.diagnostics().error(Code::unexpected, r.check->span, "this does not say when it must hold",
                             "begin with `always`, `never`, `eventually` or `whenever`, or write `A until B`");
    r.span = join(begin, t_.last_span());
  });
  if (!r.check) {
    if (t_.diagnostics().errors() > errors) return;  // it says something, and that is wrong
    t_.diagnostics().error(Code::missing, r.name.span, fmt::format("requirement {} states no formula", r.name.text),
                           "add `always …`, `never …`, `eventually …` or `whenever … then …`");
    return;
  }
  document_.requirements.push_back(std::move(r));
}

/// Names of requirements may have dashes, dots and leading digits: every token up to the next blank.
Name Parser::label() {
  if (t_.at("{") || t_.at(TokenKind::newline) || t_.at_end()) t_.fail("the name of the requirement");
  Span span = t_.take().span;
  while (!t_.at("{") && !t_.at_end() && !t_.at(TokenKind::newline) && t_.peek().span.begin == span.end) {
    span = join(span, t_.take().span);
  }
  return {std::string(sources_.covered(span)), span};
}

// figure = "figure" name [ text ] "{" { "panel" path { "," path } } "}"
void Parser::figure(const std::string& doc) {
  t_.take();
  FigureDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the figure");
  if (t_.at(TokenKind::text)) f.title = t_.take().text;
  block("and the panels", [&] {
    t_.expect("panel", "and the signals to draw");
    std::vector<Path> panel;
    do panel.push_back(x_.path("a signal"));
    while (t_.accept(","));
    t_.expect_statement_end();
    f.panels.push_back(std::move(panel));
  });
  document_.figures.push_back(std::move(f));
}

// cables = "cables" name "{" { name "->" name } "}"
void Parser::cables(const std::string& doc) {
  t_.take();
  CablesDecl c;
  c.doc = doc;
  c.name = t_.expect_name("the name of the cable list");
  block("and the cables", [&] {
    CablesDecl::Cable cable;
    cable.from = t_.expect_name("a sensor: what the cable brings out");
    t_.expect("->", "and where it leads");
    cable.to = t_.expect_name("an actuator: what reads it back");
    t_.expect_statement_end();
    c.cables.push_back(std::move(cable));
  });
  document_.cables.push_back(std::move(c));
}

// wiring = "wiring" name "of" name "{" { wire } "}"
void Parser::wiring(const std::string& doc) {
  t_.take();
  WiringDecl w;
  w.doc = doc;
  w.name = t_.expect_name("the name of the wiring");
  t_.expect("of", "and the cable list that it belongs to");
  w.of = t_.expect_name("the name of a cable list");
  block("and what the wires do", [&] { w.wires.push_back(wire()); });
  document_.wirings.push_back(std::move(w));
}

// wire = name ( "open" | "->" name [ "inverted" ] [ "times" sum ] [ "noise" sum ] [ "stuck" sum ] )
WiringDecl::Wire Parser::wire() {
  WiringDecl::Wire w;
  w.span = t_.peek().span;
  w.from = t_.expect_name("a sensor: where the wire begins");
  if (!t_.accept("open")) {
    t_.expect("->", "and where it leads, or `open`");
    w.to = t_.expect_name("an actuator: where the wire ends");
    w.inverted = t_.accept("inverted");
    if (t_.accept("times")) w.times = x_.sum();
    if (t_.accept("noise")) w.noise = x_.sum();
    if (t_.accept("stuck")) w.stuck = x_.sum();
  }
  w.span = join(w.span, t_.last_span());
  t_.expect_statement_end();
  return w;
}

}  // namespace isodyne::lang
