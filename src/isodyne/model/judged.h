#pragma once
// Conditions, faults, scenarios, requirements and figures: what is done to a bench and asked of it.

#include "isodyne/model/expressions.h"

namespace isodyne::model {

class Judged {
 public:
  Judged(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  void declare();
  void define();

 private:
  void condition(const lang::ConditionDecl& c);
  void fault(const lang::FaultDecl& f);
  bool fault_amount(const lang::FaultDecl& f, Fault& fault, const Variable& target);
  bool fault_place(const lang::FaultDecl& f, std::string_view where, const Variable& target);
  bool spike_time(const lang::FaultDecl& f, Fault& fault);
  void fault_time(const lang::FaultDecl& f, Fault& fault);
  /// Index of the tap on a variable, made on first use; kNone if it cannot be faulted (reported).
  std::int32_t tap_on(VarId target, const lang::Path& path);
  bool tap_on_field(VarId target, std::int32_t tap);
  void scenario(const lang::ScenarioDecl& s);
  void scenario_target(const lang::ScenarioStep& s, ScenarioStep& step);
  void requirement(const lang::RequirementDecl& r);
  void figure(const lang::FigureDecl& f);
  ExprScope scope() const { return {&check_.root, nullptr}; }
  std::optional<double> start_of(VarId id) const;

  Check& check_;
  Expressions& x_;
};

}  // namespace isodyne::model
