// Rules of a file: uses, functions, tables, choices.

#include "isodyne/lang/parser.h"

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser_rules.h"

namespace isodyne::lang {

const std::vector<std::string> Parser::kDeclarations = {
    "use",      "function",      "table",       "choice",      "model",       "element", "module",
    "bench",    "condition",     "fault",       "scenario",    "requirement", "figure",  "cables",
    "wiring",   "values",        "compose",     "expectation", "measure",     "harness", "panel",
    "campaign", "failure_modes", "basic_event", "hazard"};
const std::vector<std::string> Parser::kMembers = {
    "unit",     "table",         "param",       "fixed",       "input",    "output",    "state",  "memory",
    "let",      "private",       "part",        "terminal",    "node",     "modes",     "every",  "when",
    "solve",    "for",           "if",          "rated",       "use",      "step",      "record", "sensor",
    "actuator", "frame",         "rack",        "controller",  "messages", "condition", "fault",  "scenario",
    "values",   "compose",       "expectation", "requirement", "measure",  "harness",   "figure", "panel",
    "campaign", "failure_modes", "basic_event", "hazard"};

// text = { declaration }
void Parser::text() {
  while (true) {
    t_.skip_newlines();
    if (t_.at_end()) return;
    if (t_.at("}")) {
      t_.diagnostics().error(Code::unexpected, t_.peek().span, "this `}` closes nothing");
      t_.take();
      continue;
    }
    blocks_ = 0;
    guarded([&] {
      const std::string doc = docs();
      if (!declaration(doc)) t_.fail("a declaration", unknown_statement(kDeclarations));
    });
  }
}

void Parser::too_many_blocks(Span open) {
  t_.diagnostics().error(Code::too_deep, open, fmt::format("blocks nest at most {} deep", kMostBlocks));
  throw Abandoned{};
}

void Parser::never_closed(Span open) {
  t_.diagnostics()
      .error(Code::unexpected, t_.peek().span, "the text ends inside a block", "close the block with `}`")
      .notes.push_back({open, "the block was opened here"});
}

std::string Parser::unknown_statement(const std::vector<std::string>& words) const {
  for (const char* sign :
       {"+", "-", "*", "/", "^", "and", "or", "implies", "<", "<=", ">", ">=", "==", "!=", "then", "else"}) {
    if (t_.at(sign)) return "a statement ends with its line: open a bracket in the line before to go on here";
  }
  const auto meant = did_you_mean(t_.peek().text, words);
  return meant.value_or("");
}

std::string Parser::docs() {
  std::string doc;
  while (t_.at(TokenKind::doc)) {
    const std::string line = t_.take().text;
    doc += (doc.empty() || line.empty() ? "" : " ") + line;
    t_.skip_newlines();
  }
  return doc;
}

/// name = … , name.name = … , name[2] = … or name' = … : not a clause, whatever the name.
bool Parser::equation_follows() const {
  if (!t_.at(TokenKind::name)) return false;
  const Token& next = t_.peek(1);
  return next.is("=") || next.is("'") || next.is(".") || next.is(":=") || next.is("[");
}

// declaration = use | function | table | choice | model | element | module | bench | condition | fault | scenario | …
bool Parser::declaration(const std::string& doc) {
  if (t_.at("use")) return use(), true;
  if (t_.at("function")) return function(doc), true;
  if (t_.at("table")) return table(doc), true;
  if (t_.at("choice")) return choice(doc), true;
  if (t_.at("model") || t_.at("element")) return model(doc), true;
  if (t_.at("module")) return module(doc), true;
  if (t_.at("bench")) return bench(doc), true;
  return judged_declaration(doc);
}

// use = "use" [ "library" ] text { "," text }
void Parser::use() {
  t_.take();
  const bool library = t_.accept("library");
  do {
    const std::string path = t_.expect_text("the file to use, such as \"plant.dyne\"");
    document_.uses.push_back({path, library, t_.last_span()});
  } while (t_.accept(","));
  t_.expect_statement_end();
}

// param = name ":" type
FunctionDecl::Param Parser::function_param() {
  FunctionDecl::Param param;
  param.name = t_.expect_name("the name of an argument");
  t_.expect(":", "and the unit of the argument");
  param.type = x_.type();
  return param;
}

// function = "function" name "(" [ param { "," param } ] ")" "->" type "=" expression
void Parser::function(const std::string& doc) {
  t_.take();
  FunctionDecl f;
  f.doc = doc;
  f.name = t_.expect_name("the name of the function");
  t_.expect("(", "before the arguments");
  if (!t_.at(")")) {
    do f.params.push_back(function_param());
    while (t_.accept(","));
  }
  t_.expect(")", "after the arguments");
  t_.expect("->", "and the unit of the result");
  f.result = x_.type();
  t_.expect("=", "and the value of the function");
  f.body = x_.expression();
  t_.expect_statement_end();
  document_.functions.push_back(std::move(f));
}

// head = "table" name "(" param [ "," param ] ")" "->" type
TableDecl Parser::table_head(const std::string& doc) {
  t_.take();
  TableDecl d;
  d.doc = doc;
  d.name = t_.expect_name("the name of the table");
  t_.expect("(", "before the argument");
  do d.params.push_back(function_param());
  while (d.params.size() < 2 && t_.accept(","));
  t_.expect(")", "after one or two arguments");
  t_.expect("->", "and the unit of the values");
  d.result = x_.type();
  return d;
}

// table = "table" name "(" param [ "," param ] ")" "->" type
//         ( "=" "[" rows "]" | "from" text [ "column" name ] ) method [ "outside" name ]
void Parser::table(const std::string& doc) {
  TableDecl d = table_head(doc);
  if (t_.accept("from")) {
    d.file = t_.expect_text("the file with the values, such as \"plan.csv\"");
    d.file_span = t_.last_span();
    if (t_.accept("column")) d.column = Name{t_.expect_text("the title of the column, in quotes"), t_.last_span()};
  } else {
    t_.expect("=", "and the values, or `from` and a file");
    d.rows = table_rows(d.params.size() == 2);
  }
  d.method = t_.expect_name("how to go from value to value: `linear`, `cubic` or `hold`");
  d.outside = {"held", d.method.span};
  if (t_.accept("outside")) d.outside = t_.expect_name("what holds outside: `held`, `extended` or `repeated`");
  t_.expect_statement_end();
  document_.tables.push_back(std::move(d));
}

// rows = "[" row { "," row } "]" ; row = sum ":" ( expression | rows )
std::vector<TableDecl::Row> Parser::table_rows(bool two_arguments) {
  t_.expect("[", "before the values");
  std::vector<TableDecl::Row> rows;
  do {
    TableDecl::Row row;
    row.at = x_.sum();
    t_.expect(":", two_arguments ? "and the row of values there" : "and the value there");
    if (two_arguments) {
      row.line = table_rows(false);
    } else {
      row.value = x_.expression();
    }
    rows.push_back(std::move(row));
  } while (t_.accept(","));
  t_.expect("]", "after the values");
  return rows;
}

// choice = "choice" name "{" name { "," name } "}"
void Parser::choice(const std::string& doc) {
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

void parse(const Sources& sources, std::int32_t source, Diagnostics& diagnostics, Document& document) {
  Parser(sources, source, diagnostics, document).text();
}

}  // namespace isodyne::lang
