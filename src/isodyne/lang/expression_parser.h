#pragma once
// Expressions. Precedence, loosest first:
//
//   implies (right)  <  or, and (not mixed without brackets)  <  not
//   <  comparisons, is, within … of (not chained)  <  + -  <  * /  <  unary -  <  ^  <  at limit, becomes active
//
// Formulas (of requirements) may speak of time as well: until and since stand between implies and or; within T before
// what it belongs to, like not; stays for, for at least, in the last after a comparison; rises, falls, changes like
// becomes active.

#include "isodyne/lang/token_stream.h"

namespace isodyne::lang {

class ExpressionParser {
 public:
  explicit ExpressionParser(TokenStream& tokens) : tokens_(tokens) {}

  /// expression = junction [ "implies" expression ]
  ExprPtr expression();
  /// formula = expression, in which operators over time may stand
  ExprPtr formula();
  /// sum = product { ("+" | "-") product }: a value that no comparison belongs to, such as a bound
  ExprPtr sum();
  /// path = name [ index ] { "." name [ index ] } ; index = "[" ( "*" | sum ) "]"
  Path path(const char* what);
  /// type = unit [ "[" sum "]" ]
  TypeRef type();
  /// file = text [ "column" text ]
  FileColumn file_column(const char* what);
  /// A column of a file as a value over time, the word `from` already taken.
  ExprPtr from_file();

 private:
  ExprPtr connection();
  ExprPtr junction();
  ExprPtr inversion();
  ExprPtr over_time();
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
  bool band_follows(std::size_t i) const;
  ExprPtr band(ExprPtr left, ExprPtr tolerance, ExprPtr time);

  ExprPtr make(ExprKind kind, Span span, std::string word, std::vector<ExprPtr> args);
  ExprPtr binary(std::string word, ExprPtr left, ExprPtr right);

  class Nested;
  TokenStream& tokens_;
  int depth_ = 0;
  bool formula_ = false;  ///< operators over time may stand here
};

}  // namespace isodyne::lang
