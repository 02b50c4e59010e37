// What jumps at an instant, as C: state machines, `when` blocks, delays, and the order of it all.

#include "isodyne/core/text.h"
#include "isodyne/engine/c_writer.h"

namespace isodyne::engine {

void CWriter::machines() {
  const std::size_t n = p_.machines.size();
  for (std::size_t i = 0; i < n; ++i) {
    put("static void leave_{0}(iso_memory *m);\nstatic void enter_{0}(iso_memory *m, char *restarted, int mode);\n", i);
  }
  for (std::size_t i = 0; i < n; ++i) machine(i);
  out_ += "static int first_entry(iso_memory *m) {\n";
  if (n == 0) {
    out_ +=
        "  *m->entered = 1;\n  return 0;\n}\n\nstatic int transitions(iso_memory *m, int due) {\n"
        "  (void)m, (void)due;\n  return 0;\n}\n\n";
    return;
  }
  out_ += "  double *const v = m->v;\n  int acted = 0;\n  if (*m->entered) return 0;\n  *m->entered = 1;\n";
  for (const program::StateMachine& machine : p_.machines) bodies(machine, machine.entry, "iso_max(0.0, {})", true);
  out_ += "  (void)v;\n  return acted;\n}\n\n";
  take();
}

/// switch over the modes that do something on entry or exit.
void CWriter::bodies(const program::StateMachine& m, const std::vector<std::vector<program::Assignment>>& lists,
                     const char* mode, bool acted) {
  bool any = false;
  for (const auto& list : lists) any = any || !list.empty();
  if (!any) return;
  put("  switch ((int){}) {{\n", fmt::format(fmt::runtime(mode), v(m.mode)));
  for (std::size_t k = 0; k < lists.size(); ++k) {
    if (lists[k].empty()) continue;
    put("    case {}:\n", k);
    body(lists[k], "      ");
    if (acted) out_ += "      acted = 1;\n";
    out_ += "      break;\n";
  }
  out_ += "    default:\n      break;\n  }\n";
}

void CWriter::machine(std::size_t i) {
  const program::StateMachine& m = p_.machines[i];
  put("/* {} */\nstatic int choose_{}(const iso_memory *m) {{\n  const double *const v = m->v;\n  switch ((int){}) "
      "{{\n",
      p_.variable(m.mode).name, i, v(m.mode));
  std::map<int, std::vector<std::size_t>> from;
  for (std::size_t t = 0; t < m.transitions.size(); ++t) from[m.transitions[t].from].push_back(t);
  for (const auto& [mode, list] : from) {
    put("    case {}: {{\n", mode);
    CBlock b = block("      ");
    std::vector<NodeId> roots;
    for (const std::size_t t : list) roots.push_back(m.transitions[t].condition);
    b.expect(roots);
    for (const std::size_t t : list) {
      comment(m.transitions[t].span, "      ");
      const std::string condition = b.truth(m.transitions[t].condition);
      put("      if ({}) return {};\n", condition, t);
    }
    out_ += "      break;\n    }\n";
  }
  out_ += "    default:\n      break;\n  }\n  return -1;\n}\n\n";
  put("static void leave_{}(iso_memory *m) {{\n  double *const v = m->v;\n", i);
  inside(i, [&](std::size_t k, const program::StateMachine& inner) {
    put("  if ((int){0} == {1} && (int){2} != {3}) {{\n    leave_{4}(m);\n    {2} = {3};\n    {5} = (double)*m->now "
        "/ 1e9;\n  "
        "}}\n",
        v(m.mode), inner.outer_mode, v(inner.mode), inner.inactive, k, v(inner.entered));
  });
  bodies(m, m.exit, "{}", false);
  out_ += "  (void)v;\n}\n\n";
  put("static void enter_{0}(iso_memory *m, char *restarted, int mode) {{\n  double *const v = m->v;\n  {1} = "
      "mode;\n  {2} = "
      "(double)*m->now / 1e9;\n  restarted[{0}] = 1;\n",
      i, v(m.mode), v(m.entered));
  bodies(m, m.entry, "{}", false);
  inside(i, [&](std::size_t k, const program::StateMachine& inner) {
    put("  if (mode == {}) enter_{}(m, restarted, 0);\n", inner.outer_mode, k);
  });
  out_ += "}\n\n";
}

std::string CWriter::guard_of(VarId id) const {
  const int rate = plan_.rate_of(id);
  return rate > 0 ? fmt::format("due > {}", rate) : std::string{};
}

/// Every machine looks at the same image; outer machines come before those inside them.
void CWriter::take() {
  const std::size_t n = p_.machines.size();
  put("static int transitions(iso_memory *m, int due) {{\n  double *const v = m->v;\n  char restarted[{0}] = "
      "{{0}};\n  "
      "int chosen[{0}];\n  int any = 0;\n  (void)due, (void)v;\n",
      n);
  for (std::size_t i = 0; i < n; ++i) {
    const std::string guard = guard_of(p_.machines[i].mode);
    put("  chosen[{0}] = {1}choose_{0}(m){2};\n", i, guard.empty() ? "" : guard + " ? ", guard.empty() ? "" : " : -1");
  }
  for (std::size_t i = 0; i < n; ++i) {
    const program::StateMachine& machine = p_.machines[i];
    const std::string guard = guard_of(machine.mode);
    std::string to;
    for (const program::Transition& t : machine.transitions) list_on(to, fmt::format("{}", t.to));
    if (machine.transitions.empty()) continue;
    const std::string inactive =
        machine.outer == kNone ? "" : fmt::format(" || (int){} == {}", v(machine.mode), machine.inactive);
    put("  {}{{\n", guard.empty() ? "" : "if (" + guard + ") ");
    put("    static const int to[] = {{{}}};\n", to);
    put("    if (chosen[{0}] < 0 || restarted[{0}]{1}) {{\n      m->reversals[{0}] = 0;\n    }} else {{\n"
        "      ++m->reversals[{0}];\n      leave_{0}(m);\n      enter_{0}(m, restarted, to[chosen[{0}]]);\n"
        "      iso_change *change = &m->changes[(*m->change_count)++];\n      change->machine = {0};\n"
        "      change->transition = chosen[{0}];\n      change->at_ns = *m->now;\n      any = 1;\n    }}\n  }}\n",
        i, inactive);
  }
  out_ += "  return any;\n}\n\n";
}

/// `when` blocks whose conditions have become true fire in the order of the text; then the equations are
/// solved again, until nothing fires any more.
void CWriter::events() {
  const std::size_t n = p_.events.size();
  if (n == 0) {
    out_ += "static int events(iso_memory *m, int due) {\n  (void)m, (void)due;\n  return 0;\n}\n\n";
    return;
  }
  out_ +=
      "static void conditions(const iso_memory *m, int due, char *is) {\n  const double *const v = m->v;\n  "
      "(void)due, (void)v;\n";
  for (int rate = 0; rate < plan_.all(); ++rate) {
    std::vector<NodeId> roots;
    for (const program::WhenBlock& w : p_.events) {
      if (plan_.rate_of_group(w.group) == rate) roots.push_back(w.condition);
    }
    if (roots.empty()) continue;
    put("  if (due > {}) {{\n", rate);
    CBlock b = block("    ");
    b.expect(roots);
    for (std::size_t e = 0; e < n; ++e) {
      if (plan_.rate_of_group(p_.events[e].group) != rate) continue;
      comment(p_.events[e].span, "    ");
      const std::string condition = b.truth(p_.events[e].condition);
      put("    is[{}] = {};\n", e, condition);
    }
    out_ += "  }\n";
  }
  out_ += "}\n\n";
  put("static int events(iso_memory *m, int due) {{\n  static const int rate[] = {{");
  for (const program::WhenBlock& w : p_.events) put("{}, ", plan_.rate_of_group(w.group));
  put("}};\n  double *const v = m->v;\n  int any = 0;\n  for (int turn = 0;; ++turn) {{\n    char is[{0}];\n    "
      "int "
      "firing[{0}], count = 0;\n    conditions(m, due, is);\n    for (int e = 0; e < {0}; ++e) {{\n"
      "      if (rate[e] >= due) continue;\n      const int fires = is[e] && !m->event_was[e];\n"
      "      if (fires) firing[count++] = e;\n      m->event_was[e] = is[e];\n"
      "      m->event_late[e] = fires && turn > {1} ? 1 : turn <= {1} ? 0 : m->event_late[e];\n    }}\n"
      "    if (count == 0) return any;\n    any = 1;\n    if (turn >= {2}) {{\n      *m->endless = 1;\n      return "
      "1;\n    "
      "}}\n    for (int k = 0; k < count; ++k) {{\n      switch (firing[k]) {{\n",
      n, kMostRounds / 2, kMostRounds);
  for (std::size_t e = 0; e < n; ++e) {
    put("        case {}:\n", e);
    body(p_.events[e].body, "          ");
    out_ += "          break;\n";
  }
  out_ += "        default:\n          break;\n      }\n    }\n    equations(m, due, 0);\n  }\n}\n\n";
}

void CWriter::remember() {
  out_ += "static void remember(iso_memory *m, int due) {\n  const double *const v = m->v;\n  (void)due, (void)v;\n";
  for (std::size_t i = 0; i < p_.delays.size(); ++i) {
    const program::Delay& d = p_.delays[i];
    const int rate = plan_.rate_of(d.out);
    put("  {}{{\n", rate > 0 ? fmt::format("if (due > {}) ", rate) : "");
    CBlock b = block("    ");
    b.expect({d.input});
    const std::string value = b.value(d.input);
    put("    m->history[{} + m->remembered[{}] % {}] = {};\n    ++m->remembered[{}];\n  }}\n", rings_[i].begin, i,
        rings_[i].size, value, i);
  }
  out_ += "}\n\n";
}

void CWriter::settle() {
  std::string sampled;
  for (const program::PeriodicTask& s : p_.periodic_tasks) {
    const int rate = plan_.rate_of_group(s.group);
    sampled += fmt::format(" ||\n      ({}{})", rate > 0 ? fmt::format("due > {} && ", rate) : "", is_due(s));
  }
  out_ +=
      "/* How many rates, quickest first, have an instant now. */\nstatic int due_at(int64_t now) {\n  (void)now;\n";
  for (std::size_t r = 1; r < plan_.rates.size(); ++r)
    put("  if (now % {} != 0) return {};\n", plan_.rates[r].count(), r);
  put("  return {};\n}}\n\n", plan_.all());
  out_ += "static void solve(iso_memory *m) {\n  m->v[i_time] = (double)*m->now / 1e9;\n";
  put("  equations(m, {}, 0);\n", plan_.all());
  if (!p_.delays.empty()) {
    out_ += "  if (m->remembered[0] > 0) return;\n  double *const v = m->v;\n";
    // All inputs are read before any result is written, as one image.
    put("  double first[{}];\n", p_.delays.size());
    for (std::size_t i = 0; i < p_.delays.size(); ++i) {
      out_ += "  {\n";
      CBlock b = block("    ");
      b.expect({p_.delays[i].input});
      const std::string value = b.value(p_.delays[i].input);
      put("    first[{}] = {};\n  }}\n", i, value);
    }
    for (std::size_t i = 0; i < p_.delays.size(); ++i) put("  {} = first[{}];\n", v(p_.delays[i].out), i);
    put("  equations(m, {}, 0);\n", plan_.all());
  }
  out_ += "}\n\n";
  put("static void settle_due(iso_memory *m, int due) {{\n  m->v[i_time] = (double)*m->now / 1e9;\n  equations(m, "
      "due, "
      "0);\n  int stale = first_entry(m);\n  if (stale) equations(m, due, 0);\n  if (transitions(m, due)) {{\n    "
      "equations(m, due, 0);\n    stale = 1;\n  }}\n  if (events(m, due)) stale = 1;\n  if (stale{}) equations(m, "
      "due, "
      "1);\n  remember(m, due);\n}}\n\n",
      sampled);
  out_ +=
      "void iso_plant_solve(iso_memory *m) {\n  const uint64_t before = iso_flush();\n  solve(m);\n"
      "  iso_unflush(before);\n}\n\n";
  put("void iso_plant_settle(iso_memory *m) {{\n  const uint64_t before = iso_flush();\n  if (!*m->entered) {{\n    "
      "solve(m);\n    settle_due(m, {});\n  }} else {{\n    settle_due(m, due_at(*m->now));\n  }}\n"
      "  iso_unflush(before);\n}}\n\n",
      plan_.all());
}

}  // namespace isodyne::engine
