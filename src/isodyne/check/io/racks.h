#pragma once
// Racks: what the channels of modules add to sensors and actuators, and what is where.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Racks {
 public:
  Racks(Check& check, lang::BenchDecl& bench) : check_(check), bench_(bench) {}

  /// Completes the declarations of channels with what their modules say, and makes sensors for what a rack measures
  /// itself; before anything is declared.
  void place();
  /// Finds the channels again and checks that lines carry lines; channels must be defined.
  void define();

 private:
  struct Use {
    Span span;
    std::string where;
  };

  void slot(const lang::RackDecl& r, const lang::RackDecl::Slot& s, Rack& rack);
  void channel(const lang::RackDecl& r, const lang::RackDecl::Channel& c, RackSlot& slot,
               const std::vector<const lang::ModuleDecl::Channels*>& forms);
  std::vector<const lang::ModuleDecl::Channels*> channels_of(const lang::ModuleDecl& m, RackSlot& slot);
  void complete(lang::ChannelDecl& own, const lang::ModuleDecl::Channels& form, const lang::Name& name,
                const char* what);
  void complete_gate(lang::ActuatorDecl& own, const lang::ModuleDecl::Channels& form, const lang::Name& name);
  void no_single_one(const RackChannel& c);
  void make(const lang::RackDecl& r, const lang::RackDecl::Channel& c, const lang::ModuleDecl::Channels& form);
  std::optional<int> number(const lang::Expr& e, int most, const char* what);
  std::string text(const lang::Interval& i) const;

  Check& check_;
  lang::BenchDecl& bench_;
  std::map<std::string, const lang::ModuleDecl*> modules_;
  std::map<std::string, Use> used_;  ///< channels that have a place
  /// Of what has a place, or elements that have: what the module of the first says, which holds for all.
  struct Form {
    std::string text;
    Span span;
    bool whole = false;  ///< of all of it at once
  };
  std::map<std::string, Form> forms_;
};

}  // namespace isodyne::check
