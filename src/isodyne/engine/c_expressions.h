#pragma once
// Expressions of a plant as C text.
//
// Every operation appears once in its block, in an order in which operands come first, so that the compiled code
// rounds as the interpreter does. Operations on constants alone are computed here, by the interpreter's own
// definitions, because compilers fold them with another mathematical library.

#include <functional>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "isodyne/engine/plan.h"

namespace isodyne::engine {

/// One C name for each variable: "chamber.level" becomes chamber_level.
class CNames {
 public:
  explicit CNames(const program::Plant& program);
  const std::string& of(program::VarId id) const { return names_[static_cast<std::size_t>(id)]; }
  /// Its place in the array of values: v[i_chamber_level].
  std::string place(program::VarId id) const { return "v[i_" + of(id) + "]"; }

 private:
  std::vector<std::string> names_;
};

/// A number as C reads it back to the same bits.
std::string c_number(double value);

/// A stretch of C in which variables and common operations stand in locals.
class CBlock {
 public:
  CBlock(const program::Plant& program, const CNames& names, std::string& out, std::string indent)
      : program_(program), names_(names), out_(out), indent_(std::move(indent)) {}

  /// Variables that a read takes from elsewhere than v[…]: gives the C text, or nothing.
  std::function<std::string(program::VarId)> source;
  /// Operations whose results are known already, as C text.
  std::unordered_map<program::NodeId, std::string> known;

  /// Says which expressions will be asked for, so that what they share is computed once.
  void expect(const std::vector<program::NodeId>& roots);
  /// The expression as a C double, or as a C truth value. Lines that it needs before go to `out`.
  std::string value(program::NodeId root) { return text(root).as_value(); }
  std::string truth(program::NodeId root) { return text(root).as_truth(); }
  /// The variable as C text: a local, read from its source at its first use.
  std::string read(program::VarId id);
  /// From now on the variable is this local.
  void define(program::VarId id, std::string local) { locals_[id] = std::move(local); }
  /// The variable holds this number from now on: operations on it are computed here too.
  void define_constant(program::VarId id, double value) { constants_[id] = value; }
  /// What an expression asked for before is, if it is a number.
  std::optional<double> number(program::NodeId root) const;
  /// Forgets locals and common operations.
  void forget();
  void line(const std::string& text) { out_ += indent_ + text + "\n"; }

 private:
  /// A piece of C: how tightly it binds, and whether it is a truth value (an int) or a double.
  struct Text {
    std::string c;
    int level = 0;  ///< 0: a single thing … 9: needs brackets everywhere
    bool is_truth = false;

    std::string in(int most) const { return level > most ? "(" + c + ")" : c; }
    std::string as_value() const { return is_truth ? "(double)" + in(1) : c; }
    Text value_text() const { return is_truth ? Text{"(double)" + in(1), 1, false} : *this; }
    std::string as_truth(int most = 9) const;
  };

  Text text(program::NodeId root);
  bool fold(program::NodeId id, const program::Node& n);
  Text compose(const program::Node& n);
  Text operand(program::NodeId id);
  Text infix(const program::Node& n, const char* sign, int level, bool is_truth);
  std::string call(const std::string& function, const program::Node& n);
  void keep(program::NodeId id, Text text);

  const program::Plant& program_;
  const CNames& names_;
  std::string& out_;
  std::string indent_;
  std::unordered_map<program::VarId, std::string> locals_;
  std::unordered_map<program::NodeId, Text> texts_;
  std::unordered_map<program::NodeId, double> folded_;
  std::unordered_map<program::VarId, double> constants_;
  std::unordered_map<program::NodeId, int> uses_;
  int temporaries_ = 0;
};

}  // namespace isodyne::engine
