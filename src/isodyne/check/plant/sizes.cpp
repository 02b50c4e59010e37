// How many elements a value has, told from names and declared sizes alone: channels are declared before the types of
// what they read are known.

#include <algorithm>

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

int Expressions::largest_size(const lang::Expr& e, const ExprScope& scope) {
  int size = 0;
  for (const lang::ExprPtr& arg : e.args) size = std::max(size, size_of(*arg, scope));
  return size;
}

int Expressions::size_of_call(const lang::Expr& e, const ExprScope& scope) {
  const auto user = check_.functions.find(e.word);
  if (user == check_.functions.end()) return makes_one(e) ? 0 : largest_size(e, scope);
  const lang::FunctionDecl& f = *user->second;
  if (f.result.size) {
    const auto size = check_.whole_number(*f.result.size, nullptr, nullptr, "the size of a vector");
    return size && *size >= 1 && *size <= Check::kMostElements ? static_cast<int>(*size) : 0;
  }
  const bool takes_vectors =
      std::any_of(f.params.begin(), f.params.end(), [](const auto& p) { return p.type.size != nullptr; });
  return takes_vectors ? 0 : largest_size(e, scope);
}

int Expressions::size_of(const lang::Expr& e, const ExprScope& scope) {
  const Diagnostics before = check_.diagnostics;
  const int size = [&] {
    switch (e.kind) {
      case lang::ExprKind::name: {
        const Target target = check_.resolve(*scope.instance, e.path, scope.env);
        return target.vector ? static_cast<int>(target.ids.size()) : 0;
      }
      case lang::ExprKind::list:
        return static_cast<int>(e.args.size());
      case lang::ExprKind::call:
        return size_of_call(e, scope);
      default:
        return largest_size(e, scope);
    }
  }();
  check_.diagnostics = before;
  return size;
}

}  // namespace isodyne::check
