// Declarations. One method per rule; the grammar rule stands above it. A mistake throws Abandoned, which
// the innermost statement list catches to go on with its next statement.

#include "isodyne/lang/parser.h"

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/expression_parser.h"
#include "isodyne/lang/token_stream.h"

namespace isodyne::lang {

namespace {

class Parser {
 public:
  Parser(const Sources& sources, std::int32_t source, Diagnostics& diagnostics, Document& document)
      : sources_(sources), t_(sources, source, diagnostics), x_(t_), document_(document) {}

  // text = { declaration }
  void text() {
    while (true) {
      t_.skip_newlines();
      if (t_.at_end()) return;
      if (t_.at("}")) {
        t_.diagnostics().error(Code::unexpected, t_.peek().span, "this `}` closes nothing");
        t_.take();
        continue;
      }
      guarded([&] {
        const std::string doc = docs();
        if (!declaration(doc)) t_.fail("a declaration", unknown_statement(kDeclarations));
      });
    }
  }

 private:
  static inline const std::vector<std::string> kDeclarations = {
      "use", "function", "choice", "model", "bench", "condition", "fault", "scenario", "requirement", "figure"};
  static inline const std::vector<std::string> kMembers = {
      "param",    "fixed",      "input",     "output", "state",    "memory",      "let",
      "part",     "modes",      "every",     "use",    "step",     "record",      "sensor",
      "actuator", "controller", "condition", "fault",  "scenario", "requirement", "figure"};

  std::string unknown_statement(const std::vector<std::string>& words) const {
    const auto meant = closest(t_.peek().text, words);
    return meant ? fmt::format("did you mean `{}`?", *meant) : std::string{};
  }

  template <typename Body>
  void guarded(Body body) {
    try {
      body();
    } catch (const Abandoned&) {
      t_.recover();
    }
  }

  /// "{" { item } "}", where an item is anything `item` takes; a broken one is skipped.
  template <typename Item>
  void block(const char* what, Item item) {
    t_.skip_newlines();
    const Span open = t_.expect("{", what).span;
    while (true) {
      t_.skip_newlines();
      if (t_.accept("}")) return;
      if (t_.at_end()) {
        t_.diagnostics()
            .error(Code::unexpected, t_.peek().span, "the text ends inside a block", "close the block with `}`")
            .notes.push_back({open, "the block was opened here"});
        return;
      }
      guarded(item);
    }
  }

  std::string docs() {
    std::string doc;
    while (t_.at(TokenKind::doc)) {
      const std::string line = t_.take().text;
      doc += (doc.empty() || line.empty() ? "" : " ") + line;
      t_.skip_newlines();
    }
    return doc;
  }

  // declaration = use | function | choice | model | bench | condition | fault | scenario | requirement | figure
  bool declaration(const std::string& doc) {
    if (t_.at("use")) return use(), true;
    if (t_.at("function")) return function(doc), true;
    if (t_.at("choice")) return choice(doc), true;
    if (t_.at("model")) return model(doc), true;
    if (t_.at("bench")) return bench(doc), true;
    return judged_declaration(doc);
  }

  bool judged_declaration(const std::string& doc) {
    if (t_.at("condition")) return condition(doc), true;
    if (t_.at("fault")) return fault(doc), true;
    if (t_.at("scenario")) return scenario(doc), true;
    if (t_.at("requirement")) return requirement(doc), true;
    if (t_.at("figure")) return figure(doc), true;
    return false;
  }

  // use = "use" text { "," text }
  void use() {
    t_.take();
    do {
      const std::string path = t_.expect_text("the file to use, such as \"plant.dyne\"");
      document_.uses.push_back({path, t_.last_span()});
    } while (t_.accept(","));
    t_.expect_statement_end();
  }

  // function = "function" name "(" [ name ":" type { "," name ":" type } ] ")" "->" type "=" expression
  void function(const std::string& doc) {
    t_.take();
    FunctionDecl f;
    f.doc = doc;
    f.name = t_.expect_name("the name of the function");
    t_.expect("(", "before the arguments");
    if (!t_.at(")")) {
      do {
        FunctionDecl::Param param;
        param.name = t_.expect_name("the name of an argument");
        t_.expect(":", "and the unit of the argument");
        param.type = t_.expect_type();
        f.params.push_back(std::move(param));
      } while (t_.accept(","));
    }
    t_.expect(")", "after the arguments");
    t_.expect("->", "and the unit of the result");
    f.result = t_.expect_type();
    t_.expect("=", "and the value of the function");
    f.body = x_.expression();
    t_.expect_statement_end();
    document_.functions.push_back(std::move(f));
  }

  // choice = "choice" name "{" name { "," name } "}"
  void choice(const std::string& doc) {
    t_.take();
    ChoiceDecl c;
    c.doc = doc;
    c.name = t_.expect_name("the name of the choice");
    t_.expect("{", "before the labels");
    do {
      t_.skip_newlines();
      c.labels.push_back(t_.expect_name("a label"));
      t_.skip_newlines();
    } while (t_.accept(","));
    t_.expect("}", "after the labels");
    t_.expect_statement_end();
    document_.choices.push_back(std::move(c));
  }

  // model = "model" name "{" { member } "}"
  void model(const std::string& doc) {
    t_.take();
    ModelDecl m;
    m.doc = doc;
    m.name = t_.expect_name("the name of the model");
    block("and what the model is made of", [&] {
      const std::string member_doc = docs();
      if (!member(m, member_doc)) t_.fail("a declaration or an equation", unknown_statement(kMembers));
    });
    document_.models.push_back(std::move(m));
  }

  // bench = "bench" name "{" { member | bench_member | use | condition | fault | scenario | … } "}"
  void bench(const std::string& doc) {
    t_.take();
    BenchDecl b;
    b.doc = doc;
    b.name = t_.expect_name("the name of the bench");
    block("and what the bench is made of", [&] {
      const std::string member_doc = docs();
      if (bench_member(b, member_doc)) return;
      // An equation may begin with any of these words, because they are free as names.
      if (!equation_follows() && t_.at("use")) return use();
      if (!equation_follows() && judged_declaration(member_doc)) return;
      if (!member(b, member_doc)) t_.fail("a declaration or a connection", unknown_statement(kMembers));
    });
    document_.benches.push_back(std::move(b));
  }

  bool bench_member(BenchDecl& b, const std::string& doc) {
    if (equation_follows()) return false;
    if (t_.at("step")) return step(b), true;
    if (t_.at("record")) return record(b), true;
    if (t_.at("sensor")) return sensor(b, doc), true;
    if (t_.at("actuator")) return actuator(b, doc), true;
    if (t_.at("controller")) return controller(b, doc), true;
    return false;
  }

  /// name = … , name.name = … or name' = … : not a clause, whatever the name.
  bool equation_follows() const {
    if (!t_.at(TokenKind::name)) return false;
    const Token& next = t_.peek(1);
    return next.is("=") || next.is("'") || next.is(".") || next.is(":=");
  }

  // step = "step" sum [ "method" name ]
  void step(BenchDecl& b) {
    const Span span = t_.take().span;
    if (b.step) t_.diagnostics().error(Code::duplicate, span, "the step of this bench is given twice");
    b.step = x_.sum();
    if (t_.accept("method")) b.method = t_.expect_name("the name of an integration method, such as `rk4`");
    t_.expect_statement_end();
  }

  // record = "record" "every" sum
  void record(BenchDecl& b) {
    t_.take();
    t_.expect("every", "and the period of the recording");
    b.record = x_.sum();
    t_.expect_statement_end();
  }

  // member = variable | part | modes | every | equation
  bool member(ModelDecl& m, const std::string& doc) {
    if (!equation_follows()) {
      if (variable(m, doc)) return true;
      if (t_.at("part")) return part(m, doc), true;
      if (t_.at("modes")) return modes(m, doc), true;
      if (t_.at("every")) return every(m), true;
    }
    if (!t_.at(TokenKind::name) || !equation_follows()) return false;
    equation(m);
    return true;
  }

  // variable = [ "fixed" ] "param" names | "input" names | [ "output" ] ( "state" | "memory" ) names
  //          | "output" names | "let" names
  // names = name { "," name } [ ":" type ] [ "=" expression ] [ "from" sum "to" sum ] [ "limited" sum ".." sum ]
  bool variable(ModelDecl& m, const std::string& doc) {
    VarDecl v;
    v.doc = doc;
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
    std::vector<Name> names;
    do names.push_back(t_.expect_name("a name"));
    while (t_.accept(","));
    if (t_.accept(":")) v.type = t_.expect_type();
    const bool defined_elsewhere = v.kind == VarKind::output;
    if (defined_elsewhere && t_.at("=")) {
      t_.fail("the end of the statement",
              fmt::format("an output gets its value from an equation of its own: `{} = …`", names.front().text));
    }
    if (t_.accept("=")) v.value = x_.expression();
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
      other.name = names[i];
      other.type = v.type;
      other.doc = v.doc;
    }
    v.name = names.front();
    m.variables.insert(m.variables.end() - static_cast<std::ptrdiff_t>(names.size() - 1), std::move(v));
    return true;
  }

  void bounds(VarDecl& v) {
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

  // part = "part" name ":" name [ "(" name "=" expression { "," … } ")" ]
  void part(ModelDecl& m, const std::string& doc) {
    t_.take();
    PartDecl p;
    p.doc = doc;
    p.name = t_.expect_name("the name of the part");
    t_.expect(":", "and the model of the part");
    p.model = t_.expect_name("the name of a model");
    if (t_.accept("(") && !t_.accept(")")) {
      do {
        PartDecl::Arg arg;
        arg.name = t_.expect_name("the name of a parameter");
        t_.expect("=", "and the value of the parameter");
        arg.value = x_.expression();
        p.args.push_back(std::move(arg));
      } while (t_.accept(","));
      t_.expect(")", "after the parameters");
    }
    t_.expect_statement_end();
    m.parts.push_back(std::move(p));
  }

  // modes = "modes" name "from" name "{" { name "->" name ( "when" expression | "after" sum ) } "}"
  void modes(ModelDecl& m, const std::string& doc) {
    t_.take();
    ModesDecl d;
    d.doc = doc;
    d.name = t_.expect_name("the name of the state machine");
    t_.expect("from", "and the mode it starts in");
    d.first = t_.expect_name("the mode it starts in");
    block("and the transitions", [&] {
      Transition tr;
      tr.from = t_.expect_name("a transition such as `idle -> busy when …`");
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
      d.transitions.push_back(std::move(tr));
    });
    m.modes.push_back(std::move(d));
  }

  // every = "every" sum "{" { path ":=" expression } "}"
  void every(ModelDecl& m) {
    EveryDecl e;
    e.span = t_.take().span;
    e.period = x_.sum();
    block("and what to do", [&] {
      Equation a;
      a.target = t_.expect_path("an assignment such as `count := count + 1`");
      t_.expect(":=", "because sampled parts assign, from top to bottom");
      a.value = x_.expression();
      t_.expect_statement_end();
      e.assignments.push_back(std::move(a));
    });
    m.samplers.push_back(std::move(e));
  }

  // equation = path [ "'" ] "=" expression
  void equation(ModelDecl& m) {
    Equation e;
    e.target = t_.expect_path("a name");
    e.derivative = t_.accept("'");
    if (t_.at(":="))
      t_.fail("`=`", "`:=` assigns inside `every`; an equation holds at all times and is written with `=`");
    t_.expect("=", "in an equation");
    e.value = x_.expression();
    t_.expect_statement_end();
    m.equations.push_back(std::move(e));
  }

  // interval = sum ".." sum
  Interval interval() {
    Interval i;
    i.low = x_.sum();
    t_.expect("..", "between the two ends");
    i.high = x_.sum();
    return i;
  }

  // sensor = "sensor" name "{" "of" expression [ "range" interval [ "as" interval ] ] [ "counts" interval ]
  //          "every" sum [ "filter" sum ] [ "noise" sum ] "}"
  void sensor(BenchDecl& b, const std::string& doc) {
    t_.take();
    SensorDecl s;
    s.doc = doc;
    s.name = t_.expect_name("the name of the sensor");
    block("and the channel of the sensor", [&] {
      if (t_.accept("of")) {
        s.of = x_.expression();
      } else if (t_.accept("range")) {
        s.range = interval();
        if (t_.accept("as")) s.electrical = interval();
      } else if (t_.accept("counts")) {
        s.counts = interval();
      } else if (t_.accept("every")) {
        s.every = x_.sum();
      } else if (t_.accept("filter")) {
        s.filter = x_.sum();
      } else if (t_.accept("noise")) {
        s.noise = x_.sum();
      } else {
        t_.fail("`of`, `range`, `counts`, `every`, `filter` or `noise`");
      }
    });
    b.sensors.push_back(std::move(s));
  }

  // actuator = "actuator" name ":" type [ "{" [ "counts" interval "as" interval ] [ "start" sum ] "}" ]
  void actuator(BenchDecl& b, const std::string& doc) {
    t_.take();
    ActuatorDecl a;
    a.doc = doc;
    a.name = t_.expect_name("the name of the actuator");
    t_.expect(":", "and the unit or choice it takes");
    a.type = t_.expect_type();
    if (t_.at("{")) {
      block("and the channel of the actuator", [&] {
        if (t_.accept("counts")) {
          a.counts = interval();
          t_.expect("as", "and the values that the counts stand for");
          a.as = interval();
        } else if (t_.accept("start")) {
          a.start = x_.sum();
        } else {
          t_.fail("`counts` or `start`");
        }
      });
    } else {
      t_.expect_statement_end();
    }
    b.actuators.push_back(std::move(a));
  }

  // controller = "controller" name "{" "every" sum "reads" paths "writes" writes { setting } "}"
  void controller(BenchDecl& b, const std::string& doc) {
    t_.take();
    ControllerDecl c;
    c.doc = doc;
    c.name = t_.expect_name("the name of the controller");
    block("and what the controller exchanges", [&] {
      if (t_.accept("every")) {
        c.every = x_.sum();
      } else if (t_.accept("reads")) {
        do c.reads.push_back(t_.expect_path("a sensor or input"));
        while (t_.accept(","));
      } else if (t_.accept("writes")) {
        do {
          ControllerDecl::Write w;
          w.name = t_.expect_name("an actuator, or a name with its unit");
          if (t_.accept(":")) w.type = t_.expect_type();
          c.writes.push_back(std::move(w));
        } while (t_.accept(","));
      } else if (t_.accept("setting")) {
        setting(c);
      } else {
        t_.fail("`every`, `reads`, `writes` or `setting`");
      }
    });
    b.controllers.push_back(std::move(c));
  }

  // setting = "setting" name "=" "library" text
  void setting(ControllerDecl& c) {
    ControllerDecl::Setting s;
    s.name = t_.expect_name("the name of the setting");
    t_.expect("=", "and where the controller is");
    t_.expect("library", "and the file of the controller's library");
    s.library = t_.expect_text("the file of the library");
    s.span = t_.last_span();
    c.settings.push_back(std::move(s));
  }

  // condition = "condition" name "=" expression
  void condition(const std::string& doc) {
    t_.take();
    ConditionDecl c;
    c.doc = doc;
    c.name = t_.expect_name("the name of the condition");
    t_.expect("=", "and the condition");
    c.value = x_.expression();
    t_.expect_statement_end();
    document_.conditions.push_back(std::move(c));
  }

  // fault = "fault" name "{" "on" path kind [ expression ] [ time ] "}"
  void fault(const std::string& doc) {
    t_.take();
    FaultDecl f;
    f.doc = doc;
    f.name = t_.expect_name("the name of the fault");
    block("and where, what and when", [&] {
      if (t_.accept("on")) {
        f.target = t_.expect_path("the name of what is faulty");
        t_.skip_newlines();
        f.kind = t_.expect_name("what goes wrong, such as `offset`, `drift`, `freeze`, `force` or `times`");
        const bool none = t_.at("}") || t_.at(TokenKind::newline) || t_.at("from") || t_.at("once") || t_.at("while");
        if (!none) f.amount = x_.expression();
      } else if (!fault_time(f)) {
        t_.fail("`on`, `from`, `once` or `while`");
      }
    });
    document_.faults.push_back(std::move(f));
  }

  // time = "from" sum [ "to" sum ] | "once" expression [ "lasting" sum ] | "while" expression
  bool fault_time(FaultDecl& f) {
    if (t_.accept("from")) {
      f.time = FaultDecl::Time::from;
      f.begin = x_.sum();
      if (t_.accept("to")) f.end = x_.sum();
    } else if (t_.accept("once")) {
      f.time = FaultDecl::Time::once;
      f.condition = x_.expression();
      if (t_.accept("lasting")) f.lasting = x_.sum();
    } else if (t_.accept("while")) {
      f.time = FaultDecl::Time::while_;
      f.condition = x_.expression();
    } else {
      return false;
    }
    return true;
  }

  // scenario = "scenario" name "{" { action } "}"
  void scenario(const std::string& doc) {
    t_.take();
    ScenarioDecl s;
    s.doc = doc;
    s.name = t_.expect_name("the name of the scenario");
    block("and what happens", [&] { s.steps.push_back(action()); });
    document_.scenarios.push_back(std::move(s));
  }

  // action = "start" path "=" expression | "set" path "=" expression | "ramp" path "to" expression "over" sum
  //        | "wait" "until" expression "within" sum | "hold" sum
  ScenarioStep action() {
    ScenarioStep s;
    const Span begin = t_.peek().span;
    const bool at_start = t_.at("start");
    if (at_start || t_.at("set")) {
      t_.take();
      s.kind = at_start ? ScenarioStep::Kind::start : ScenarioStep::Kind::set;
      s.target = t_.expect_path("what to set");
      t_.expect("=", "and the value");
      s.value = x_.expression();
    } else if (t_.accept("ramp")) {
      s.kind = ScenarioStep::Kind::ramp;
      s.target = t_.expect_path("what to move");
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
  // formula = "always" expression | "never" expression | "whenever" expression "then" [ "within" sum ] expression
  void requirement(const std::string& doc) {
    t_.take();
    RequirementDecl r;
    r.doc = doc;
    r.name = label();
    block("and what must hold", [&] {
      const Span begin = t_.peek().span;
      if (t_.accept("source")) {
        r.source = t_.expect_text("where the requirement comes from, in quotes");
        return;
      }
      if (r.check) t_.fail("the end of the requirement", "one requirement states one formula; make a second one");
      if (t_.accept("always")) {
        r.form = RequirementDecl::Form::always;
        r.check = x_.expression();
      } else if (t_.accept("never")) {
        r.form = RequirementDecl::Form::never;
        r.check = x_.expression();
      } else if (t_.accept("whenever")) {
        r.form = RequirementDecl::Form::whenever;
        r.trigger = x_.expression();
        t_.expect("then", "and what must follow");
        if (t_.accept("within")) r.within = x_.sum();
        r.check = x_.expression();
      } else {
        t_.fail("`always`, `never`, `whenever` or `source`");
      }
      r.span = join(begin, t_.last_span());
    });
    if (!r.check) {
      t_.diagnostics().error(Code::missing, r.name.span, fmt::format("requirement {} states no formula", r.name.text),
                             "add `always …`, `never …` or `whenever … then …`");
      return;
    }
    document_.requirements.push_back(std::move(r));
  }

  /// Names of requirements may have dashes, dots and leading digits: every token up to the next blank.
  Name label() {
    if (t_.at("{") || t_.at(TokenKind::newline) || t_.at_end()) t_.fail("the name of the requirement");
    Span span = t_.take().span;
    while (!t_.at("{") && !t_.at_end() && !t_.at(TokenKind::newline) && t_.peek().span.begin == span.end) {
      span = join(span, t_.take().span);
    }
    return {std::string(sources_.covered(span)), span};
  }

  // figure = "figure" name [ text ] "{" { "panel" path { "," path } } "}"
  void figure(const std::string& doc) {
    t_.take();
    FigureDecl f;
    f.doc = doc;
    f.name = t_.expect_name("the name of the figure");
    if (t_.at(TokenKind::text)) f.title = t_.take().text;
    block("and the panels", [&] {
      t_.expect("panel", "and the signals to draw");
      std::vector<Path> panel;
      do panel.push_back(t_.expect_path("a signal"));
      while (t_.accept(","));
      t_.expect_statement_end();
      f.panels.push_back(std::move(panel));
    });
    document_.figures.push_back(std::move(f));
  }

  const Sources& sources_;
  TokenStream t_;
  ExpressionParser x_;
  Document& document_;
};

}  // namespace

void parse(const Sources& sources, std::int32_t source, Diagnostics& diagnostics, Document& document) {
  Parser(sources, source, diagnostics, document).text();
}

}  // namespace isodyne::lang
