#pragma once
// Where a controller can be: the settings of a controller, one by one.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Settings {
 public:
  Settings(Check& check, Expressions& expressions, const Env* env) : check_(check), x_(expressions), env_(env) {}

  /// What the controller reads and writes comes first; `known`: nothing was wrong with it.
  void define(const lang::ControllerDecl& c, bool known, Controller& controller);

 private:
  using Clause = lang::ControllerDecl::Setting::Clause;
  bool kind(const lang::ControllerDecl::Setting& s, Setting& setting);
  void clause(const Clause& clause, Setting& setting);
  void number(const Clause& clause, const char* what, double lowest, double highest, int& to);
  void address(const lang::ControllerDecl::Setting& s, Setting& setting);
  void gates(const lang::ControllerDecl::Setting& s, const Setting& setting, const Controller& controller);
  void complete(const lang::ControllerDecl::Setting& s, const Setting& setting);

  Check& check_;
  Expressions& x_;
  const Env* env_;  ///< of an element of an array: its index
};

/// The logic of a `part` setting as a program of its own: stepped with the controller's period, inputs by the
/// names of what the controller reads, outputs by the names of what it writes. Null after an error.
std::shared_ptr<const Program> logic_program(const Check& bench, const lang::ControllerDecl::Setting& s,
                                             const Controller& controller, std::optional<double> index);

}  // namespace isodyne::check
