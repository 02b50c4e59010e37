#pragma once
// Campaigns: many runs, the factors of which each case takes one value.

#include "isodyne/check/judged/named.h"
#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Campaigns {
 public:
  Campaigns(Check& check, Expressions& expressions) : check_(check), x_(expressions), named_(check) {}
  void define();

 private:
  void campaign(const lang::CampaignDecl& c);
  void scenarios(const lang::CampaignDecl& c, program::Campaign& made);
  void faults(const lang::CampaignDecl& c, program::Campaign& made);
  void settings(const lang::CampaignDecl& c, program::Campaign& made);
  void vary(const lang::CampaignDecl::Vary& v, program::Campaign& made);
  void draw(const lang::CampaignDecl& c, program::Campaign& made);
  void keep(const lang::CampaignDecl& c, program::Campaign& made);
  void until(const lang::CampaignDecl& c, program::Campaign& made);
  std::optional<double> value(const lang::Expr& e, VarId id);
  std::int64_t count(const lang::Expr& e, const char* what, std::int64_t most);

  Check& check_;
  Expressions& x_;
  Named named_;
};

}  // namespace isodyne::check
