#pragma once
// The operations of expressions and what each computes. This is the one definition of their meaning: the
// interpreter calls it, constants are folded by it, and generated code is tested against it.

#include <cmath>
#include <cstdint>

#include "isodyne/core/numerics.h"

namespace isodyne::program {

enum class Op : std::uint16_t {
  constant,  ///< a number; no operand
  variable,  ///< the value of a variable; no operand
#define OP(id, arity, text) id,
#define LOOKUP(id, arity, text) id,
#define FUNCTION(id, arity, word, rule) id,
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
};

/// Number of operands.
int arity(Op op);

// Truth is 1 and 0. Both branches of `select` are always evaluated; the one not chosen has no effect.
// Inlined always: the interpreter calls it with a constant `op`, and only that case may remain.
[[gnu::always_inline]] inline double apply(Op op, double a, double b, double c) {
  const auto truth = [](bool t) { return t ? 1.0 : 0.0; };
  switch (op) {
    case Op::constant:
    case Op::variable:
      return a;
    case Op::add:
      return a + b;
    case Op::sub:
      return a - b;
    case Op::mul:
      return a * b;
    case Op::div:
      return a / b;
    case Op::pow:
      return std::pow(a, b);
    case Op::neg:
      return -a;
    case Op::lt:
      return truth(a < b);
    case Op::le:
      return truth(a <= b);
    case Op::gt:
      return truth(a > b);
    case Op::ge:
      return truth(a >= b);
    case Op::eq:
      return truth(a == b);
    case Op::ne:
      return truth(a != b);
    case Op::land:
      return truth(a != 0 && b != 0);
    case Op::lor:
      return truth(a != 0 || b != 0);
    case Op::lnot:
      return truth(a == 0);
    case Op::select:
      return a != 0 ? b : c;
    case Op::normal:
      return iso_normal(a, b, c);
    case Op::uniform:
      return iso_uniform(a, b, c);
    case Op::table1:  // not here: these need their table
    case Op::slope1:
    case Op::table2:
    case Op::slope2x:
    case Op::slope2y:
      return 0;
    case Op::abs:
      return std::abs(a);
    case Op::sign:
      return iso_sign(a);
    case Op::sqrt:
      return std::sqrt(a);
    case Op::min:
      return iso_min(a, b);
    case Op::max:
      return iso_max(a, b);
    case Op::clamp:
      return iso_clamp(a, b, c);
    case Op::floor:
      return std::floor(a);
    case Op::ceil:
      return std::ceil(a);
    case Op::round:
      return std::round(a);
    case Op::mod:
      return iso_mod(a, b);
    case Op::exp:
      return std::exp(a);
    case Op::log:
      return std::log(a);
    case Op::sin:
      return std::sin(a);
    case Op::cos:
      return std::cos(a);
    case Op::tan:
      return std::tan(a);
    case Op::asin:
      return std::asin(a);
    case Op::acos:
      return std::acos(a);
    case Op::atan:
      return std::atan(a);
    case Op::atan2:
      return std::atan2(a, b);
  }
  return 0;
}

}  // namespace isodyne::program
