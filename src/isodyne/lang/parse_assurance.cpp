// Rules of campaigns, failure modes, basic events and hazards.

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

bool Parser::assurance_declaration(const std::string& doc) {
  if (t_.at("campaign")) return campaign(doc), true;
  if (t_.at("failure_modes")) return failure_modes(doc), true;
  if (t_.at("basic_event")) return basic_event(doc), true;
  if (t_.at("hazard")) return hazard(doc), true;
  return false;
}

std::vector<Name> Parser::names(const char* what) {
  std::vector<Name> all;
  do all.push_back(t_.expect_name(what));
  while (t_.accept(","));
  return all;
}

std::vector<Name> Parser::labels(const char* what) {
  std::vector<Name> all;
  do all.push_back(label(what));
  while (t_.accept(","));
  return all;
}

std::vector<Path> Parser::paths(const char* what) {
  std::vector<Path> all;
  do all.push_back(x_.path(what));
  while (t_.accept(","));
  return all;
}

// campaign = "campaign" name "{" { factor | "draw" sum "by" method | "until" "coverage" "of" what "=" sum | "keep"
// which } "}"
void Parser::campaign(const std::string& doc) {
  t_.take();
  CampaignDecl c;
  c.doc = doc;
  c.name = t_.expect_name("the name of the campaign");
  block("and its factors", [&] {
    if (t_.accept("scenario")) {
      for (Name& name : names("the name of a scenario")) c.scenarios.push_back(std::move(name));
    } else if (t_.accept("setting")) {
      for (Name& name : names("the name of a setting")) c.settings.push_back(std::move(name));
    } else if (t_.accept("fault")) {
      do c.faults.push_back(fault_sets());
      while (t_.accept(","));
    } else if (t_.accept("vary")) {
      c.varied.push_back(vary());
    } else if (t_.accept("draw")) {
      c.draws = x_.sum();
      t_.expect("by", "and how, as in `draw 500 by latin_hypercube`");
      c.method = t_.expect_name("how cases are drawn");
    } else if (t_.accept("keep")) {
      c.keep = t_.expect_name("of which cases recordings are kept");
      if (!t_.at(TokenKind::newline) && !t_.at("}")) c.kept = x_.sum();
    } else if (t_.accept("until")) {
      t_.expect("coverage", "as in `until coverage of pairs = 100 %`");
      t_.expect("of", "and of what, as in `until coverage of pairs = 100 %`");
      c.until = t_.expect_name("what is to be covered");
      t_.expect("=", "and how much of it, as in `until coverage of pairs = 100 %`");
      c.until_share = x_.sum();
    } else {
      t_.fail("`scenario`, `fault`, `vary`, `setting`, `draw`, `until` or `keep`");
    }
    t_.expect_statement_end();
  });
  document_.campaigns.push_back(std::move(c));
}

// fault = "none" | name | ( "each" | "pairs" ) [ "of" name { "," name } ]
CampaignDecl::FaultSets Parser::fault_sets() {
  using Kind = CampaignDecl::FaultSets::Kind;
  CampaignDecl::FaultSets sets;
  const Span begin = t_.peek().span;
  if (t_.accept("none")) {
    sets.kind = Kind::none;
  } else if (t_.at("each") || t_.at("pairs")) {
    sets.kind = t_.take().text == "each" ? Kind::each : Kind::pairs;
    if (t_.accept("of")) sets.of = names("the name of a fault");
  } else {
    sets.kind = Kind::one;
    sets.of.push_back(t_.expect_name("`none`, `each`, `pairs` or the name of a fault"));
  }
  sets.span = join(begin, t_.last_span());
  return sets;
}

// vary = path ( "=" sum { "," sum } | "from" sum "to" sum )
CampaignDecl::Vary Parser::vary() {
  CampaignDecl::Vary v;
  const Span begin = t_.peek().span;
  v.what = x_.path("what is varied");
  if (t_.accept("from")) {
    v.from = x_.sum();
    t_.expect("to", "and the other end");
    v.to = x_.sum();
  } else {
    t_.expect("=", "and its values, or `from A to B`");
    do v.values.push_back(x_.sum());
    while (t_.accept(","));
  }
  v.span = join(begin, t_.last_span());
  return v;
}

// failure_modes = "failure_modes" name [ "from" text ] "{" { variable | "scenario" name | "requirement" labels
//                 | "noticed" "by" paths | row } "}"
void Parser::failure_modes(const std::string& doc) {
  t_.take();
  FailureModesDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the table");
  if (t_.accept("from")) f.file = t_.expect_text("the file that has the rows, in quotes");
  block("and its columns, or its rows", [&] {
    const std::string column_doc = docs();
    if (t_.at("row")) {
      f.rows.push_back(failure_row());
      return;
    }
    if ((t_.at("param") || t_.at("let")) && variable(f.columns, column_doc, false)) return;
    if (t_.accept("scenario")) {
      for (Name& name : names("the name of a scenario")) f.scenarios.push_back(std::move(name));
    } else if (t_.accept("requirement")) {
      for (Name& name : labels("the name of a requirement")) f.requirements.push_back(std::move(name));
    } else if (t_.accept("noticed")) {
      t_.expect("by", "and what tells of a failure, as in `noticed by plc.alarm`");
      for (Path& path : paths("a truth that tells of a failure")) f.noticed.push_back(std::move(path));
    } else {
      t_.fail("`row`, `param`, `let`, `scenario`, `requirement` or `noticed by`");
    }
    t_.expect_statement_end();
  });
  document_.failure_modes.push_back(std::move(f));
}

// row = "row" label "{" { "fault" names | "scenario" name | "requirement" labels | "noticed" "by" paths
//       | name ( text | "=" expression ) } "}"
FailureModesDecl::Row Parser::failure_row() {
  t_.take();
  FailureModesDecl::Row r;
  r.name = label("the name of the row");
  block("and its columns", [&] {
    const bool of_people = t_.peek(1).kind == TokenKind::text || t_.peek(1).is("=");
    if (of_people) {
      FailureModesDecl::Cell c;
      c.column = t_.expect_name("the name of a column");
      if (t_.accept("=")) {
        c.value = x_.expression();
        t_.expect_statement_end();
      } else {
        c.text = t_.expect_text("what stands in the column");
      }
      r.cells.push_back(std::move(c));
    } else if (t_.accept("fault")) {
      for (Name& name : names("the name of a fault")) r.faults.push_back(std::move(name));
    } else if (t_.accept("scenario")) {
      for (Name& name : names("the name of a scenario")) r.scenarios.push_back(std::move(name));
    } else if (t_.accept("requirement")) {
      for (Name& name : labels("the name of a requirement")) r.requirements.push_back(std::move(name));
    } else if (t_.accept("noticed")) {
      t_.expect("by", "and what tells of the failure");
      for (Path& path : paths("a truth that tells of the failure")) r.noticed.push_back(std::move(path));
    } else {
      t_.fail("`fault`, `scenario`, `requirement`, `noticed by`, or a column and what stands in it");
    }
  });
  return r;
}

// basic_event = "basic_event" name "{" { "rate" sum | "probability" sum | "fault" name } "}"
void Parser::basic_event(const std::string& doc) {
  const Span begin = t_.take().span;
  BasicEventDecl e;
  e.doc = doc;
  e.name = t_.expect_name("the name of the event");
  block("and how often it happens, or what happens then", [&] {
    if (t_.accept("rate")) {
      e.rate = x_.sum();
    } else if (t_.accept("probability")) {
      e.probability = x_.sum();
    } else if (t_.accept("fault")) {
      for (Name& name : names("the name of a fault")) e.faults.push_back(std::move(name));
    } else {
      t_.fail("`rate`, `probability` or `fault`");
    }
  });
  e.span = join(begin, e.name.span);
  document_.basic_events.push_back(std::move(e));
}

// hazard = "hazard" name "{" { "level" text | "source" text | "broken" labels | "scenario" names
//          | "requirement" labels | "over" sum | "gate" name "=" tree | "top" "=" tree } "}"
void Parser::hazard(const std::string& doc) {
  t_.take();
  HazardDecl h;
  h.doc = doc;
  h.name = t_.expect_name("the name of the hazard");
  block("and what leads to it", [&] {
    const std::string gate_doc = docs();
    if (t_.accept("level")) {
      h.level = t_.expect_text("the level, in quotes");
    } else if (t_.accept("source")) {
      h.source = t_.expect_text("where the hazard comes from, in quotes");
    } else if (t_.accept("broken")) {
      for (Name& name : labels("the name of a requirement")) h.broken.push_back(std::move(name));
    } else if (t_.accept("scenario")) {
      for (Name& name : names("the name of a scenario")) h.scenarios.push_back(std::move(name));
    } else if (t_.accept("requirement")) {
      for (Name& name : labels("the name of a requirement")) h.requirements.push_back(std::move(name));
    } else if (t_.accept("over")) {
      h.over = x_.sum();
    } else if (t_.accept("gate")) {
      HazardDecl::Gate g;
      g.doc = gate_doc;
      g.name = t_.expect_name("the name of the gate");
      t_.expect("=", "and what it takes");
      g.formula = tree_formula(0);
      t_.expect_statement_end();
      h.gates.push_back(std::move(g));
    } else if (t_.accept("top")) {
      t_.expect("=", "and what leads to the hazard");
      if (h.top) t_.fail("one `top`", "a hazard has one; join them by `or`");
      h.top = tree_formula(0);
      t_.expect_statement_end();
    } else {
      t_.fail("`broken`, `scenario`, `top`, `gate`, `requirement`, `level`, `source` or `over`");
    }
  });
  document_.hazards.push_back(std::move(h));
}

TreeFormula Parser::tree_gate(TreeFormula::Kind kind, std::vector<TreeFormula> of) {
  if (of.size() == 1 && (kind == TreeFormula::Kind::all || kind == TreeFormula::Kind::any))
    return std::move(of.front());
  TreeFormula gate;
  gate.kind = kind;
  gate.span = join(of.front().span, of.back().span);
  gate.of = std::move(of);
  return gate;
}

// tree = and_tree { "or" and_tree } [ "given" part ]   and_tree = part { "and" part }
TreeFormula Parser::tree_formula(int depth) {
  if (depth > kMostBlocks) {
    t_.diagnostics().error(Code::too_deep, t_.peek().span, fmt::format("gates nest at most {} deep", kMostBlocks),
                           "give inner ones a name: gate NAME = …");
    throw Abandoned{};
  }
  std::vector<TreeFormula> any;
  do {
    std::vector<TreeFormula> all;
    do all.push_back(tree_part(depth));
    while (t_.accept("and"));
    any.push_back(tree_gate(TreeFormula::Kind::all, std::move(all)));
  } while (t_.accept("or"));
  TreeFormula tree = tree_gate(TreeFormula::Kind::any, std::move(any));
  if (!t_.accept("given")) return tree;
  std::vector<TreeFormula> both;
  both.push_back(std::move(tree));
  both.push_back(tree_part(depth));
  return tree_gate(TreeFormula::Kind::given, std::move(both));
}

// part = name | "(" tree ")" | number "of" "(" tree { "," tree } ")"
TreeFormula Parser::tree_part(int depth) {
  if (t_.at("not"))
    t_.fail("an event or a gate", "a tree tells what leads to a hazard, and nothing leads to it by not happening");
  if (t_.accept("(")) {
    TreeFormula inner = tree_formula(depth + 1);
    t_.expect(")", "after the gate");
    return inner;
  }
  if (t_.at(TokenKind::number)) {
    const Token number = t_.take();
    if (number.text != "of") t_.expect("of", "as in `2 of (A, B, C)`");
    t_.expect("(", "as in `2 of (A, B, C)`");
    std::vector<TreeFormula> of;
    do of.push_back(tree_formula(depth + 1));
    while (t_.accept(","));
    t_.expect(")", "after what it takes");
    if (number.value < 1 || number.value > static_cast<double>(of.size()) ||
        number.value != static_cast<double>(static_cast<int>(number.value))) {
      t_.diagnostics().error(Code::out_of_limits, number.span,
                             fmt::format("of {} it takes a whole number from 1 to {}", of.size(), of.size()));
      throw Abandoned{};
    }
    TreeFormula gate = tree_gate(TreeFormula::Kind::at_least, std::move(of));
    gate.least = static_cast<int>(number.value);
    gate.span = join(number.span, t_.last_span());
    return gate;
  }
  TreeFormula leaf;
  leaf.name = t_.expect_name("the name of an event or a gate");
  leaf.span = leaf.name.span;
  return leaf;
}

}  // namespace isodyne::lang
