#pragma once
// Expressions. Precedence, loosest first:
//
//   implies (right)  <  or, and (not mixed without brackets)  <  not
//   <  comparisons, is, within … of (not chained)  <  + -  <  * /  <  unary -  <  ^  <  at limit, becomes active

#include "isodyne/lang/token_stream.h"

namespace isodyne::lang {

class ExpressionParser {
 public:
  explicit ExpressionParser(TokenStream& tokens) : tokens_(tokens) {}

  /// expression = junction [ "implies" expression ]
  ExprPtr expression();
  /// sum = product { ("+" | "-") product }: a value that no comparison belongs to, such as a bound
  ExprPtr sum();
  /// path = name [ index ] { "." name [ index ] } ; index = "[" ( "*" | sum ) "]"
  Path path(const char* what);
  /// type = unit [ "[" sum "]" ]
  TypeRef type();

 private:
  ExprPtr junction();
  ExprPtr inversion();
  ExprPtr comparison();
  ExprPtr product();
  ExprPtr unary();
  ExprPtr power();
  ExprPtr postfix();
  ExprPtr primary();
  ExprPtr conditional();
  ExprPtr name_or_call();
  ExprPtr list_of_values();
  void index(PathStep& step);
  bool within_of_follows() const;

  ExprPtr make(ExprKind kind, Span span, std::string word, std::vector<ExprPtr> args);
  ExprPtr binary(std::string word, ExprPtr left, ExprPtr right);

  class Nested;
  TokenStream& tokens_;
  int depth_ = 0;
};

}  // namespace isodyne::lang
