#pragma once
// Writes the C of a program piece by piece. Private to c_code.cpp (names, tables, equations), c_events.cpp (what jumps)
// and c_steps.cpp (from one instant to the next).

#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/engine/c_code.h"
#include "isodyne/engine/c_expressions.h"
#include "isodyne/engine/state.h"
#include "isodyne/program/groups.h"
#include "isodyne/program/numbering.h"

namespace isodyne::engine {

using program::Item;
using program::kNone;
using program::Method;
using program::NodeId;
using program::VarId;

/// Functions of more equations than this are cut: compilers take more than proportional time for long ones.
constexpr std::size_t kMostPerFunction = 300;

class CWriter {
 public:
  CWriter(const program::Plant& program, const Plan& plan, const CStyle& style)
      : p_(program), plan_(plan), style_(style), names_(program), rings_(rings_of(program)) {
    for (std::size_t i = 0; i < p_.taps.size(); ++i) tap_of_[p_.taps[i].target] = static_cast<std::int32_t>(i);
    for (const program::QuickWatch& w : p_.quick_watches) remembers_.insert({w.sum, w.good});
  }
  CCode run();

 private:
  template <typename... Args>
  void put(fmt::format_string<Args...> text, Args&&... args) {
    out_ += fmt::format(text, std::forward<Args>(args)...);
  }
  CBlock block(const char* indent) { return {p_, names_, out_, indent}; }
  std::string v(VarId id) const { return names_.place(id); }
  void comment(Span span, const char* indent);

  // c_code.cpp
  void names();
  void tables();
  std::vector<VarId> inputs_of(const program::ImplicitEquation& s) const;
  void residual(std::size_t i);
  void solve(CBlock& b, std::size_t i);
  void body(const std::vector<program::Assignment>& list, const std::string& indent);
  void periodic_task(std::size_t i);
  void tap(VarId target, const std::string& now);
  void item(CBlock& b, const Item& entry, const std::string& now);
  void expect(CBlock& b, const std::vector<Item>& items);
  void equations_piece(std::size_t number, const std::vector<Item>& items);
  void equations();
  /// Whether an instant is one of a sampled part's, or of a sensor's.
  template <typename Sampled>
  static std::string is_due(const Sampled& s) {
    if (s.offset.count() == 0) return fmt::format("*m->now % {} == 0", s.period.count());
    return fmt::format("*m->now >= {0} && (*m->now - {0}) % {1} == 0", s.offset.count(), s.period.count());
  }

  // c_events.cpp
  void machines();
  void bodies(const program::StateMachine& m, const std::vector<std::vector<program::Assignment>>& lists,
              const char* mode, bool acted);
  void machine(std::size_t i);
  template <typename Visit>
  void inside(std::size_t machine, Visit visit) {
    for (std::size_t k = 0; k < p_.machines.size(); ++k) {
      if (p_.machines[k].outer == static_cast<std::int32_t>(machine)) visit(k, p_.machines[k]);
    }
  }
  std::string guard_of(VarId id) const;
  void take();
  void events();
  void remember();
  void settle();

  // c_steps.cpp
  struct GroupNames {
    std::map<VarId, std::size_t> state;  ///< place within the group
    std::map<VarId, std::vector<std::size_t>> derivative;
    std::map<VarId, std::size_t> scratch;  ///< quantities that cross between pieces
    std::vector<std::size_t> limited;      ///< states with limits, places within the group
    std::vector<std::string> low, high;    ///< the limits as C, within a function that has a step c
    bool built_in = false;
  };
  std::vector<NodeId> held_operands(const GroupPlan& g) const;
  std::size_t operations(const GroupPlan& g) const;
  const program::State& state(const GroupPlan& g, std::size_t i) const;
  void crossings(const std::vector<std::vector<Item>>& pieces, GroupNames& names) const;
  std::string limit(NodeId node, const char* which, std::size_t place) const;
  void group(std::size_t index);
  void between_piece(const GroupPlan& g, std::size_t index, std::size_t number, const std::vector<Item>& items,
                     const GroupNames& names, const std::vector<NodeId>& held);
  void between(const GroupPlan& g, std::size_t index, std::size_t pieces, const GroupNames& names);
  std::string room(std::size_t& used, std::size_t size);
  /// Places of quantities, one for each state of a group.
  struct Row {
    const char* name = "";
    std::size_t count = 0;
    std::function<std::int32_t(std::size_t)> of;
    std::int32_t first() const;  ///< kNone: they do not lie side by side
  };
  void index_list(const Row& row, std::size_t index);
  void copy_row(const char* array, const char* base, const Row& row, std::size_t index, bool from_base);
  struct Arrays {
    std::size_t n = 0;
    bool by_index = false;                         ///< too many to be written out one by one
    bool x_in_place = false, k1_in_place = false;  ///< not copied
    Row places, values, slopes;
  };
  Arrays arrays(const GroupPlan& g, const GroupNames& names) const;
  void step_held(const GroupPlan& g, const GroupNames& names, const std::vector<NodeId>& held);
  void step_arrays(const GroupPlan& g, const Arrays& a, std::size_t index, std::size_t& used);
  void step_end(const GroupPlan& g, const Arrays& a, std::size_t index);
  void step_group(const GroupPlan& g, std::size_t index, const GroupNames& names, const std::vector<NodeId>& held);
  void method(const GroupPlan& g, std::size_t index, const GroupNames& names, std::size_t& used);
  void jacobian(const GroupPlan& g, const GroupNames& names, std::size_t& used);
  void trouble();
  void step();

  const program::Plant& p_;
  const Plan& plan_;
  CStyle style_;
  CNames names_;
  std::vector<Ring> rings_;
  std::map<VarId, std::int32_t> tap_of_;
  std::set<VarId> remembers_;  ///< equations that read what they were
  std::string out_;
  CCode made_;
};

}  // namespace isodyne::engine
