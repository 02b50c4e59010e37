// Rules of conditions, faults, requirements, figures, cables and wirings.

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

bool Parser::judged_declaration(const std::string& doc) {
  if (t_.at("condition")) return condition(doc), true;
  if (t_.at("fault")) return fault(doc), true;
  if (t_.at("scenario")) return scenario(doc), true;
  if (t_.at("values")) return values(doc), true;
  if (t_.at("compose")) return compose(), true;
  if (t_.at("expectation")) return expectation(doc), true;
  if (t_.at("requirement")) return requirement(doc), true;
  if (t_.at("harness")) return harness(doc), true;
  if (t_.at("measure")) return measure(doc), true;
  if (t_.at("figure")) return figure(doc), true;
  if (t_.at("panel")) return panel(doc), true;
  if (t_.at("cables")) return cables(doc), true;
  if (t_.at("wiring")) return wiring(doc), true;
  return assurance_declaration(doc);
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

// fault = "fault" name "{" "on" path what [ time ] { memory | change } "}"
void Parser::fault(const std::string& doc) {
  t_.take();
  FaultDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the fault");
  block("and where, what and when", [&] {
    if (t_.accept("on")) {
      f.target = x_.path("the name of what is faulty");
      t_.skip_newlines();
      // Else what it does stands below, or behind its time.
      if (!t_.at("memory") && !t_.peek(1).is(":=") && !at_fault_time()) fault_kind(f);
    } else if (t_.at("memory")) {
      fault_memory(f);
    } else if (t_.peek(1).is(":=")) {
      FaultDecl::Change c;
      c.target = t_.expect_name("the name of a memory");
      t_.expect(":=", "and its new value");
      c.value = x_.expression();
      t_.expect_statement_end();
      f.changes.push_back(std::move(c));
    } else if (fault_time(f)) {
      return;
    } else if (t_.at("at")) {
      t_.fail("`from`, `between` or `once`",
              "the time of a fault is written `from 2 s`, `between 2 s and 5 s` or `once level > 3 m`");
    } else if (!f.target.parts.empty() && f.kind.text.empty() && t_.at(TokenKind::name)) {
      fault_kind(f);
    } else {
      t_.fail("`on`, `from`, `between`, `once`, `while`, `by hand`, `lasting`, `until`, `pulsing` or `memory`");
    }
  });
  document_.faults.push_back(std::move(f));
}

bool Parser::at_fault_time() const {
  return t_.at("from") || t_.at("between") || t_.at("once") || t_.at("while") || t_.at("lasting") || t_.at("until") ||
         t_.at("pulsing") || (t_.at("by") && t_.peek(1).is("hand"));
}

// what = word [ "with" ( path | expression ) | [ "to" ] expression ] [ "over" sum ] [ "every" sum ]
//        | "short" [ "to" path ] [ "through" sum ]
void Parser::fault_kind(FaultDecl& f) {
  f.kind = t_.expect_name("what goes wrong, such as `offset`, `drift`, `freeze`, `force` or `times`");
  if (f.kind.text == "swap") {
    t_.expect("with", "and the other one");
    f.other = x_.path("what it is swapped with");
    return;
  }
  if (f.kind.text == "replace") t_.expect("with", "and the value that takes its place, such as `replace with it * 2`");
  if (f.kind.text == "ramp") t_.expect("to", "and the value that it moves to");
  if (f.kind.text == "short" && t_.accept("to")) f.other = x_.path("the place that it is shorted with, or `ground`");
  if (f.kind.text == "short" && t_.accept("through")) {
    f.through = x_.sum();
    return;
  }
  if (f.other) return;
  const bool none = t_.at("}") || t_.at(TokenKind::newline) || at_fault_time();
  if (!none) f.amount = x_.expression();
  if (t_.accept("over")) f.over = x_.sum();
  if (t_.accept("every")) f.every = x_.sum();
}

// memory = "memory" name ":" type "=" expression
void Parser::fault_memory(FaultDecl& f) {
  t_.take();
  FaultDecl::Memory m;
  m.name = t_.expect_name("the name of what the fault remembers");
  t_.expect(":", "and its unit");
  m.type = x_.type();
  t_.expect("=", "and what it is when the fault begins");
  m.value = x_.expression();
  t_.expect_statement_end();
  f.memories.push_back(std::move(m));
}

// time = [ "from" sum [ "to" sum ] | "between" sum "and" sum | "once" expression | "while" expression | "by" "hand" ]
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
  } else if (t_.at("by") && t_.peek(1).is("hand")) {
    t_.take();
    t_.take();
    begins(Time::by_hand);
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

// compose = "compose" name "," name { "," name }
void Parser::compose() {
  ComposeDecl c;
  c.span = t_.take().span;
  do c.faults.push_back(t_.expect_name("a fault"));
  while (t_.accept(","));
  c.span = join(c.span, t_.last_span());
  t_.expect_statement_end();
  if (c.faults.size() < 2)
    t_.diagnostics().error(Code::missing, c.span, "one fault alone needs no order",
                           "name those that may act on one place together: `compose drift, noise`");
  document_.compositions.push_back(std::move(c));
}

// expectation = "expectation" label "{" [ "source" text ] "act" "is" formula { row } "}"
// row = "must" [ "not" ] "act" "on" path { "," path } "within" sum
void Parser::expectation(const std::string& doc) {
  t_.take();
  ExpectationDecl e;
  e.doc = doc;
  e.name = label();
  block("and what must act on what", [&] {
    if (t_.accept("source")) {
      e.source = t_.expect_text("where the expectation comes from, in quotes");
    } else if (t_.accept("act")) {
      t_.expect("is", "and what it is to act, such as `act is relay.trip`");
      e.act = x_.formula();
    } else {
      e.rows.push_back(expectation_row());
    }
  });
  if (!e.act)
    t_.diagnostics().error(Code::missing, e.name.span,
                           fmt::format("expectation {} does not say what it is to act", e.name.text),
                           "add `act is relay.trip`");
  else if (e.rows.empty())
    t_.diagnostics().error(Code::missing, e.name.span, fmt::format("expectation {} expects nothing", e.name.text),
                           "add `must act on NAME within 1 s` or `must not act on NAME within 1 s`");
  else
    document_.expectations.push_back(std::move(e));
}

ExpectationDecl::Row Parser::expectation_row() {
  ExpectationDecl::Row row;
  row.span = t_.peek().span;
  t_.expect("must", "as in `must act on NAME within 1 s`, or `must not act on …`");
  row.must = !t_.accept("not");
  t_.expect("act", "as in `must act on NAME within 1 s`");
  t_.expect("on", "and what it has to act on");
  do row.on.push_back(x_.path("a fault or a condition"));
  while (t_.accept(","));
  t_.expect("within", row.must ? "and how soon" : "and for how long it must not");
  row.within = x_.sum();
  row.span = join(row.span, t_.last_span());
  return row;
}

// requirement = "requirement" label "{" [ "id" text ] [ "source" text ] [ "level" text ] [ "allocated" "to" paths ] (
// what | "by" "review" ) "}" what = "always" formula | "never" formula | "eventually" formula | formula
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
    if (t_.at("id") && t_.peek(1).kind == TokenKind::text) {
      t_.take();
      r.id = t_.expect_text("the identifier, in quotes");
      return;
    }
    if (t_.at("level") && t_.peek(1).kind == TokenKind::text) {
      t_.take();
      r.level = t_.expect_text("the level, in quotes");
      return;
    }
    if (t_.at("allocated") && t_.peek(1).is("to")) {
      t_.take();
      t_.take();
      r.allocated = paths("a part or a controller");
      return;
    }
    if (t_.at("by") && t_.peek(1).is("review")) {
      t_.take();
      r.span = join(begin, t_.take().span);
      r.by_review = true;
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
  if (!r.check && !r.by_review) {
    if (t_.diagnostics().errors() > errors) return;  // it says something, and that is wrong
    t_.diagnostics().error(
        Code::missing, r.name.span, fmt::format("requirement {} states no formula", r.name.text),
        "add `always …`, `never …`, `eventually …` or `whenever … then …`; or `by review`, if no run can tell");
    return;
  }
  document_.requirements.push_back(std::move(r));
}

/// Names of requirements may have dashes, dots and leading digits: every token up to the next blank.
Name Parser::label(const char* what) {
  if (t_.at("{") || t_.at("}") || t_.at(",") || t_.at(TokenKind::newline) || t_.at_end()) t_.fail(what);
  Span span = t_.take().span;
  while (!t_.at("{") && !t_.at(",") && !t_.at_end() && !t_.at(TokenKind::newline) && t_.peek().span.begin == span.end) {
    span = join(span, t_.take().span);
  }
  return {std::string(sources_.covered(span)), span};
}

// harness = "harness" name "of" name "{" { path "=" ( expression | "from" file ) } "}"
void Parser::harness(const std::string& doc) {
  t_.take();
  HarnessDecl h;
  h.doc = doc;
  h.name = t_.expect_name("the name of the harness");
  t_.expect("of", "and the part or the controller that is taken out");
  h.of = t_.expect_name("a part or a controller of the bench");
  block("and what its inputs get", [&] {
    HarnessDecl::Given g;
    g.target = x_.path("an input");
    t_.expect("=", "and what it gets");
    g.value = t_.accept("from") ? x_.from_file() : x_.expression();
    t_.expect_statement_end();
    h.given.push_back(std::move(g));
  });
  document_.harnesses.push_back(std::move(h));
}

// measure = "measure" name "{" { "of" expression | what | window } "}"
void Parser::measure(const std::string& doc) {
  t_.take();
  MeasureDecl m;
  m.doc = doc;
  m.name = t_.expect_name("the name of the measure");
  m.span = m.name.span;
  block("and what is measured, how and when", [&] {
    if (t_.accept("of")) {
      m.of = x_.expression();
    } else if (!measure_window(m) && !measure_clause(m)) {
      if (!m.kind.text.empty())
        t_.fail("a clause of the measure, or the end", "a measure is of one kind; make a second one");
      m.kind = t_.expect_name("what is measured, such as `mean`, `overshoot` or `settling_time`");
      if (t_.at(TokenKind::number)) m.number = x_.sum();
    }
    m.span = join(m.name.span, t_.last_span());
  });
  const bool whole = m.of && !m.kind.text.empty();
  if (!whole)
    t_.diagnostics().error(Code::missing, m.name.span,
                           fmt::format("measure `{}` does not say what it is of, or what it is", m.name.text),
                           "for example `of level  mean  over 0 s .. 10 s`");
  else
    document_.measures.push_back(std::move(m));
}

// what = word [ sum ] { "to" expression | "within" sum | "between" sum "and" sum | "at" sum | "against" expression }
bool Parser::measure_clause(MeasureDecl& m) {
  if (t_.accept("to")) {
    m.to = x_.sum();
  } else if (t_.accept("within")) {
    m.within = x_.sum();
  } else if (t_.accept("between")) {
    m.low = x_.sum();
    t_.expect("and", "and the second share, as in `between 10 % and 90 %`");
    m.high = x_.sum();
  } else if (t_.accept("at")) {
    m.at = x_.sum();
  } else if (t_.accept("against")) {
    m.against = x_.sum();
  } else {
    return false;
  }
  return true;
}

// window = "over" sum ".." sum | "after" expression [ "for" sum | "until" expression ] | "while" expression | "per" sum
bool Parser::measure_window(MeasureDecl& m) {
  using Window = MeasureDecl::Window;
  const Window before = m.window;
  if (t_.accept("over")) {
    m.window = Window::over;
    m.begin = x_.sum();
    t_.expect("..", "and the end, as in `over 10 s .. 20 s`");
    m.end = x_.sum();
  } else if (t_.accept("after")) {
    m.window = Window::after;
    m.begin = x_.expression();
    if (t_.accept("for"))
      m.lasting = x_.sum();
    else if (t_.accept("until"))
      m.until = x_.expression();
  } else if (t_.accept("while")) {
    m.window = Window::while_;
    m.begin = x_.expression();
  } else if (t_.accept("per")) {
    m.window = Window::per;
    m.begin = x_.sum();
  } else {
    return false;
  }
  if (before != Window::whole_run)
    t_.diagnostics().error(Code::duplicate, t_.last_span(), "a measure has one window", "make a second measure");
  return true;
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

namespace {
const std::vector<std::string> kOnPanels = {"show", "bar", "lamp", "choose", "press", "toggle", "slide", "trace"};
}  // namespace

// panel = "panel" name [ text ] "{" { word path { "," path } [ text ] [ "from" sum "to" sum ] [ "by" sum ]
// [ "over" sum ] } "}"
void Parser::panel(const std::string& doc) {
  t_.take();
  PanelDecl p;
  p.doc = doc;
  p.name = t_.expect_name("the name of the panel");
  if (t_.at(TokenKind::text)) p.title = t_.take().text;
  block("and what is on it", [&] {
    PanelDecl::Item i;
    const Span begin = t_.peek().span;
    if (std::none_of(kOnPanels.begin(), kOnPanels.end(), [&](const std::string& word) { return t_.at(word); })) {
      const auto meant = did_you_mean(t_.peek().text, kOnPanels);
      t_.fail("something on a panel", meant.value_or("on a panel are: " + listed(kOnPanels)));
    }
    i.word = t_.expect_name("what is on it");
    do i.what.push_back(x_.path("what it is about"));
    while (t_.accept(","));
    if (t_.at(TokenKind::text)) i.label = t_.take().text;
    if (t_.accept("from")) {
      i.from = x_.sum();
      t_.expect("to", "and the upper end");
      i.to = x_.sum();
    }
    if (t_.accept("by")) i.by = x_.sum();
    if (t_.accept("over")) i.over = x_.sum();
    i.span = join(begin, t_.last_span());
    t_.expect_statement_end();
    p.items.push_back(std::move(i));
  });
  document_.panels.push_back(std::move(p));
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
