#include "isodyne/exchange/editor_files.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/check/plant/expressions.h"

namespace isodyne::exchange {

namespace {

using Json = nlohmann::ordered_json;

std::vector<std::string> reserved_words() {
  return {
#define RESERVED(word) word,
#define CLAUSE(word)
#include "isodyne/lang/keywords.def"
#undef RESERVED
#undef CLAUSE
  };
}

std::vector<std::string> clause_words() {
  return {
#define RESERVED(word)
#define CLAUSE(word) word,
#include "isodyne/lang/keywords.def"
#undef RESERVED
#undef CLAUSE
  };
}

std::string joined(const std::vector<std::string>& words, const char* between) {
  std::string all;
  for (const std::string& word : words) all += (all.empty() ? "" : between) + word;
  return all;
}

}  // namespace

std::string textmate_grammar() {
  const auto words = [](const std::vector<std::string>& list) { return "\\b(" + joined(list, "|") + ")\\b"; };
  Json j;
  j["name"] = "Isodyne";
  j["scopeName"] = "source.dyne";
  j["fileTypes"] = {"dyne"};
  const auto rule = [&](const std::string& name, const std::string& match) {
    j["patterns"].push_back({{"name", name}, {"match", match}});
  };
  rule("comment.line.documentation.dyne", "##.*$");
  rule("comment.line.number-sign.dyne", "#.*$");
  rule("string.quoted.double.dyne", "\"[^\"]*\"");
  rule("constant.numeric.dyne", "\\b[0-9]+(\\.[0-9]+)?([eE][+-]?[0-9]+)?\\b");
  rule("constant.language.dyne", "\\b(true|false|time|pi)\\b");
  rule("keyword.operator.dyne", words(reserved_words()) + "|:=|->|\\.\\.|[-+*/^=<>]");
  rule("keyword.control.dyne", words(clause_words()));
  rule("support.function.dyne", "\\b(" + joined(check::function_words(), "|") + ")(?=\\()");
  rule("entity.name.type.dyne", "\\b[A-Z][A-Za-z0-9_]*\\b");
  return j.dump(2) + "\n";
}

std::string vim_syntax() {
  std::string text =
      "\" Vim syntax of Isodyne texts (*.dyne). Made by `isodyne export vim`.\n"
      "if exists(\"b:current_syntax\")\n  finish\nendif\n\n"
      "syn case match\n";
  text += "syn keyword dyneReserved " + joined(reserved_words(), " ") + "\n";
  text += "syn keyword dyneClause " + joined(clause_words(), " ") + "\n";
  text += "syn keyword dyneFunction " + joined(check::function_words(), " ") + "\n";
  text +=
      "syn keyword dyneConstant time pi true false\n"
      "syn match dyneNumber \"\\<\\d\\+\\(\\.\\d\\+\\)\\?\\([eE][+-]\\?\\d\\+\\)\\?\\>\"\n"
      "syn match dyneType \"\\<[A-Z]\\w*\\>\"\n"
      "syn match dyneComment \"#.*$\"\n"
      "syn match dyneDocument \"##.*$\"\n"
      "syn region dyneText start=+\"+ end=+\"+ oneline\n\n"
      "hi def link dyneReserved Operator\nhi def link dyneClause Keyword\nhi def link dyneFunction Function\n"
      "hi def link dyneConstant Constant\nhi def link dyneNumber Number\nhi def link dyneType Type\n"
      "hi def link dyneComment Comment\nhi def link dyneDocument SpecialComment\nhi def link dyneText String\n\n"
      "let b:current_syntax = \"dyne\"\n";
  return text;
}

}  // namespace isodyne::exchange
