#pragma once
// Scenarios: what happens, as steps with jumps. Sub-scenarios are put in place, their parameters known.

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Scenarios {
 public:
  Scenarios(Check& check, Expressions& expressions) : check_(check), x_(expressions) {}

  void define();

 private:
  /// Longer ones have run away: scenarios that contain each other many times over.
  static constexpr std::size_t kMostSteps = 100'000;
  static constexpr std::size_t kMostDepth = 500;
  using Names = std::map<std::string, Typed>;
  using Steps = std::vector<lang::ScenarioStep>;

  void scenario(const lang::ScenarioDecl& s);
  void values(const lang::ValuesDecl& v);
  void too_many(Span span);
  void steps(const Steps& all);
  void step(const lang::ScenarioStep& s);
  void start(const lang::ScenarioStep& s);
  void start_from(const lang::ScenarioStep& s);
  void set(const lang::ScenarioStep& s);
  void assign(const lang::Path& target, const lang::Expr& value, Span span, ScenarioStep step);
  void play(const lang::ScenarioStep& s);
  std::int32_t table_over_time(const lang::ScenarioStep& s, const Variable& v);
  void release(const lang::ScenarioStep& s);
  void stop(const lang::ScenarioStep& s);
  void load(const lang::ScenarioStep& s);
  void schedule(const lang::ScenarioStep& s);
  void timed(const lang::ScenarioStep& s);
  void expect(const lang::ScenarioStep& s);
  void on_fault(const lang::ScenarioStep& s);
  void perform(const lang::ScenarioStep& s);
  bool arguments(const lang::ScenarioDecl& of, const lang::ScenarioStep& s, Names& names);
  void repeat(const lang::ScenarioStep& s);
  void branches(const lang::ScenarioStep& s);

  /// Where a value can be set: fills target and, of a channel, tap. False if it cannot (reported).
  bool place(const lang::Path& path, ScenarioStep& step);
  bool within_limits(VarId target, NodeId value, Span span);
  Time span_of(const lang::Expr& e, const char* what);
  std::int32_t here() const { return static_cast<std::int32_t>(made_.steps.size()); }
  std::size_t add(ScenarioStep step, Span span);
  ExprScope scope() const { return {&check_.root, &names_}; }

  Check& check_;
  Expressions& x_;
  Scenario made_;
  Names names_;                      ///< parameters of the scenario that is being put in place
  std::vector<std::string> within_;  ///< scenarios that are being put in place
  /// Of the scenario that is being put in place: its first step, and how many times it was done before.
  struct Base {
    std::size_t begin = 0;
    double times = 0;
  };
  Base base_;
  struct Fork {
    std::size_t step = 0;
    std::vector<std::string> names;  ///< of its tracks
  };
  std::vector<Fork> forks_;  ///< those that what is being put in place stands in
  std::map<std::string, int> performs_;
  bool acted_ = false, too_long_ = false;
  std::size_t performed_ = 0;  ///< scenarios done by this one, however deep
};

}  // namespace isodyne::check
