#pragma once
// Parts of parts to one flat list of variables and equations.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

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
  static ExprScope scope_of(const Instance& instance, const Env* env) { return {&instance, nullptr, env}; }

  // flatten.cpp: names
  void declare_members(Instance& instance, int depth);
  void declare_units(Instance& instance);
  void expand(Instance& instance, const lang::Members& members, const Env* env, bool outside);
  /// Calls `body` once for each number of a loop, with the counter in the environment.
  void repeat(Instance& instance, const lang::LoopHead& head, const Env* env,
              const std::function<void(const Env*)>& body);
  bool holds(Instance& instance, const lang::VariantDecl& variant, const Env* env);
  void note_assigned(Instance& instance, const lang::Members& members);
  void note_assigned(Instance& instance, const lang::ModesDecl& modes);
  void note_assigned(Instance& instance, const std::vector<lang::Action>& actions);
  void declare_variable(Instance& instance, const lang::VarDecl& v, const Env* env);
  void declare_state(Instance& instance, const lang::VarDecl& v, VarId id);
  void declare_machine(Instance& instance, const lang::ModesDecl& m, std::int32_t outer, int outer_mode);
  void declare_solve(Instance& instance, const lang::SolveDecl& s, const Env* env);
  void declare_part(Instance& instance, const Placed<lang::PartDecl>& placed, int depth);
  void place_part(Instance& instance, const Placed<lang::PartDecl>& placed, const std::string& name,
                  const lang::ModelDecl& model, const Env* env, int depth);
  std::int32_t group_of(Instance& instance, const lang::PartDecl& part, const Env* env);
  std::int32_t core_of(const lang::Expr& number, Instance& instance, const Env* env);
  void declare_tables(Instance& instance);
  const lang::TableDecl* table_given(const Instance& instance, const lang::TableDecl& wanted);
  void check_overrides(Instance& instance);
  const PartValue* override_of(const Instance& instance, const std::string& name) const;

  // places.cpp: terminals, nodes, and what lies at them
  void declare_place(Instance& instance, const lang::PlaceDecl& d, const Env* env);
  void lie(Instance& instance, const Placed<lang::PartDecl>& placed);
  void lie(Instance& instance, const lang::PartDecl& p, Instance& part, const Env* env);
  void lie_each(Instance& instance, const lang::PartDecl& p, Instance& part, const Env* env);
  const lang::PlaceDecl* terminal_of(const lang::PartDecl& p, const Instance& part, const lang::PartDecl::Lies& lies,
                                     std::size_t which);
  void tie(Instance& instance, Instance& part, const lang::PlaceDecl& terminal, const lang::PartDecl::Lies& lies,
           const Env* env);
  std::optional<PlacesMeant> places_of(const Instance& instance, const lang::PartDecl::Lies& lies, const Env* env);

  // define.cpp: values and equations
  void queue_lets(Instance& instance);
  void queue_let(Instance& instance, const Placed<lang::VarDecl>& v, VarId first, int size);
  void first_values(Instance& instance);
  void first_value(Instance& instance, const Placed<lang::VarDecl>& v);
  void missing_value(Instance& instance, const lang::VarDecl& v, VarId id);
  void param_bounds(Instance& instance, const Placed<lang::VarDecl>& v);
  void bounds(Instance& instance);
  void equations(Instance& instance);
  void equation(Instance& instance, const Placed<lang::Equation>& e);
  Target equation_target(Instance& instance, const Placed<lang::Equation>& e);
  VarId settable(Instance& instance, const lang::Equation& e, VarId id);
  bool declared_input(const Instance& part, const std::string& name) const;
  void solves(Instance& instance);
  void complete(Instance& instance);

  // machines.cpp: state machines, sampled parts, events
  void transitions(Instance& instance);
  void machine(Instance& instance, const lang::ModesDecl& m, const Env* env);
  void periodic_tasks(Instance& instance);
  void events(Instance& instance);
  /// A block of actions while it is being checked.
  struct Block {
    Instance& instance;
    Span span;
    bool periodic = false;  ///< `every`, and not an event
    VarId guard = kNone;    ///< of the `if` around it: true where it acts
    std::vector<Assignment> body;
  };
  std::vector<Assignment> actions(Instance& instance, const std::vector<lang::Action>& list, const Env* env, Span span,
                                  bool periodic);
  void act(Block& block, const std::vector<lang::Action>& list, const Env* env);
  void assign(Block& block, const lang::Action& a, const Env* env);
  void branch(Block& block, const lang::Action& a, const Env* env);

  Elements own(const Instance& instance, const std::string& name) const;
  bool declared_here(const Instance& instance, const lang::Name& name) const;
  bool claim(VarId target, Span span);
  void set_start(VarId id, NodeId value, Span span);

  Check& check_;
  Expressions& x_;
  std::vector<const lang::ModelDecl*> nesting_;
  std::map<const lang::ModesDecl*, std::int32_t> mode_choices_;
  std::unordered_map<VarId, std::size_t> machine_of_;
  std::unordered_map<VarId, Span> sampled_by_;
};

}  // namespace isodyne::check
