// From one instant to the next, as C: every group by its own method.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/engine/c_writer.h"

namespace isodyne::engine {

namespace {

/// Arrays of more states than this are walked by index instead of written out.
constexpr std::size_t kMostWrittenOut = 32;
/// The same where evaluations are not built in.
constexpr std::size_t kMostPassedOn = 8;
/// Evaluations within a step of at most this many operations are built into the method that calls them: the states
/// then stay in registers.
constexpr std::size_t kMostBuiltIn = 250;
/// Beyond this arrays do not go on the stack.
constexpr std::size_t kMostOnStack = 256;

}  // namespace

/// What does not move within a step and is an operand of what does.
std::vector<NodeId> CWriter::held_operands(const GroupPlan& g) const {
  const std::vector<NodeId> all = plan_.held_nodes(g);
  const std::set<NodeId> held(all.begin(), all.end());
  std::set<NodeId> seen, wanted;
  std::vector<NodeId> todo;
  const auto look = [&](NodeId id) {
    if (id == kNone) return;
    if (held.contains(id)) {
      if (!p_.reads(id).empty()) wanted.insert(id);
    } else if (seen.insert(id).second) {
      todo.push_back(id);
    }
  };
  for (const std::int32_t place : g.between) {
    const Item& entry = p_.order[static_cast<std::size_t>(place)];
    if (entry.kind == Item::Kind::solve) {
      const program::ImplicitEquation& s = p_.solves[static_cast<std::size_t>(entry.index)];
      look(s.lowest), look(s.highest);
    } else {
      for (const NodeId value : program::values_of(p_, entry)) look(value);
    }
    while (!todo.empty()) {
      const program::Node& n = p_.node(todo.back());
      todo.pop_back();
      look(n.a), look(n.b), look(n.c);
    }
  }
  return {wanted.begin(), wanted.end()};
}

std::size_t CWriter::operations(const GroupPlan& g) const {
  std::set<NodeId> seen;
  std::vector<NodeId> todo;
  for (const std::int32_t place : g.between) {
    const Item& entry = p_.order[static_cast<std::size_t>(place)];
    if (entry.kind == Item::Kind::solve || entry.kind == Item::Kind::delay) return kMostBuiltIn + 1;
    for (const NodeId value : program::values_of(p_, entry)) todo.push_back(value);
    while (!todo.empty() && seen.size() <= kMostBuiltIn) {
      const NodeId id = todo.back();
      todo.pop_back();
      if (id == kNone || p_.node(id).op <= program::Op::variable || !seen.insert(id).second) continue;
      for (const NodeId child : {p_.node(id).a, p_.node(id).b, p_.node(id).c}) todo.push_back(child);
    }
  }
  return seen.size();
}

const program::State& CWriter::state(const GroupPlan& g, std::size_t i) const {
  return p_.states[static_cast<std::size_t>(g.group->states[i])];
}

/// What one piece computes and another reads.
void CWriter::crossings(const std::vector<std::vector<Item>>& pieces, GroupNames& names) const {
  std::map<VarId, std::size_t> made;
  for (std::size_t k = 0; k < pieces.size(); ++k) {
    for (const Item& entry : pieces[k]) made[program::target_of(p_, entry)] = k;
  }
  for (std::size_t k = 0; k < pieces.size(); ++k) {
    for (const Item& entry : pieces[k]) {
      for (const NodeId value : program::values_of(p_, entry)) {
        for (const VarId id : p_.reads(value)) {
          const auto found = made.find(id);
          if (found != made.end() && found->second != k) names.scratch.emplace(id, names.scratch.size());
        }
      }
    }
  }
}

/// A limit that is a number is written as such.
std::string CWriter::limit(NodeId node, const char* which, std::size_t place) const {
  const auto value = program::fold(p_, node, [](VarId) { return std::nullopt; });
  return value ? c_number(*value) : fmt::format("c->{}[{}]", which, place);
}

void CWriter::group(std::size_t index) {
  const GroupPlan& g = plan_.groups[index];
  const std::size_t n = g.group->states.size();
  if (n == 0 || !g.here) return;
  GroupNames names;
  for (std::size_t i = 0; i < n; ++i) {
    names.state[state(g, i).value] = i;
    names.derivative[state(g, i).derivative].push_back(i);
    if (state(g, i).lowest != kNone) {
      names.low.push_back(limit(state(g, i).lowest, "low", names.limited.size()));
      names.high.push_back(limit(state(g, i).highest, "high", names.limited.size()));
      names.limited.push_back(i);
    }
  }
  std::vector<std::vector<Item>> pieces(1);
  for (const std::int32_t place : g.between) {
    const Item& entry = p_.order[static_cast<std::size_t>(place)];
    if (entry.kind == Item::Kind::tap) continue;
    if (pieces.back().size() >= kMostPerFunction) pieces.emplace_back();
    pieces.back().push_back(entry);
  }
  if (pieces.size() > 1) crossings(pieces, names);
  const std::vector<NodeId> held = held_operands(g);
  const bool explicit_one = g.group->method == Method::rk4 || g.group->method == Method::heun;
  names.built_in = explicit_one && operations(g) <= kMostBuiltIn;
  put("/* One step of {}: {} states, method {}. */\n", format_span(g.group->step), n,
      program::method_word(g.group->method));
  put("typedef struct step_{} {{\n  iso_memory *m;\n  double held[{}], low[{}], high[{}];\n  double *scratch;\n}} "
      "step_{};\n\n",
      index, std::max<std::size_t>(1, held.size()), std::max<std::size_t>(1, names.limited.size()),
      std::max<std::size_t>(1, names.limited.size()), index);
  for (std::size_t k = 0; k < pieces.size(); ++k) between_piece(g, index, k, pieces[k], names, held);
  between(g, index, pieces.size(), names);
  step_group(g, index, names, held);
}

void CWriter::between_piece(const GroupPlan& g, std::size_t index, std::size_t number, const std::vector<Item>& items,
                            const GroupNames& names, const std::vector<NodeId>& held) {
  put("{2} void between_{0}_{1}(const step_{0} *restrict c, double t, const double *restrict x, double *restrict dx) "
      "{{\n  iso_memory *const "
      "m = "
      "c->m;\n  const double *const v = m->v;\n  (void)m, (void)v, (void)t, (void)x, (void)dx;\n",
      index, number, names.built_in ? "ISO_INLINE" : "static");
  CBlock b = block("  ");
  for (std::size_t i = 0; i < held.size(); ++i) b.known[held[i]] = fmt::format("c->held[{}]", i);
  b.source = [&](VarId id) {
    if (id == program::kTime) return std::string("t");
    if (const auto found = names.state.find(id); found != names.state.end()) return fmt::format("x[{}]", found->second);
    if (const auto found = names.scratch.find(id); found != names.scratch.end())
      return fmt::format("c->scratch[{}]", found->second);
    return std::string{};
  };
  expect(b, items);
  for (const Item& entry : items) {
    item(b, entry, "t");
    const VarId target = program::target_of(p_, entry);
    if (const auto found = names.derivative.find(target); found != names.derivative.end()) {
      for (const std::size_t i : found->second) put("  dx[{}] = {};\n", i, names_.of(target));
    }
    if (const auto crossing = names.scratch.find(target); crossing != names.scratch.end()) {
      put("  c->scratch[{}] = {};\n", crossing->second, names_.of(target));
    }
  }
  (void)g;
  out_ += "}\n\n";
}

void CWriter::between(const GroupPlan& g, std::size_t index, std::size_t pieces, const GroupNames& names) {
  put("{1} void between_{0}(void *context, double t, const double *x, double *dx) {{\n  const step_{0} *const c = "
      "(const step_{0} *)context;\n",
      index, names.built_in ? "ISO_INLINE" : "static");
  std::set<VarId> computed;
  for (const std::int32_t place : g.between)
    computed.insert(program::target_of(p_, p_.order[static_cast<std::size_t>(place)]));
  for (std::size_t i = 0; i < g.group->states.size(); ++i) {
    const VarId derivative = state(g, i).derivative;
    if (!computed.contains(derivative)) put("  dx[{}] = c->m->{};\n", i, v(derivative));
  }
  for (std::size_t k = 0; k < pieces; ++k) put("  between_{}_{}(c, t, x, dx);\n", index, k);
  for (std::size_t k = 0; k < names.limited.size(); ++k)
    put("  if ((x[{0}] <= {1} && dx[{0}] < 0) || (x[{0}] >= {2} && dx[{0}] > 0)) dx[{0}] = 0;\n", names.limited[k],
        names.low[k], names.high[k]);
  out_ += "}\n\n";
}

/// Room in iso_memory::work; groups use it one after the other.
std::string CWriter::room(std::size_t& used, std::size_t size) {
  const std::string at = used == 0 ? std::string("m->work") : fmt::format("m->work + {}", used);
  used += size;
  made_.work = std::max(made_.work, used);
  return at;
}

VarId CWriter::Row::first() const {
  return program::first_of_row(count, of);
}

void CWriter::index_list(const Row& row, std::size_t index) {
  put("static const int32_t {}_{}[] = {{", row.name, index);
  for (std::size_t i = 0; i < row.count; ++i) put("{}{}", i == 0 ? "" : i % 16 == 0 ? ",\n    " : ", ", row.of(i));
  out_ += "};\n";
}

/// Between an array of a group and where its members lie; at once if they lie side by side.
void CWriter::copy_row(const char* array, const char* base, const Row& row, std::size_t index, bool from_base) {
  const VarId first = row.first();
  const std::string there =
      first != kNone ? fmt::format("{} + {}", base, first) : fmt::format("{}[{}_{}[i]]", base, row.name, index);
  const std::string here = first != kNone ? std::string(array) : fmt::format("{}[i]", array);
  const std::string &to = from_base ? here : there, &from = from_base ? there : here;
  if (first != kNone) {
    put("  memcpy({}, {}, {} * sizeof(double));\n", to, from, row.count);
  } else {
    put("  for (int i = 0; i < {}; ++i) {} = {};\n", row.count, to, from);
  }
}

/// Where the states and slopes of a group lie during its step. Many states that lie side by side are stepped where
/// they are: copying them costs as much as a stage of the method.
CWriter::Arrays CWriter::arrays(const GroupPlan& g, const GroupNames& names) const {
  Arrays a;
  a.n = g.group->states.size();
  // Written out, states stay in registers, unless a call of what is too long to be built in takes them from there.
  a.by_index = a.n > (names.built_in ? kMostWrittenOut : kMostPassedOn);
  a.places = {"state", a.n, [&g](std::size_t i) { return g.group->states[i]; }};
  a.values = {"value", a.n, [this, &g](std::size_t i) { return state(g, i).value; }};
  a.slopes = {"slope", a.n, [this, &g](std::size_t i) { return state(g, i).derivative; }};
  a.x_in_place = a.by_index && plan_.single && a.values.first() != kNone;
  a.k1_in_place = a.by_index && names.limited.empty() && a.slopes.first() != kNone;
  return a;
}

/// Limits and what does not move within the step.
void CWriter::step_held(const GroupPlan& g, const GroupNames& names, const std::vector<NodeId>& held) {
  CBlock b = block("  ");
  std::vector<NodeId> roots = held;
  for (const std::size_t i : names.limited) roots.insert(roots.end(), {state(g, i).lowest, state(g, i).highest});
  b.expect(roots);
  for (std::size_t i = 0; i < held.size(); ++i) {
    const std::string value = b.value(held[i]);
    put("  c->held[{}] = {};\n", i, value);
  }
  for (std::size_t k = 0; k < names.limited.size(); ++k) {
    const std::string low = b.value(state(g, names.limited[k]).lowest),
                      high = b.value(state(g, names.limited[k]).highest);
    if (names.low[k].starts_with("c->")) put("  {} = {};\n", names.low[k], low);
    if (names.high[k].starts_with("c->")) put("  {} = {};\n", names.high[k], high);
  }
}

/// x, k1 and work, with their first values. Where the states are stepped in place, `before` keeps the old ones.
void CWriter::step_arrays(const GroupPlan& g, const Arrays& a, std::size_t index, std::size_t& used) {
  const auto array = [&](const char* name, std::size_t size) {
    if (a.n <= kMostOnStack) {
      put("  double {}[{}];\n", name, size);
    } else {
      put("  double *const {} = {};\n", name, room(used, size));
    }
  };
  array("work", 6 * a.n);
  if (a.x_in_place) {
    put("  double *const x = v + {};\n", a.values.first());
    array("before", a.n);
    put("  memcpy(before, x, {} * sizeof(double));\n", a.n);
  } else {
    array("x", a.n);
    if (a.by_index) copy_row("x", "v", a.values, index, true);
  }
  if (a.k1_in_place) {
    put("  const double *const k1 = v + {};\n", a.slopes.first());
  } else {
    array("k1", a.n);
    if (a.by_index) copy_row("k1", "v", a.slopes, index, true);
  }
  for (std::size_t i = 0; i < a.n && !a.by_index; ++i)
    put("  x[{0}] = {1};\n  k1[{0}] = {2};\n", i, v(state(g, i).value), v(state(g, i).derivative));
  out_ += "  (void)work;\n";
}

/// The new values go where they belong, unless something is wrong with one.
void CWriter::step_end(const GroupPlan& g, const Arrays& a, std::size_t index) {
  const std::string back =
      a.x_in_place ? fmt::format("    memcpy(x, before, {} * sizeof(double));\n", a.n) : std::string{};
  if (!p_.solves.empty()) put("  if (*m->unsolved >= 0) {{\n{}    return trouble_of(m);\n  }}\n", back);
  put("  const int bad = iso_first_bad({0}, x);\n  if (bad < {0}) {{\n{2}    return (iso_trouble){{1, "
      "state_{1}[bad], v[value_{1}[bad]]}};\n  }}\n",
      a.n, index, back);
  if (!plan_.single) {
    copy_row("x", "m->next", a.places, index, false);
  } else if (a.by_index && !a.x_in_place) {
    copy_row("x", "v", a.values, index, false);
  }
  for (std::size_t i = 0; i < a.n && plan_.single && !a.by_index; ++i) put("  {} = x[{}];\n", v(state(g, i).value), i);
  out_ += "  return (iso_trouble){0, 0, 0};\n}\n\n";
}

void CWriter::step_group(const GroupPlan& g, std::size_t index, const GroupNames& names,
                         const std::vector<NodeId>& held) {
  const Arrays a = arrays(g, names);
  if (a.by_index) made_.small = false;
  index_list(a.places, index);
  index_list(a.values, index);
  if (a.by_index && a.slopes.first() == kNone) index_list(a.slopes, index);
  put("\nstatic iso_trouble step_group_{0}(iso_memory *m) {{\n  double *const v = m->v;\n  step_{0} here;\n  "
      "step_{0} *const c = &here;\n  c->m = m;\n",
      index);
  std::size_t used = 0;
  if (!names.scratch.empty()) put("  c->scratch = {};\n", room(used, names.scratch.size()));
  step_held(g, names, held);
  step_arrays(g, a, index, used);
  for (std::size_t k = 0; k < names.limited.size(); ++k)
    put("  const int stuck_{1} = (x[{0}] <= {2} && k1[{0}] < 0) || (x[{0}] >= {3} && k1[{0}] > 0);\n  if (stuck_{1}) "
        "k1[{0}] = 0;\n",
        names.limited[k], k, names.low[k], names.high[k]);
  put("  const double h = {};\n", c_number(to_seconds(g.group->step)));
  method(g, index, names, used);
  for (std::size_t k = 0; k < names.limited.size(); ++k)
    put("  if (x[{0}] < {1}) x[{0}] = {1};\n  if (x[{0}] > {2}) x[{0}] = {2};\n", names.limited[k], names.low[k],
        names.high[k]);
  step_end(g, a, index);
}

void CWriter::method(const GroupPlan& g, std::size_t index, const GroupNames& names, std::size_t& used) {
  const std::size_t n = g.group->states.size();
  switch (g.group->method) {
    case Method::euler:
      put("  iso_euler({}, h, x, k1);\n", n);
      break;
    case Method::heun:
    case Method::rk4:
      put("  iso_{}({}, v[i_time], h, x, k1, between_{}, c, work);\n", program::method_word(g.group->method), n, index);
      break;
    case Method::implicit:
      jacobian(g, names, used);
      put("  int rows[{0}];\n  if (!iso_implicit({0}, v[i_time], h, x, k1, jacobian, df_dt, between_{1}, c, work, "
          "rows, {1}, m->doubt)) return "
          "(iso_trouble){{5, {1}, 0}};\n",
          n, index);
      break;
    case Method::exact:
      jacobian(g, names, used);
      put("  iso_exact({}, h, x, k1, jacobian, df_dt, m->known + {});\n", n, made_.known);
      made_.known += 7 * n * n + 1;
      break;
  }
  (void)names;
}

void CWriter::jacobian(const GroupPlan& g, const GroupNames& names, std::size_t& used) {
  const std::size_t n = g.group->states.size();
  const std::string at = room(used, n * n), df_dt_at = room(used, n);
  put("  double *const jacobian = {0}, *const df_dt = {1};\n  memset(jacobian, 0, {2} * sizeof(double));\n  "
      "memset(df_dt, 0, {3} * "
      "sizeof(double));\n  {{\n",
      at, df_dt_at, n * n, n);
  CBlock b = block("    ");
  std::vector<NodeId> roots;
  for (const program::Group::Slope& s : g.group->jacobian) roots.push_back(s.value);
  for (const NodeId d : g.group->df_dt) {
    if (d != kNone) roots.push_back(d);
  }
  b.expect(roots);
  for (const program::Group::Slope& s : g.group->jacobian) {
    const std::string value = b.value(s.value);
    put("    jacobian[{}] = {}; /* d({})/d({}) */\n",
        static_cast<std::size_t>(s.row) * n + static_cast<std::size_t>(s.column), value,
        p_.variable(state(g, static_cast<std::size_t>(s.row)).derivative).name,
        p_.variable(state(g, static_cast<std::size_t>(s.column)).value).name);
  }
  for (std::size_t i = 0; i < n; ++i) {
    if (g.group->df_dt[i] == kNone) continue;
    const std::string value = b.value(g.group->df_dt[i]);
    put("    df_dt[{}] = {};\n", i, value);
  }
  out_ += "  }\n";
  for (std::size_t k = 0; k < names.limited.size(); ++k)
    put("  if (stuck_{0}) {{\n    memset(jacobian + {1}, 0, {2} * sizeof(double));\n    df_dt[{3}] = 0;\n  }}\n", k,
        names.limited[k] * n, n, names.limited[k]);
}

void CWriter::trouble() {
  out_ += "static iso_trouble trouble_of(const iso_memory *m) {\n  iso_trouble trouble = {0, 0, 0};\n";
  if (!p_.solves.empty()) {
    out_ += "  static const int32_t unknown[] = {";
    for (const program::ImplicitEquation& s : p_.solves) put("{}, ", s.x);
    out_ +=
        "};\n  if (*m->unsolved >= 0) {\n    trouble.kind = 4;\n    trouble.index = *m->unsolved;\n"
        "    trouble.last_good = m->v[unknown[*m->unsolved]];\n    return trouble;\n  }\n";
  }
  if (!p_.events.empty()) out_ += "  if (*m->endless) {\n    trouble.kind = 3;\n    return trouble;\n  }\n";
  if (const auto own = plan_.machines(); !own.empty())
    put("  static const int32_t machines[] = {{{}}};\n  for (int i = 0; i < {}; ++i) {{\n"
        "    if (m->reversals[machines[i]] > {}) {{\n      trouble.kind = 2;\n      trouble.index = machines[i];\n"
        "      return trouble;\n    }}\n  }}\n",
        fmt::join(own, ", "), own.size(), kMostReversals);
  out_ += "  (void)m;\n  return trouble;\n}\n\n";
}

void CWriter::step() {
  const std::int64_t instants = plan_.instants_per_step;
  std::string groups, arrived, networks_arrived;
  for (const std::int32_t g : plan_.network_groups()) {
    const int rate = plan_.rate_of_group(g);
    groups += fmt::format(
        "    {}{{\n      const int32_t stuck = m->network_step(m->networks, {});\n      if (stuck >= 0) return "
        "(iso_trouble){{7, stuck, 0}};\n    }}\n",
        rate > 0 ? fmt::format("if (due > {}) ", rate) : "", g);
    networks_arrived += fmt::format("    {}m->network_arrive(m->networks, {});\n",
                                    rate > 0 ? fmt::format("if (arrived > {}) ", rate) : "", g);
  }
  for (std::size_t i = 0; i < plan_.groups.size(); ++i) {
    const GroupPlan& g = plan_.groups[i];
    const std::size_t n = g.group->states.size();
    if (n == 0 || !g.here) continue;
    const std::string guard = g.rate > 0 ? fmt::format("if (due > {}) ", g.rate) : "";
    groups += fmt::format("    {}trouble = step_group_{}(m);\n    if (trouble.kind != 0) return trouble;\n", guard, i);
    if (plan_.single) continue;
    const std::string there = g.rate > 0 ? fmt::format("if (arrived > {}) ", g.rate) : "";
    arrived +=
        fmt::format("    {}{{\n      for (int i = 0; i < {}; ++i) m->v[value_{}[i]] = m->next[state_{}[i]];\n    }}\n",
                    there, n, i, i);
  }
  const std::string passed_over =
      plan_.network_groups().empty() || instants < 3
          ? std::string{}
          : fmt::format(
                "    if (m->still && instant + 2 < {0}) {{\n      *m->now += ({0} - 2 - instant) * {1};\n"
                "      instant = {0} - 2;\n      continue;\n    }}\n",
                instants, plan_.rates.front().count());
  put("static iso_trouble step(iso_memory *m) {{\n  for (int64_t instant = 0; instant < {0}; ++instant) {{\n"
      "    iso_trouble trouble = trouble_of(m);\n    if (trouble.kind != 0) return trouble;\n"
      "    const int due = due_at(*m->now);\n    (void)due;\n{1}    *m->now += {2};\n{5}    const int arrived = "
      "due_at(*m->now);\n"
      "    (void)arrived;\n{3}    if (instant + 1 == {0}) break;\n    "
      "settle_due(m, arrived);\n    if (m->instant) m->instant(m->watcher);\n  }}\n  return (iso_trouble){{0, "
      "0, 0}};\n}}\n\n"
      "iso_trouble iso_plant_step(iso_memory *m) {{\n  const uint64_t before = iso_flush();\n  const iso_trouble "
      "trouble = "
      "step(m);\n  iso_unflush(before);\n  return trouble;\n}}\n\n"
      "int iso_plant_layout(void) {{ return {4}; }}\n",
      instants, groups, plan_.rates.front().count(), arrived + networks_arrived, kCLayout, passed_over);
}

}  // namespace isodyne::engine
