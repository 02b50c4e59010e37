#include "isodyne/program/groups.h"
#include "isodyne/core/text.h"

#include <algorithm>
#include <cmath>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/program/derivative.h"
#include "isodyne/program/nodes.h"

namespace isodyne::program {

const char* method_word(Method method) {
  switch (method) {
#define METHOD(id, word, order, evaluations, meaning) \
  case Method::id:                                    \
    return word;
#include "isodyne/program/methods.def"
#undef METHOD
  }
  return "?";
}

std::optional<Method> method_named(std::string_view word) {
#define METHOD(id, name, order, evaluations, meaning) \
  if (word == name) return Method::id;
#include "isodyne/program/methods.def"
#undef METHOD
  return std::nullopt;
}

// ---- what moves -----------------------------------------------------------------------------------------

VarId target_of(const Plant& p, const Item& item) {
  const auto i = static_cast<std::size_t>(item.index);
  switch (item.kind) {
    case Item::Kind::equation:
      return p.equations[i].target;
    case Item::Kind::delay:
      return p.delays[i].out;
    case Item::Kind::solve:
      return p.solves[i].x;
    case Item::Kind::tap:
      return p.taps[i].target;
    case Item::Kind::sensor:
      return p.sensors[i].value;
    case Item::Kind::periodic_task:
      break;
  }
  return kNone;
}

std::int32_t group_of(const Plant& p, const Item& item) {
  if (item.kind == Item::Kind::periodic_task) return p.periodic_tasks[static_cast<std::size_t>(item.index)].group;
  return p.variable(target_of(p, item)).group;
}

std::vector<NodeId> values_of(const Plant& p, const Item& item) {
  const auto i = static_cast<std::size_t>(item.index);
  switch (item.kind) {
    case Item::Kind::equation:
      return {p.equations[i].value};
    case Item::Kind::delay:
      return {p.delays[i].lag};
    case Item::Kind::solve: {
      const ImplicitEquation& s = p.solves[i];
      return {s.residual, s.derivative, s.scale, s.lowest, s.highest};
    }
    case Item::Kind::tap:
    case Item::Kind::periodic_task:
    case Item::Kind::sensor:
      break;
  }
  return {};
}

/// Within a step what is sampled is held.
static bool sampled(const Item& item) {
  return item.kind == Item::Kind::periodic_task || item.kind == Item::Kind::sensor;
}

std::vector<bool> moving_variables(const Plant& p, std::int32_t group) {
  std::vector<bool> moving(p.variables.size(), false);
  const auto at = [&](VarId id) { return static_cast<std::size_t>(id); };
  moving[at(kTime)] = true;
  for (const State& s : p.states) {
    if (p.variable(s.value).group == group) moving[at(s.value)] = true;
  }
  for (const Item& item : p.order) {
    if (sampled(item) || item.kind == Item::Kind::tap || group_of(p, item) != group) continue;
    bool moves = item.kind == Item::Kind::delay;  // what was is another at every time
    for (const NodeId value : values_of(p, item)) {
      if (moves) break;
      for (const VarId read : p.reads(value)) moves = moves || moving[at(read)];
    }
    if (moves) moving[at(target_of(p, item))] = true;
  }
  return moving;
}

std::vector<bool> computed_between(const Plant& p, std::int32_t group, const std::vector<bool>& moving) {
  std::vector<bool> needed(p.variables.size(), false);
  for (const State& s : p.states) {
    if (p.variable(s.value).group == group) needed[static_cast<std::size_t>(s.derivative)] = true;
  }
  std::vector<bool> wanted(p.order.size(), false);
  for (std::size_t place = p.order.size(); place-- > 0;) {
    const Item& item = p.order[place];
    if (sampled(item) || group_of(p, item) != group) continue;
    const auto target = static_cast<std::size_t>(target_of(p, item));
    if (!needed[target] || !moving[target]) continue;
    wanted[place] = true;
    for (const NodeId value : values_of(p, item)) {
      for (const VarId read : p.reads(value)) needed[static_cast<std::size_t>(read)] = true;
    }
  }
  return wanted;
}

// ---- slopes -----------------------------------------------------------------------------------------------

namespace {

/// Slopes of everything a group computes with respect to one quantity, from equation to equation.
class Tangents {
 public:
  Tangents(Plant& p, const std::vector<bool>& wanted) : p_(p) {
    for (std::size_t place = 0; place < p.order.size(); ++place) {
      if (!wanted[place] || p.order[place].kind == Item::Kind::tap) continue;
      Entry e{p.order[place], {}};
      for (const NodeId value : values_of(p, e.item)) {
        const std::vector<VarId> reads = p.reads(value);
        e.reads.insert(e.reads.end(), reads.begin(), reads.end());
      }
      entries_.push_back(std::move(e));
    }
  }

  std::unordered_map<VarId, NodeId> along(VarId seed) {
    std::unordered_map<VarId, NodeId> slope{{seed, number(p_, 1)}};
    for (const Entry& e : entries_) {
      const bool touched = std::any_of(e.reads.begin(), e.reads.end(), [&](VarId id) { return slope.contains(id); });
      const NodeId made = touched ? slope_of(e.item, slope) : kNone;
      if (made != kNone) slope[target_of(p_, e.item)] = made;
    }
    return slope;
  }

 private:
  struct Entry {
    Item item;
    std::vector<VarId> reads;
  };

  NodeId slope_of(const Item& item, const std::unordered_map<VarId, NodeId>& slope) {
    const auto i = static_cast<std::size_t>(item.index);
    if (item.kind == Item::Kind::equation) return derivative_of(p_, p_.equations[i].value, slope);
    if (item.kind != Item::Kind::solve) return kNone;  // a delay gives what was
    // r(x, s) = 0: dx/ds = -(dr/ds) / (dr/dx)
    const ImplicitEquation& s = p_.solves[i];
    const NodeId change = derivative_of(p_, s.residual, slope);
    if (change == kNone) return kNone;
    return operation(p_, Op::neg, operation(p_, Op::div, change, s.derivative));
  }

  Plant& p_;
  std::vector<Entry> entries_;
};

}  // namespace

void linearise(Plant& p, Group& group) {
  group.jacobian.clear();
  group.df_dt.assign(group.states.size(), kNone);
  if (group.states.empty()) return;
  const auto state = [&](std::size_t i) -> const State& { return p.states[static_cast<std::size_t>(group.states[i])]; };
  const std::int32_t index = p.variable(state(0).value).group;
  Tangents tangents(p, computed_between(p, index, moving_variables(p, index)));
  for (std::size_t column = 0; column < group.states.size(); ++column) {
    const auto slope = tangents.along(state(column).value);
    for (std::size_t row = 0; row < group.states.size(); ++row) {
      const auto found = slope.find(state(row).derivative);
      if (found == slope.end()) continue;
      group.jacobian.push_back({static_cast<std::int32_t>(row), static_cast<std::int32_t>(column), found->second});
    }
  }
  const auto slope = tangents.along(kTime);
  for (std::size_t row = 0; row < group.states.size(); ++row) {
    const auto found = slope.find(state(row).derivative);
    if (found != slope.end()) group.df_dt[row] = found->second;
  }
}

/// The first slope that makes the group not linear, and what it moves with.
std::optional<std::pair<Group::Slope, VarId>> not_linear(const Plant& p, const Group& group,
                                                         const std::vector<bool>& moving) {
  for (const Group::Slope& slope : group.jacobian) {
    for (const VarId read : p.reads(slope.value)) {
      if (moving[static_cast<std::size_t>(read)]) return std::pair{slope, read};
    }
  }
  return std::nullopt;
}

void collect_states(Plant& p) {
  for (Group& g : p.groups) g.states.clear();
  for (std::size_t i = 0; i < p.states.size(); ++i)
    p.groups[static_cast<std::size_t>(p.variable(p.states[i].value).group)].states.push_back(
        static_cast<std::int32_t>(i));
}
std::string Plant::stepping() const {
  std::string text;
  std::size_t with_states = 0;
  for (const Group& g : groups) with_states += g.states.empty() ? 0 : 1;
  for (const Group& g : groups) {
    if (g.states.empty()) continue;
    list_on(text, std::string(method_word(g.method)));
    if (with_states > 1 || g.step != step) text += " at " + format_span(g.step);
    if (g.core != 0) text += fmt::format(" on core {}", g.core);
  }
  return text.empty() ? "no states" : text;
}

std::shared_ptr<const Program> retimed(const Program& program, Time step, std::optional<Method> method,
                                       std::string& why_not) {
  auto made = std::make_shared<Program>(program);
  Program& p = *made;
  std::vector<std::int32_t> place;
  std::vector<Group> groups;
  for (Group g : p.groups) {
    const double exact =
        static_cast<double>(g.step.count()) * (static_cast<double>(step.count()) / static_cast<double>(p.step.count()));
    g.step = Time(static_cast<std::int64_t>(exact + 0.5));
    if (std::abs(static_cast<double>(g.step.count()) - exact) > 1e-6 || g.step.count() == 0) {
      why_not = "a step of a group would not be whole nanoseconds";
      return nullptr;
    }
    if (method) g.method = *method;
    const auto same = std::find_if(groups.begin(), groups.end(), [&](const Group& k) {
      return k.step == g.step && k.method == g.method && k.core == g.core;
    });
    place.push_back(static_cast<std::int32_t>(same - groups.begin()));
    if (same == groups.end()) groups.push_back(std::move(g));
  }
  p.groups = std::move(groups);
  p.step = std::max(step, p.step);  // instants of scenario and channels stay where they are
  for (Variable& v : p.variables) v.group = place[static_cast<std::size_t>(v.group)];
  for (PeriodicTask& s : p.periodic_tasks) s.group = place[static_cast<std::size_t>(s.group)];
  for (WhenBlock& w : p.events) w.group = place[static_cast<std::size_t>(w.group)];
  for (Network& n : p.networks) n.group = place[static_cast<std::size_t>(n.group)];
  for (Gate& g : p.gates) g.group = place[static_cast<std::size_t>(g.group)];
  const auto fits = [&](Time period, Time own) { return period.count() % own.count() == 0; };
  bool whole = true;
  for (const Sensor& s : p.sensors) whole = whole && fits(s.period, p.step) && fits(s.offset, p.step);
  for (const Controller& c : p.controllers) whole = whole && fits(c.period, p.step);
  for (const PeriodicTask& s : p.periodic_tasks) {
    const Time own = p.groups[static_cast<std::size_t>(s.group)].step;
    whole = whole && fits(s.period, own) && fits(s.offset, own);
  }
  for (const Delay& d : p.delays) whole = whole && d.longest >= p.group_of(d.out).step;
  if (!whole) {
    why_not = "a sampled period is not a whole multiple of it";
    return nullptr;
  }
  for (RecordGroup& g : p.recorded) g.period = p.step * std::max<std::int64_t>(1, g.period / p.step);
  collect_states(p);
  for (std::size_t i = 0; i < p.groups.size(); ++i) {
    Group& g = p.groups[i];
    g.jacobian.clear();
    g.df_dt.clear();
    if (g.method != Method::implicit && g.method != Method::exact) continue;
    linearise(p, g);
    if (g.method == Method::exact && not_linear(p, g, moving_variables(p, static_cast<std::int32_t>(i)))) {
      why_not = "not linear";
      return nullptr;
    }
  }
  return made;
}

}  // namespace isodyne::program
