#pragma once
// Conditions, faults, scenarios, requirements and figures: what is done to a bench and asked of it.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Requirements {
 public:
  Requirements(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  void declare();
  void define();

 private:
  void condition(const lang::ConditionDecl& c);
  /// `text`: how people read the formula, if it is not in the text as it is.
  void allocate(const lang::Path& path, Requirement& requirement);
  void requirement(const lang::RequirementDecl& r, const std::string& text = {});
  void expectation(const lang::ExpectationDecl& e);
  void figure(const lang::FigureDecl& f);
  ExprScope scope() const { return {&check_.root, nullptr}; }
  std::optional<double> start_of(VarId id) const;

  Check& check_;
  Expressions& x_;
};

}  // namespace isodyne::check
