#pragma once
// Basic events, hazards, and the trees of gates between them.

#include <map>

#include "isodyne/check/judged/named.h"
#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Hazards {
 public:
  Hazards(Check& check, Expressions& expressions) : check_(check), x_(expressions), named_(check) {}
  void define();

 private:
  /// A hazard while its gates are put in order.
  struct Tree {
    Hazard& made;
    std::map<std::string, const lang::HazardDecl::Gate*> decls;
    std::map<std::string, std::int32_t> gates;  ///< those that are in order; kNone: being looked at
    int deep = 0;
  };
  void event(const lang::BasicEventDecl& e);
  void hazard(const lang::HazardDecl& h);
  std::optional<TreeInput> input(Tree& tree, const lang::TreeFormula& f, const lang::HazardDecl::Gate* named);
  std::optional<TreeInput> named_input(Tree& tree, const lang::Name& name);
  std::optional<double> number(const lang::Expr& e, const char* unit, const char* what);

  Check& check_;
  Expressions& x_;
  Named named_;
  std::map<std::string, std::int32_t> events_;
};

}  // namespace isodyne::check
