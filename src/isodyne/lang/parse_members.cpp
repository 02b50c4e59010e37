// Rules of models: variables, parts, equations, state machines, sampled and event-driven assignments.

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

// model = ( "model" | "element" ) name "{" { member | unit | table-head | rated } "}"
void Parser::model(const std::string& doc) {
  ModelDecl m;
  m.element = t_.take().is("element");
  m.doc = doc;
  m.name = t_.expect_name(m.element ? "the name of the element" : "the name of the model");
  block("and what it is made of", [&] {
    const std::string member_doc = docs();
    if (model_member(m, member_doc)) return;
    if (!member(m, member_doc)) t_.fail("a declaration or an equation", unknown_statement(kMembers));
  });
  document_.models.push_back(std::move(m));
}

bool Parser::model_member(ModelDecl& m, const std::string& doc) {
  if (equation_follows()) return false;
  if (t_.at("unit")) return unit(m, doc), true;
  if (t_.at("table")) return model_table(m, doc), true;
  if (t_.at("rated")) return rated(m, doc, false), true;
  return false;
}

// unit = "unit" name "=" unit-text
void Parser::unit(ModelDecl& m, const std::string& doc) {
  t_.take();
  UnitDecl u;
  u.doc = doc;
  u.name = t_.expect_name("the name of the unit");
  t_.expect("=", "and the unit that it usually is");
  u.usual = t_.expect_unit();
  t_.expect_statement_end();
  m.units.push_back(std::move(u));
}

/// A table that each part is given.
void Parser::model_table(ModelDecl& m, const std::string& doc) {
  m.tables.push_back(table_head(doc));
  const TableDecl& d = m.tables.back();
  if (t_.at("=") || t_.at("from"))
    t_.fail("the end of the statement",
            fmt::format("values stand outside of models; a part is then given the table: `({} = …)`", d.name.text));
  t_.expect_statement_end();
}

// rated = "rated" [ path ] [ text ] "{" { given | expect | "after" sum | "step" sum } "}"
void Parser::rated(ModelDecl& m, const std::string& doc, bool in_bench) {
  RatedDecl r;
  r.doc = doc;
  r.span = t_.take().span;
  if (in_bench) r.part = x_.path("the part that this is about");
  if (t_.at(TokenKind::text)) r.source = t_.take().text;
  block("and the rated conditions", [&] {
    rated_line(r);
    t_.expect_statement_end();
  });
  m.rated.push_back(std::move(r));
}

// given = "given" path "=" expression ; expect = "expect" sum "=" sum "within" sum
void Parser::rated_line(RatedDecl& r) {
  const Span begin = t_.peek().span;
  if (t_.accept("given")) {
    RatedDecl::Given g;
    g.target = x_.path("an input or a parameter");
    t_.expect("=", "and its value");
    g.value = x_.expression();
    r.given.push_back(std::move(g));
  } else if (t_.accept("expect")) {
    RatedDecl::Expect e;
    e.quantity = x_.sum();
    t_.expect("=", "and the expected value");
    e.value = x_.sum();
    t_.expect("within", "and the tolerance, such as `within 2 %`");
    e.tolerance = x_.sum();
    e.span = join(begin, t_.last_span());
    r.expected.push_back(std::move(e));
  } else if (t_.accept("after")) {
    r.after = x_.sum();
  } else if (t_.accept("step")) {
    r.step = x_.sum();
  } else {
    t_.fail("`given`, `expect`, `after` or `step`");
  }
}

// member = [ "private" ] ( variable | part ) | terminal | node | modes | every | when | solve | loop | variant |
// equation
bool Parser::member(Members& m, const std::string& doc) {
  if (t_.at("if")) return variant(m), true;
  if (!equation_follows()) {
    const bool is_private = t_.accept("private");
    if (variable(m, doc, is_private)) return true;
    if (t_.at("part")) return part(m, doc, is_private), true;
    if (!is_private && (t_.at("terminal") || t_.at("node"))) return place(m, doc), true;
    if (is_private) t_.fail("a declaration that can be private: a quantity or a part");
    if (t_.at("modes")) return m.modes.push_back(modes(doc)), true;
    if (t_.at("every")) return every(m), true;
    if (t_.at("when")) return when(m), true;
    if (t_.at("solve")) return solve(m, doc), true;
    if (t_.at("for")) return loop(m), true;
  }
  if (!equation_follows()) return false;
  equation(m);
  return true;
}

bool Parser::variable_kind(VarDecl& v) {
  if (t_.accept("param")) {
    v.kind = VarKind::param;
  } else if (t_.at("fixed") && t_.peek(1).is("param")) {
    t_.take();
    t_.take();
    v.kind = VarKind::fixed_param;
  } else if (t_.accept("input")) {
    v.kind = VarKind::input;
  } else if (t_.accept("let")) {
    v.kind = VarKind::let;
  } else if (t_.at("output") || t_.at("state") || t_.at("memory")) {
    v.is_output = t_.accept("output");
    v.kind = VarKind::output;
    const bool qualified = !v.is_output || t_.peek(1).kind == TokenKind::name;
    if (qualified && t_.at("state")) v.kind = VarKind::state;
    if (qualified && t_.at("memory")) v.kind = VarKind::memory;
    if (v.kind != VarKind::output) t_.take();
  } else {
    return false;
  }
  return true;
}

// variable = [ "fixed" ] "param" names | "input" names | [ "output" ] ( "state" | "memory" ) names
//          | "output" names | "let" names
// names = name { "," name } [ ":" type ] [ "=" expression ] [ "from" sum "to" sum ] [ "limited" sum ".." sum ]
bool Parser::variable(Members& m, const std::string& doc, bool is_private) {
  VarDecl v;
  if (!variable_kind(v)) return false;
  v.doc = doc;
  v.is_private = is_private;
  std::vector<Name> names;
  do names.push_back(t_.expect_name("a name"));
  while (t_.accept(","));
  if (t_.at("["))
    t_.fail("`:` and a unit", fmt::format("a vector has its size after the unit: `{} : m[3]`", names.back().text));
  if (t_.accept(":")) v.type = x_.type();
  if (v.kind == VarKind::output && t_.at("=")) {
    t_.fail("the end of the statement",
            fmt::format("an output gets its value from an equation of its own: `{} = …`", names.front().text));
  }
  if (t_.accept("=")) v.value = x_.expression();
  if (names.size() > 1 && t_.at(","))
    t_.fail("the end of the statement", "several names in one declaration have no values: give each its own line");
  bounds(v);
  t_.expect_statement_end();
  if (names.size() > 1 && (v.value || v.lowest)) {
    t_.diagnostics().error(Code::unexpected, names[1].span, "several names in one declaration cannot share a value",
                           "give each its own line");
  }
  for (std::size_t i = 1; i < names.size(); ++i) {
    VarDecl& other = m.variables.emplace_back();
    other.kind = v.kind;
    other.is_output = v.is_output;
    other.is_private = is_private;
    other.name = names[i];
    other.type = v.type;
    other.doc = v.doc;
  }
  v.name = names.front();
  m.variables.insert(m.variables.end() - static_cast<std::ptrdiff_t>(names.size() - 1), std::move(v));
  return true;
}

void Parser::bounds(VarDecl& v) {
  if (v.kind == VarKind::state && t_.accept("limited")) {
    v.lowest = x_.sum();
    t_.expect("..", "between the two limits");
    v.highest = x_.sum();
  } else if ((v.kind == VarKind::param || v.kind == VarKind::fixed_param) && t_.accept("from")) {
    v.lowest = x_.sum();
    t_.expect("to", "and the largest value");
    v.highest = x_.sum();
  }
}

// terminal = "terminal" name { "," name } ":" kind [ "[" sum "]" ] [ "=" "open" ]
// node = "node" name { "," name } ":" kind [ "[" sum "]" ]
void Parser::place(Members& m, const std::string& doc) {
  PlaceDecl d;
  d.doc = doc;
  d.terminal = t_.take().is("terminal");
  std::vector<Name> names;
  do names.push_back(t_.expect_name(d.terminal ? "the name of the terminal" : "the name of the node"));
  while (t_.accept(","));
  if (t_.at("["))
    t_.fail("`:` and a kind",
            fmt::format("a vector has its size after the kind: `{} : electric[3]`", names.back().text));
  t_.expect(":", "and its kind, such as `electric`");
  d.kind = t_.expect_name("its kind, such as `electric`");
  if (t_.accept("[")) {
    d.size = x_.sum();
    t_.expect("]", "after the number of places");
  }
  if (d.terminal && t_.accept("=")) {
    t_.expect("open", "because nothing needs to lie there");
    d.open = true;
  }
  t_.expect_statement_end();
  for (const Name& name : names) {
    d.name = name;
    m.places.push_back(d);
  }
}

// placed = "at" places | "between" lies "," lies { "," lies } ; lies = [ name "=" ] places
void Parser::placed(PartDecl& p) {
  const Span begin = t_.peek().span;
  if (t_.accept("at")) {
    p.lies.push_back(lies(false));
  } else if (t_.accept("between")) {
    do p.lies.push_back(lies(true));
    while (t_.accept(","));
  } else {
    return;
  }
  p.placed = join(begin, t_.last_span());
}

// places = path | "[" path { "," path } "]"
PartDecl::Lies Parser::lies(bool may_be_named) {
  PartDecl::Lies l;
  const Span begin = t_.peek().span;
  if (may_be_named && t_.at(TokenKind::name) && t_.peek(1).is("=")) {
    l.terminal = t_.expect_name("the name of a terminal");
    t_.expect("=", "and where it lies");
  }
  l.list = t_.accept("[");
  do l.places.push_back(x_.path("a node, a terminal of a part, or `ground`"));
  while (l.list && t_.accept(","));
  if (l.list) t_.expect("]", "after the places");
  l.span = join(begin, t_.last_span());
  return l;
}

// part = "part" name [ "[" sum "]" ] ":" name [ "(" argument { "," … } ")" ] [ placed ] [ "with" argument { "," … } ]
//        [ "step" sum ] [ "method" name ] [ "on" "core" sum ]
void Parser::part(Members& m, const std::string& doc, bool is_private) {
  t_.take();
  PartDecl p;
  p.doc = doc;
  p.is_private = is_private;
  p.name = t_.expect_name("the name of the part");
  if (t_.accept("[")) {
    p.count = x_.sum();
    t_.expect("]", "after the number of parts");
  }
  t_.expect(":", "and the model of the part");
  p.model = t_.expect_name("the name of a model");
  if (t_.accept("(") && !t_.accept(")")) {
    part_arguments(p);
    t_.expect(")", "after the parameters");
  }
  placed(p);
  if (t_.accept("with")) part_arguments(p);
  if (t_.accept("step")) p.step = x_.sum();
  if (t_.accept("method")) p.method = t_.expect_name("the name of an integration method, such as `rk4`");
  if (t_.accept("on")) {
    t_.expect("core", "and its number");
    p.core = x_.sum();
  }
  t_.expect_statement_end();
  m.parts.push_back(std::move(p));
}

// argument = path "=" expression | name ":" unit-text
void Parser::part_arguments(PartDecl& p) {
  do {
    PartDecl::Arg arg;
    arg.target = x_.path("the name of a parameter");
    if (t_.accept(":")) {
      arg.unit = t_.expect_unit();
    } else {
      t_.expect("=", "and the value of the parameter");
      arg.value = x_.expression();
    }
    p.args.push_back(std::move(arg));
  } while (t_.accept(","));
}

// modes = "modes" name "from" name "{" { transition | mode } "}"
ModesDecl Parser::modes(const std::string& doc) {
  t_.take();
  ModesDecl d;
  d.doc = doc;
  d.name = t_.expect_name("the name of the state machine");
  t_.expect("from", "and the mode it starts in");
  d.first = t_.expect_name("the mode it starts in");
  block("and the transitions", [&] {
    const Name mode = t_.expect_name("a transition such as `idle -> busy when …`");
    if (t_.at("{")) {
      d.bodies.push_back(mode_body(mode));
    } else {
      d.transitions.push_back(transition(mode));
    }
  });
  return d;
}

// transition = name "->" name ( "when" expression | "after" sum )
Transition Parser::transition(const Name& from) {
  Transition tr;
  tr.from = from;
  t_.expect("->", "and the mode to go to");
  tr.to = t_.expect_name("the mode to go to");
  if (t_.accept("after")) {
    tr.after = x_.sum();
  } else {
    t_.expect("when", "or `after`, and what makes the transition");
    tr.condition = x_.expression();
  }
  tr.span = join(tr.from.span, tr.to.span);
  t_.expect_statement_end();
  return tr;
}

// mode = name "{" { "entry" actions | "exit" actions | modes } "}"
ModesDecl::Body Parser::mode_body(const Name& mode) {
  ModesDecl::Body body;
  body.mode = mode;
  block("and what belongs to the mode", [&] {
    const std::string doc = docs();
    const bool entry = t_.at("entry");
    if (entry || t_.at("exit")) {
      t_.take();
      auto& list = entry ? body.entry : body.exit;
      for (Action& a : actions("and what to do")) list.push_back(std::move(a));
    } else if (t_.at("modes")) {
      body.inside.push_back(modes(doc));
    } else {
      t_.fail("`entry`, `exit` or `modes`");
    }
  });
  return body;
}

// actions = "{" { action } "}"
std::vector<Action> Parser::actions(const char* what) {
  std::vector<Action> list;
  block(what, [&] { list.push_back(action_in_block()); });
  return list;
}

// action = path ":=" expression | head actions | "if" expression actions [ "else" … ]
Action Parser::action_in_block() {
  Action a;
  const Span begin = t_.peek().span;
  if (t_.at("if")) {
    t_.take();
    a.kind = Action::Kind::branch;
    a.value = x_.expression();
    a.span = join(begin, t_.last_span());
    a.body = actions("and what to do if this holds");
    if (t_.at("else") && t_.peek(1).is("if")) {
      t_.take();
      if (blocks_ >= kMostBlocks) too_many_blocks(t_.peek().span);
      ++blocks_;
      a.otherwise.push_back(action_in_block());
      --blocks_;
    } else if (t_.accept("else")) {
      a.otherwise = actions("and what to do otherwise");
    }
  } else if (t_.at("for") && !equation_follows()) {
    a.kind = Action::Kind::loop;
    a.head = loop_head();
    a.span = a.head.span;
    a.body = actions("and what is repeated");
  } else {
    a.target = x_.path("an assignment such as `count := count + 1`");
    t_.expect(":=", "because this block assigns, from top to bottom");
    a.value = x_.expression();
    a.span = join(begin, t_.last_span());
    t_.expect_statement_end();
  }
  return a;
}

// every = "every" sum [ "offset" sum ] actions
void Parser::every(Members& m) {
  EveryDecl e;
  e.span = t_.take().span;
  e.period = x_.sum();
  if (t_.accept("offset")) e.offset = x_.sum();
  e.actions = actions("and what to do");
  m.periodic_tasks.push_back(std::move(e));
}

// when = "when" expression actions
void Parser::when(Members& m) {
  WhenDecl w;
  const Span begin = t_.take().span;
  w.condition = x_.expression();
  w.span = join(begin, t_.last_span());
  w.actions = actions("and what to do");
  m.events.push_back(std::move(w));
}

// solve = "solve" name [ ":" type ] "from" sum "=" sum [ "start" sum ] [ "between" sum ".." sum ]
void Parser::solve(Members& m, const std::string& doc) {
  SolveDecl s;
  s.doc = doc;
  const Span begin = t_.take().span;
  s.name = t_.expect_name("the name of the unknown");
  if (t_.accept(":")) s.type = x_.type();
  t_.expect("from", "and the equation to solve");
  s.left = x_.sum();
  t_.expect("=", "between the two sides of the equation");
  s.right = x_.sum();
  s.span = join(begin, t_.last_span());
  if (t_.accept("start")) s.start = x_.sum();
  if (t_.accept("between")) {
    s.lowest = x_.sum();
    t_.expect("..", "between the two bounds");
    s.highest = x_.sum();
  }
  t_.expect_statement_end();
  m.solves.push_back(std::move(s));
}

std::unique_ptr<Members> Parser::inner(const char* what) {
  auto members = std::make_unique<Members>();
  block(what, [&] {
    const std::string doc = docs();
    if (!member(*members, doc)) t_.fail("a declaration or an equation", unknown_statement(kMembers));
  });
  return members;
}

// head = "for" name "in" sum ".." sum
LoopHead Parser::loop_head() {
  LoopHead head;
  const Span begin = t_.take().span;
  head.variable = t_.expect_name("the name of the counter");
  t_.expect("in", "and the first and last number");
  head.low = x_.sum();
  t_.expect("..", "between the first and the last number");
  head.high = x_.sum();
  head.span = join(begin, t_.last_span());
  return head;
}

// loop = head "{" { member } "}"
void Parser::loop(Members& m) {
  LoopDecl l;
  l.head = loop_head();
  l.body = inner("and what is repeated");
  m.loops.push_back(std::move(l));
}

// variant = "if" expression "{" { member } "}" [ "else" ( variant | "{" { member } "}" ) ]
void Parser::variant(Members& m) {
  VariantDecl v;
  const Span begin = t_.take().span;
  v.condition = x_.expression();
  v.span = join(begin, t_.last_span());
  v.yes = inner("and what is there if this holds");
  if (t_.accept("else")) {
    if (t_.at("if")) {
      v.no = std::make_unique<Members>();
      if (blocks_ >= kMostBlocks) too_many_blocks(t_.peek().span);
      ++blocks_;
      variant(*v.no);
      --blocks_;
    } else {
      v.no = inner("and what is there otherwise");
    }
  }
  m.variants.push_back(std::move(v));
}

// equation = path [ "'" ] "=" expression
void Parser::equation(Members& m) {
  Equation e;
  e.target = x_.path("a name");
  e.derivative = t_.accept("'");
  if (t_.at(":="))
    t_.fail("`=`", "`:=` assigns inside `every` and `when`; an equation holds at all times and is written with `=`");
  t_.expect("=", "in an equation");
  e.value = x_.expression();
  t_.expect_statement_end();
  m.equations.push_back(std::move(e));
}

}  // namespace isodyne::lang
