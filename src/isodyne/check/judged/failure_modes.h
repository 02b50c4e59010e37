#pragma once
// Tables of failure modes: what their columns are, and the rows that are written in the bench.

#include "isodyne/check/judged/named.h"
#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class FailureTables {
 public:
  explicit FailureTables(Check& check) : check_(check), named_(check) {}
  void define();

 private:
  void table(const lang::FailureModesDecl& f);
  std::vector<VarId> truths(const std::vector<lang::Path>& paths);
  std::optional<std::int32_t> one_scenario(const std::vector<lang::Name>& names);
  void names_of_row(const lang::FailureModesDecl::Row& r, FailureModes::Row& row);

  Check& check_;
  Named named_;
};

}  // namespace isodyne::check
