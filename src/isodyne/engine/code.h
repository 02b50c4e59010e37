#pragma once
// Byte code: expressions of a Program as a flat list of register operations.
//
// Registers are one array of doubles: every variable of the Program (same indices), then constants, then
// intermediate results. A node shared between expressions of one piece of code is computed once.

#include <cstdint>
#include <map>
#include <vector>

#include "isodyne/core/numerics.h"
#include "isodyne/model/program.h"

namespace isodyne::engine {

struct Instruction {
  model::Op op = model::Op::constant;
  std::int32_t to = 0, a = 0, b = 0, c = 0;  ///< registers; what an operation does not use is 0
  std::int32_t table = 0;                    ///< of a look-up
};

using Code = std::vector<Instruction>;

/// Turns nodes into code. Pieces made by one CodeMaker share its constants and its space for intermediate
/// results, so their final register numbers are known only at the end: call link() on every piece.
class CodeMaker {
 public:
  explicit CodeMaker(const model::Program& program)
      : program_(program), variables_(static_cast<std::int32_t>(program.variables.size())) {}

  /// Appends code that computes `node`; returns where the result will be (to be passed through linked()).
  std::int32_t compute(model::NodeId node, Code& code);
  /// Appends code that stores `node` in a variable.
  void assign(model::VarId target, model::NodeId node, Code& code);
  /// Forgets intermediate results (but those kept). Call between pieces that do not always run together.
  void forget();
  /// From now on forget() leaves what is known at present: results that stay valid for all later pieces.
  void keep();
  /// Registers in use at present are not used again, though forget() forgets what is in them.
  void reserve();
  /// Ends keep() and rename(): a new start. Registers of intermediate results are used again.
  void restart();
  /// From now on the variable stands in a register of its own, which is returned: for pieces that must leave
  /// the variables alone. Calls one after the other give registers one after the other.
  std::int32_t rename(model::VarId id);
  /// Where a variable stands.
  std::int32_t place_of(model::VarId id) const;

  std::int32_t linked(std::int32_t reg) const;
  void link(Code& code) const;
  /// The registers in their first state: variables and intermediates 0, constants in place.
  std::vector<double> registers() const;

 private:
  std::int32_t constant(double value);
  std::int32_t operand(model::NodeId node) const;

  const model::Program& program_;
  std::int32_t variables_;
  std::vector<double> constants_;
  std::map<std::uint64_t, std::int32_t> constant_index_;
  std::map<model::NodeId, std::int32_t> known_;
  std::map<model::NodeId, std::int32_t> kept_;
  std::map<model::VarId, std::int32_t> renamed_;
  std::int32_t next_temporary_ = 0, most_temporaries_ = 0, kept_temporaries_ = 0;
};

/// The tables of a program in the form in which things are looked up; valid as long as the program.
std::vector<iso_table> tables_of(const model::Program& program);

/// Runs code on registers. Never fails, allocates or blocks.
void run(const Instruction* begin, const Instruction* end, double* registers, const iso_table* tables);
inline void run(const Code& code, double* registers, const iso_table* tables) {
  run(code.data(), code.data() + code.size(), registers, tables);
}

/// Values of some expressions, computed from the variables of any image: for conditions, scenarios and
/// requirements. Has its own registers, so it may be used beside a running plant.
class Evaluator {
 public:
  Evaluator(const model::Program& program, const std::vector<model::NodeId>& roots);

  /// Computes all expressions from `variables` (one double per variable of the Program).
  void evaluate(const double* variables);
  /// Result of the i-th expression by the last evaluate(). kNone as root gives 0.
  double value(std::size_t i) const { return registers_[static_cast<std::size_t>(results_[i])]; }

 private:
  std::vector<iso_table> tables_;
  Code code_;
  std::vector<std::int32_t> results_;
  std::vector<model::VarId> reads_;
  std::vector<double> registers_;
};

}  // namespace isodyne::engine
