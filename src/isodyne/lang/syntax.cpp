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

}  // namespace isodyne::lang
