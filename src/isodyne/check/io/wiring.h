#pragma once
// Cable lists for a loopback, and wires that do not do what the list says.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Wirings {
 public:
  Wirings(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  /// Channels must be defined.
  void define();

 private:
  void cables(const lang::CablesDecl& c);
  void wiring(const lang::WiringDecl& w);
  void wire(const lang::WiringDecl::Wire& w, Wiring& wiring, std::map<std::int32_t, Span>& ends);
  template <typename List, typename Others>
  std::int32_t end_of(const lang::Name& name, const List& list, const Others& others, const char* what);
  std::int32_t sensor(const lang::Name& name);
  std::int32_t actuator(const lang::Name& name);
  bool fit(const lang::Name& from, const lang::Name& to, std::int32_t sensor, std::int32_t actuator);
  double share(const lang::ExprPtr& e, const char* what, double usual, double lowest);

  Check& check_;
  Expressions& x_;
};

}  // namespace isodyne::check
