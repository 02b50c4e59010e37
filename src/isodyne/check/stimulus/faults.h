#pragma once
// Faults: where they act, what they do there, and when.

#include <string_view>

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Faults {
 public:
  Faults(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  void define();

 private:
  void fault(const lang::FaultDecl& f);
  void compose(const lang::ComposeDecl& c);
  bool on_messages(const lang::FaultDecl& f, Fault& fault);
  std::int32_t between_opened(std::int32_t terminal, std::int32_t lies_at);
  void node_outside(std::int32_t place);
  bool with_edges(VarId target) const;
  bool on_gate(const lang::FaultDecl& f, Fault& fault, VarId target);
  bool on_place(const lang::FaultDecl& f, Fault& fault);
  bool shorts(const lang::FaultDecl& f, const Fault& fault, const PlacesMeant& places);
  bool opens(const lang::FaultDecl& f, const Fault& fault, const PlacesMeant& places);
  bool on_quantity(const lang::FaultDecl& f, Fault& fault);
  bool place(const lang::FaultDecl& f, std::string_view where, const Variable& target);
  bool swap(const lang::FaultDecl& f, Fault& fault, VarId target);
  bool amount(const lang::FaultDecl& f, Fault& fault, const Variable& target);
  bool share_or_time(const lang::FaultDecl& f, std::string_view rule, Fault& fault);
  bool replacement(const lang::FaultDecl& f, Fault& fault, const Variable& target);
  bool extras(const lang::FaultDecl& f, Fault& fault);
  void time(const lang::FaultDecl& f, Fault& fault);
  VarId setting(const Fault& fault, const char* what, Type type, Unit unit, double value,
                std::optional<std::pair<double, double>> limits);
  void settings(const lang::FaultDecl& f, Fault& fault);
  bool wrong(const lang::FaultDecl& f, const std::string& why, const std::string& advice);
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
  Type amount_type_;  ///< of the fault that is being defined, if its amount is a number
  Unit amount_unit_;
};

}  // namespace isodyne::check
