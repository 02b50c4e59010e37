#pragma once
// Parts of parts to one flat list of variables and equations.

#include "isodyne/model/expressions.h"

namespace isodyne::model {

class Flattener {
 public:
  Flattener(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  /// Declares every quantity of the bench (or of a model checked on its own) and of its parts; afterwards all
  /// names resolve.
  void declare(const lang::ModelDecl& root);
  /// Checks start values, equations, modes and sampled parts; afterwards every variable has its type.
  void define();
  /// Reports what has no value: inputs without driver, outputs without equation. Call after define().
  void check_complete();

 private:
  using Visit = void (Flattener::*)(Instance&);
  void each(Instance& instance, Visit visit);

  void declare_members(Instance& instance, int depth);
  void declare_variable(Instance& instance, const lang::VarDecl& v);
  void declare_state(Instance& instance, const lang::VarDecl& v, VarId id);
  void declare_machine(Instance& instance, const lang::ModesDecl& m);
  void declare_part(Instance& instance, const lang::PartDecl& p, int depth);

  void queue_lets(Instance& instance);
  void start_values(Instance& instance);
  void param_value(Instance& instance, const lang::VarDecl& v, VarId id);
  void bounds(Instance& instance);
  void param_bounds(Instance& instance, const lang::VarDecl& v, VarId id);
  void part_arguments(Instance& instance);
  void equations(Instance& instance);
  void equation(Instance& instance, const lang::Equation& e);
  void transitions(Instance& instance);
  void samplers(Instance& instance);
  void sampled_assignment(Instance& instance, const lang::Equation& a, Sampler& sampler);
  void complete(Instance& instance);

  VarId own(const Instance& instance, const std::string& name) const;
  VarId equation_target(Instance& instance, const lang::Equation& e);
  bool claim(VarId target, Span span);
  void set_start(VarId id, NodeId value, Span span);

  Check& check_;
  Expressions& x_;
  std::vector<const lang::ModelDecl*> nesting_;
  std::map<const lang::ModesDecl*, std::int32_t> mode_choices_;
};

}  // namespace isodyne::model
