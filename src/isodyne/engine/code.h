#pragma once
// Byte code: expressions of a plant as a flat list of register operations.
//
// Registers are one array of doubles: every variable of the plant (same indices), then constants, then
// intermediate results. A node shared between expressions of one piece of code is computed once.

#include <cstdint>
#include <map>
#include <unordered_map>
#include <vector>

#include "isodyne/core/numerics.h"
#include "isodyne/program/plant.h"

namespace isodyne::engine {

/// What an instruction does: an operation of an expression, or several of them at once where the result of one is
/// needed by the other alone. Each operation rounds as it would on its own.
enum class Opcode : std::intptr_t {
#define OP(id, arity, text) id,
#define LOOKUP(id, arity, text) id,
#define FUNCTION(id, arity, word, rule) id,
  copy,
#include "isodyne/program/ops.def"
#undef OP
#undef LOOKUP
#undef FUNCTION
  // ∘ is one of + - * /. An operation on a result is one of these, or - or / with the result behind: c - r, c / r.
  first_pair,                     ///< (a ∘ b) ∘ c: 4 · 6 of them
  first_both = first_pair + 24,   ///< (a ∘ b) ∘ (c ∘ d): 4 · 4 · 4
  first_chain = first_both + 64,  ///< ((a ∘ b) ∘ c) ∘ d: 4 · 6 · 6
  first_sum = first_chain + 144,  ///< ((a ∘ b) ∘ c) + or - d * e: 4 · 6 · 2
  first_choice = first_sum + 48,  ///< if a < b then c else d, for < <= > >=
  end = first_choice + 4,         ///< behind the last instruction
};

struct Instruction {
  /// Once linked: where the code of the action lies.
  Opcode action = Opcode::copy;
  /// Registers; what an action does not use is 0. Of a look-up, c is the number of the table.
  std::int32_t to = 0, a = 0, b = 0, c = 0, d = 0, e = 0;
};

using Code = std::vector<Instruction>;

/// Puts instructions from `begin` on into another order with the same results, so that an instruction does not have to
/// wait for the one just before it: processors then work on several at once. Registers that an action does not use
/// count as used; that costs nothing but a little freedom.
void spread(Code& code, std::size_t begin);

/// Turns nodes into code. Pieces made by one CodeMaker share its constants and its space for intermediate
/// results, so their final register numbers are known only at the end: call link() on every piece.
class CodeMaker {
 public:
  explicit CodeMaker(const program::Plant& program)
      : program_(program), variables_(static_cast<std::int32_t>(program.variables.size())) {}

  /// Says which expressions will be asked for, so that operations whose results are needed once can be joined.
  void expect(const std::vector<program::NodeId>& roots);
  /// Appends code that computes `node`; returns where the result will be (to be passed through linked()).
  std::int32_t compute(program::NodeId node, Code& code);
  /// Appends code that stores `node` in a variable.
  void assign(program::VarId target, program::NodeId node, Code& code);
  /// Forgets intermediate results (but those kept). Call between pieces that do not always run together.
  void forget();
  /// From now on forget() leaves what is known at present: results that stay valid for all later pieces.
  void keep();
  /// Registers used since the last restart() are not used again, though forget() forgets what is in them.
  void reserve();
  /// Ends keep() and rename(): a new start. Registers of intermediate results are used again.
  void restart();
  /// From now on the variable stands in a register of its own, which is returned: for pieces that must leave
  /// the variables alone. Calls one after the other give registers one after the other.
  std::int32_t rename(program::VarId id);
  /// The first of some registers that belong to nobody else, behind those renamed so far.
  std::int32_t room(std::int32_t count);
  /// Where a variable stands.
  std::int32_t place_of(program::VarId id) const;

  std::int32_t linked(std::int32_t reg) const;
  /// Final registers, an end, and the places of the actions: ready to run, and not to be linked again.
  void link(Code& code) const;
  /// The registers in their first state: variables and intermediates 0, constants in place.
  std::vector<double> registers() const;

 private:
  static void place(Instruction& i);
  std::int32_t constant(double value);
  std::int32_t operand(program::NodeId node) const;
  bool joins(program::NodeId child, bool comparison) const;
  Instruction joined(const program::Node& n, std::vector<program::NodeId>& operands) const;
  Instruction joined_arithmetic(const program::Node& n, std::vector<program::NodeId>& operands) const;
  struct Tail;
  Tail tail_of(const program::Node& n) const;

  const program::Plant& program_;
  std::int32_t variables_;
  std::vector<double> constants_;
  std::map<std::uint64_t, std::int32_t> constant_index_;
  std::unordered_map<program::NodeId, std::int32_t> known_;
  std::unordered_map<program::NodeId, int> uses_;
  std::unordered_map<program::NodeId, std::int32_t> kept_;
  std::map<program::VarId, std::int32_t> renamed_;
  std::int32_t next_temporary_ = 0, kept_temporaries_ = 0;
  std::int32_t highest_ = 0, most_temporaries_ = 0;  ///< used since the last restart, and ever
};

/// The tables of a program in the form in which things are looked up; valid as long as the program.
std::vector<iso_table> tables_of(const program::Plant& program);

/// Runs code on registers. Never fails, allocates or blocks.
/// The last instruction has the action `end`.
void run(const Instruction* begin, double* registers, const iso_table* tables);
inline void run(const Code& code, double* registers, const iso_table* tables) {
  if (!code.empty()) run(code.data(), registers, tables);
}

/// Values of some expressions, computed from the variables of any image: for conditions, scenarios and
/// requirements. Has its own registers, so it may be used beside a running plant.
class Evaluator {
 public:
  Evaluator(const program::Plant& program, const std::vector<program::NodeId>& roots);

  /// Computes all expressions from `variables` (one double per variable of the plant).
  void evaluate(const double* variables) {
    load(variables);
    compute();
  }
  /// The same in two steps, between which give() may put other values in the place of some variables.
  void load(const double* variables);
  void give(program::VarId id, double value) { registers_[static_cast<std::size_t>(id)] = value; }
  void compute();
  /// Result of the i-th expression by the last evaluate(). kNone as root gives 0.
  double value(std::size_t i) const { return registers_[static_cast<std::size_t>(results_[i])]; }

 private:
  std::vector<iso_table> tables_;
  Code code_;
  std::vector<std::int32_t> results_;
  std::vector<program::VarId> reads_;
  std::vector<double> registers_;
};

}  // namespace isodyne::engine
