#pragma once
// Panels: what somebody who operates a running bench has before them.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Panels {
 public:
  Panels(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}
  void define();

 private:
  using Item = program::PanelItem;
  void panel(const lang::PanelDecl& p);
  void item(const lang::PanelDecl::Item& i, program::Panel& panel);
  bool fits(const lang::PanelDecl::Item& i, const lang::Path& path, VarId id, const Item& item);
  bool wrong_type(const lang::Path& path, VarId id, const char* word, const char* has_to_be);
  bool range(const lang::PanelDecl::Item& i, VarId id, Item& item);
  std::optional<double> value(const lang::Expr& e, VarId id, bool difference, const char* what);
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
};

}  // namespace isodyne::check
