#pragma once
// Measures: what is made of a signal over stretches of a run.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Measures {
 public:
  Measures(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  /// Names of the measures, which requirements may read.
  void declare();
  void define();

 private:
  void measure(const lang::MeasureDecl& m);
  bool signal(const lang::MeasureDecl& m, std::string_view rule, Measure& made, Typed& of);
  bool takes(const lang::MeasureDecl& m, std::string_view taken);
  bool clauses(const lang::MeasureDecl& m, std::string_view taken, Measure& made, const Typed& of);
  bool result(const lang::MeasureDecl& m, std::string_view rule, Measure& made, const Typed& of);
  bool window(const lang::MeasureDecl& m, Measure& made);
  std::optional<double> number(const lang::ExprPtr& e, const char* what, const Dimension& dimension = {});
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
};

}  // namespace isodyne::check
