#pragma once
// Requirements: what is asked, with operators over time, and how far it is from being broken.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Formulas {
 public:
  Formulas(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  /// Completes `r` (name and texts are there) from its declaration; false if it is wrong (reported).
  bool define(const lang::RequirementDecl& decl, Requirement& r);

 private:
  bool over_time(const lang::Expr& e) const;
  bool note_measures(const lang::RequirementDecl& decl, Requirement& r);
  bool define_at_once(const lang::RequirementDecl& decl, Requirement& r);
  bool define_over_time(const lang::RequirementDecl& decl, Requirement& r);
  std::int32_t formula(const lang::Expr& e, Requirement& r);
  std::int32_t logic(const lang::Expr& e, Requirement& r);
  std::int32_t truth(const lang::Expr& e, Requirement& r);
  std::int32_t edge(const lang::Expr& e, Requirement& r);
  std::int32_t in_time(const lang::Expr& e, Requirement& r);
  std::int32_t add(Requirement& r, FormulaNode node) const;
  void margins(Requirement& r, std::int32_t root);
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
  std::string what_;
  std::map<std::int32_t, Unit> edge_units_;  ///< of rises, falls, changes of numbers, by their place
};

}  // namespace isodyne::check
