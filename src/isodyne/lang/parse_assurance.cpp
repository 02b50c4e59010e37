// Rules of campaigns and failure modes.

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

bool Parser::assurance_declaration(const std::string& doc) {
  if (t_.at("campaign")) return campaign(doc), true;
  if (t_.at("failure_modes")) return failure_modes(doc), true;
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

}  // namespace isodyne::lang
