#include "isodyne/lang/syntax.h"

#include "isodyne/core/text.h"

namespace isodyne::lang {

std::string Path::text() const {
  std::string all;
  for (const PathStep& part : parts) {
    if (!all.empty()) all += '.';
    all += part.text;
    if (part.all) all += "[*]";
    if (part.index) {
      const bool number = part.index->kind == ExprKind::number;
      all += number ? "[" + format_number(part.index->value) + "]" : "[…]";
    }
  }
  return all;
}

ExprPtr clone(const Expr& e) {
  auto copy = std::make_unique<Expr>();
  copy->kind = e.kind;
  copy->span = e.span;
  copy->word = e.word;
  copy->value = e.value;
  copy->path = e.path;
  copy->height = e.height;
  copy->column = e.column;
  for (const ExprPtr& arg : e.args) copy->args.push_back(clone(*arg));
  return copy;
}

ExprPtr clone_with(const Expr& e, const std::string& name, double value) {
  ExprPtr copy = clone(e);
  if (e.kind == ExprKind::name && e.path.plain() && e.path.parts[0].text == name) {
    copy->kind = ExprKind::number;
    copy->value = value;
    copy->word.clear();
    copy->path = {};
    return copy;
  }
  for (PathStep& step : copy->path.parts) {
    if (step.index) step.index = clone_with(*step.index, name, value);
  }
  for (ExprPtr& arg : copy->args) arg = clone_with(*arg, name, value);
  return copy;
}

Path path_of_element(const Name& name, const std::shared_ptr<const Expr>& index) {
  Path path(name);
  path.parts[0].index = index;
  return path;
}

}  // namespace isodyne::lang
