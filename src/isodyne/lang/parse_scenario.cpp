// Rules of scenarios, and of the values that they load.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

using Kind = ScenarioStep::Kind;

namespace {
const std::vector<std::string> kActions = {"start",  "set",  "step",     "ramp",   "play",   "release", "load",
                                           "hold",   "wait", "schedule", "expect", "inject", "clear",   "arm",
                                           "disarm", "do",   "stop",     "end",    "repeat", "either",  "together"};
}

// scenario = "scenario" name [ "(" param { "," param } ")" ] "{" { action } "}"
void Parser::scenario(const std::string& doc) {
  t_.take();
  ScenarioDecl s;
  s.doc = doc;
  s.name = t_.expect_name("the name of the scenario");
  if (t_.accept("(")) {
    do scenario_param(s);
    while (t_.accept(","));
    t_.expect(")", "after the parameters");
  }
  s.steps = scenario_block("and what happens");
  document_.scenarios.push_back(std::move(s));
}

// param = name { "," name } ":" type [ "=" expression ]
void Parser::scenario_param(ScenarioDecl& s) {
  std::vector<Name> names;
  do names.push_back(t_.expect_name("the name of a parameter"));
  while (t_.accept(","));
  t_.expect(":", "and the unit of the parameter");
  const TypeRef type = x_.type();
  const ExprPtr value = t_.accept("=") ? x_.expression() : nullptr;
  for (const Name& name : names) {
    ScenarioDecl::Param& p = s.params.emplace_back();
    p.name = name;
    p.type = type;
    if (value) p.value = clone(*value);
  }
}

std::vector<ScenarioStep> Parser::scenario_block(const char* what) {
  std::vector<ScenarioStep> steps;
  block(what, [&] { steps.push_back(action()); });
  return steps;
}

// values = "values" name "{" { path "=" expression } "}"
void Parser::values(const std::string& doc) {
  t_.take();
  ValuesDecl v;
  v.doc = doc;
  v.name = t_.expect_name("the name of the set of values");
  block("and the values", [&] {
    ValuesDecl::Value value;
    const Span begin = t_.peek().span;
    value.target = x_.path("what has the value");
    t_.expect("=", "and the value");
    value.value = x_.expression();
    value.span = join(begin, t_.last_span());
    t_.expect_statement_end();
    v.values.push_back(std::move(value));
  });
  document_.values.push_back(std::move(v));
}

// action = of a value | of time | of names | of blocks
ScenarioStep Parser::action() {
  ScenarioStep s;
  const Span begin = t_.peek().span;
  const auto any_of = [&](std::initializer_list<const char*> words) {
    return std::any_of(words.begin(), words.end(), [&](const char* w) { return t_.at(w); });
  };
  if (any_of({"start", "set", "step", "ramp", "play", "release", "schedule"})) {
    action_of_value(s);
  } else if (any_of({"wait", "hold", "expect", "end"})) {
    action_of_time(s);
  } else if (any_of({"load", "inject", "clear", "arm", "disarm", "do", "stop"})) {
    action_of_names(s);
  } else if (any_of({"repeat", "either", "together"})) {
    action_of_blocks(s);
    s.span = begin;  // the word: what is inside has places of its own
    return s;
  } else {
    t_.fail("an action", [&] {
      if (t_.at("param") || t_.at("let"))
        return std::string("parameters stand behind the name of the scenario: `scenario NAME(depth : m = 2 m) { … }`");
      const auto meant = did_you_mean(t_.peek().text, kActions);
      std::string all;
      for (const std::string& word : kActions) all += (all.empty() ? "`" : ", `") + word + "`";
      return meant.value_or("actions are " + all);
    }());
  }
  s.span = join(begin, t_.last_span());
  t_.expect_statement_end();
  return s;
}

// "start" path "=" expression | "start" "from" text "at" sum | "start" "settled" | "set" path "=" expression | "step"
// path "by" expression | "ramp" path "to" expression "over" sum | "play" ( text [ "column" text ] | name ) "onto" path
// [ "for" sum ] | "release" path | schedule
void Parser::action_of_value(ScenarioStep& s) {
  const bool at_start = t_.at("start");
  if (at_start || t_.at("set")) {
    t_.take();
    if (at_start && t_.accept("from")) {
      s.kind = Kind::start_from;
      s.file = x_.file_column("the run whose state is taken up, such as \"runs/001-uplock\"");
      t_.expect("at", "and the instant of that run");
      s.duration = x_.sum();
      return;
    }
    s.kind = at_start ? Kind::start : Kind::set;
    s.target = x_.path("what to set");
    if (at_start && s.target.text() == "settled" && !t_.at("=")) {
      s.kind = Kind::start_settled;
      return;
    }
    t_.expect("=", "and the value");
    s.value = x_.expression();
  } else if (t_.accept("step")) {
    s.kind = Kind::step;
    s.target = x_.path("what to step");
    t_.expect("by", "and by how much");
    s.value = x_.expression();
  } else if (t_.accept("ramp")) {
    s.kind = Kind::ramp;
    s.target = x_.path("what to move");
    t_.expect("to", "and the value to reach");
    s.value = x_.expression();
    t_.expect("over", "and how long it takes");
    s.duration = x_.sum();
  } else if (t_.accept("play")) {
    s.kind = Kind::play;
    if (t_.at(TokenKind::name)) {
      s.name = t_.expect_name("a table of the bench");
    } else {
      s.file = x_.file_column("a table of values over time, such as \"wind.csv\"");
    }
    t_.expect("onto", "and what gets the values");
    s.target = x_.path("what gets the values");
    if (t_.accept("for")) s.duration = x_.sum();
  } else if (t_.accept("release")) {
    s.kind = Kind::release;
    s.target = x_.path("the channel to let go");
  } else {
    schedule(s);
  }
}

// schedule = "schedule" path { "," path } "{" { sum ":" expression { "," expression } } "}"
void Parser::schedule(ScenarioStep& s) {
  t_.take();
  s.kind = Kind::schedule;
  do s.targets.push_back(x_.path("what follows the schedule"));
  while (t_.accept(","));
  block("and rows such as `20 s: 3 m, open`", [&] {
    ScenarioStep::Row row;
    row.at = x_.sum();
    t_.expect(":", "and the values from then on");
    do row.values.push_back(x_.expression());
    while (t_.accept(","));
    if (row.values.size() != s.targets.size())
      t_.diagnostics().error(Code::wrong_arguments, row.at->span,
                             fmt::format("this row has {}, but the schedule is about {}",
                                         counted(row.values.size(), "value"), counted(s.targets.size(), "quantity")));
    t_.expect_statement_end();
    s.rows.push_back(std::move(row));
  });
}

// "wait" "until" expression "within" sum | "hold" sum | "expect" expression [ ( "within" | "for" ) sum ]
// | "end" [ "when" expression ]
void Parser::action_of_time(ScenarioStep& s) {
  if (t_.accept("wait")) {
    s.kind = Kind::wait;
    t_.expect("until", "and what to wait for");
    s.value = x_.expression();
    t_.expect("within", "and the longest time to wait, such as `within 5 min`");
    s.duration = x_.sum();
  } else if (t_.accept("hold")) {
    s.kind = Kind::hold;
    s.duration = x_.sum();
  } else if (t_.accept("expect")) {
    s.kind = Kind::expect;
    s.value = x_.expression();
    s.whole = t_.at("for");
    if (t_.accept("within") || t_.accept("for")) s.duration = x_.sum();
  } else {
    t_.take();
    s.kind = t_.accept("when") ? Kind::end_when : Kind::end;
    if (s.kind == Kind::end_when) s.value = x_.expression();
  }
}

// "load" name | ( "inject" | "clear" | "arm" | "disarm" ) name | "stop" name | "do" name [ "(" name "=" expression {
// "," … } ")" ]
void Parser::action_of_names(ScenarioStep& s) {
  const std::string word = t_.take().text;
  s.kind = word == "load"     ? Kind::load
           : word == "inject" ? Kind::inject
           : word == "clear"  ? Kind::clear
           : word == "arm"    ? Kind::arm
           : word == "disarm" ? Kind::disarm
           : word == "stop"   ? Kind::stop
                              : Kind::perform;
  s.name = t_.expect_name(word == "load"   ? "a set of values"
                          : word == "do"   ? "a scenario"
                          : word == "stop" ? "a track"
                                           : "a fault");
  if (s.kind != Kind::perform || !t_.accept("(")) return;
  do {
    ScenarioStep::Argument a;
    a.name = t_.expect_name("a parameter of the scenario");
    t_.expect("=", "and its value");
    a.value = x_.expression();
    s.args.push_back(std::move(a));
  } while (t_.accept(","));
  t_.expect(")", "after the values");
}

// "repeat" ( sum "times" | "until" expression ) block | "either" block { "or" block }
// | "together" "{" { "track" name block } "}"
void Parser::action_of_blocks(ScenarioStep& s) {
  const std::string word = t_.take().text;
  if (word == "repeat") {
    s.kind = Kind::repeat;
    s.whole = t_.accept("until");
    if (s.whole) {
      s.value = x_.expression();
    } else {
      s.value = x_.sum();
      t_.expect("times", "as in `repeat 5 times { … }`, or `repeat until level > 3 m { … }`");
    }
    s.blocks.emplace_back().steps = scenario_block("and what is repeated");
  } else if (word == "either") {
    s.kind = Kind::either;
    do s.blocks.emplace_back().steps = scenario_block("and what happens");
    while (t_.accept("or"));
  } else {
    s.kind = Kind::together;
    block("and tracks such as `track operator { … }`", [&] {
      t_.expect("track", "because what happens beside each other is in tracks");
      ScenarioStep::Block track;
      track.name = t_.expect_name("the name of the track");
      track.steps = scenario_block("and what happens on it");
      s.blocks.push_back(std::move(track));
    });
  }
}

}  // namespace isodyne::lang
