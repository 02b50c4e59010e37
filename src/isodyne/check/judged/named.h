#pragma once
// Faults, scenarios and requirements by their names, for what speaks of them; a name that does not exist is reported.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

class Named {
 public:
  explicit Named(Check& check) : check_(check) {}
  std::optional<std::int32_t> fault(const lang::Name& name);
  /// One that can be run by itself.
  std::optional<std::int32_t> scenario(const lang::Name& name);
  /// Of an expectation every requirement that it stands for.
  std::vector<std::int32_t> requirement(const lang::Name& name);
  std::vector<std::int32_t> requirements(const std::vector<lang::Name>& names);
  /// Whether something of this name stands in `decls` before it, which is reported.
  template <typename Decl>
  bool twice(const Decl& decl, const std::vector<Decl>& decls, const char* what) {
    for (const Decl& other : decls) {
      if (&other == &decl) return false;
      if (other.name.text != decl.name.text) continue;
      said_twice(decl.name, other.name, what);
      return true;
    }
    return false;
  }

 private:
  void said_twice(const lang::Name& name, const lang::Name& first, const char* what);
  Check& check_;
};

}  // namespace isodyne::check
