#include "isodyne/engine/c_code.h"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/engine/c_expressions.h"
#include "isodyne/engine/state.h"
#include "isodyne/model/groups.h"

namespace isodyne::engine {

using model::Item;
using model::kNone;
using model::Method;
using model::NodeId;
using model::VarId;

namespace {

/// Functions of more equations than this are cut: compilers take more than proportional time for long ones.
constexpr std::size_t kMostPerFunction = 300;
/// Arrays of more states than this are walked by index instead of written out.
constexpr std::size_t kMostWrittenOut = 32;
/// Evaluations within a step of at most this many operations are built into the method that calls them: the states
/// then stay in registers.
constexpr std::size_t kMostBuiltIn = 250;
/// Beyond this arrays do not go on the stack.
constexpr std::size_t kMostOnStack = 256;

class Writer {
 public:
  Writer(const model::Program& program, const Plan& plan, const CStyle& style)
      : p_(program), plan_(plan), style_(style), names_(program), rings_(rings_of(program)) {
    for (std::size_t i = 0; i < p_.taps.size(); ++i) tap_of_[p_.taps[i].target] = static_cast<std::int32_t>(i);
  }

  CCode run() {
    names();
    tables();
    for (std::size_t i = 0; i < p_.solves.size(); ++i) residual(i);
    for (std::size_t i = 0; i < p_.samplers.size(); ++i) sampler(i);
    equations();
    machines();
    events();
    remember();
    settle();
    trouble();
    for (std::size_t g = 0; g < plan_.groups.size(); ++g) group(g);
    step();
    made_.text = std::move(out_);
    return std::move(made_);
  }

 private:
  template <typename... Args>
  void put(fmt::format_string<Args...> text, Args&&... args) {
    out_ += fmt::format(text, std::forward<Args>(args)...);
  }
  CBlock block(const char* indent) { return {p_, names_, out_, indent}; }
  std::string v(VarId id) const { return names_.place(id); }
  void comment(Span span, const char* indent) {
    if (style_.comments && span.end > span.begin) {
      std::string place = p_.sources->place(span);
      place = place.substr(place.rfind('/') + 1);
      std::string text = one_line(p_.sources->covered(span));
      for (std::size_t at = 0; (at = text.find("*/", at)) != std::string::npos;) text.replace(at, 2, "* /");
      put("{}/* {}: {} */\n", indent, place, text);
    }
  }

  void names() {
    out_ += "/* Places of the quantities in v[]. */\nenum {\n";
    for (std::size_t i = 0; i < p_.variables.size(); ++i) put("  i_{} = {},\n", names_.of(static_cast<VarId>(i)), i);
    out_ += "};\n\n";
  }

  void tables() {
    const auto list = [&](const std::string& name, const std::vector<double>& values) {
      if (values.empty()) return;
      put("static const double {}[] = {{", name);
      for (std::size_t i = 0; i < values.size(); ++i) {
        out_ += i % 8 == 0 && i > 0 ? ",\n    " : i > 0 ? ", " : "";
        out_ += c_number(values[i]);
      }
      out_ += "};\n";
    };
    for (std::size_t i = 0; i < p_.tables.size(); ++i) {
      const model::Table& t = p_.tables[i];
      list(fmt::format("table_{}_x", i), t.x);
      list(fmt::format("table_{}_y", i), t.y);
      list(fmt::format("table_{}_z", i), t.z);
      list(fmt::format("table_{}_slope", i), t.slope);
      const auto name = [&](const char* what, const std::vector<double>& values) {
        return values.empty() ? std::string("0") : fmt::format("table_{}_{}", i, what);
      };
      put("static const iso_table table_{} = {{{}, {}, {}, {}, {}, {}, {}, {}}}; /* {} */\n\n", i, name("x", t.x),
          name("y", t.y), name("z", t.z), name("slope", t.slope), t.x.size(), t.y.size(), static_cast<int>(t.method),
          static_cast<int>(t.outside), t.name);
    }
  }

  // ---- implicit equations -------------------------------------------------------------------------------

  std::vector<VarId> inputs_of(const model::Solve& s) const {
    std::set<VarId> inputs;
    for (const NodeId node : {s.residual, s.derivative, s.scale}) {
      for (const VarId id : p_.reads(node)) inputs.insert(id);
    }
    inputs.erase(s.x);
    return {inputs.begin(), inputs.end()};
  }

  void residual(std::size_t i) {
    const model::Solve& s = p_.solves[i];
    const std::vector<VarId> inputs = inputs_of(s);
    put("/* {} */\n", p_.variable(s.x).name);
    put("static void residual_{}(void *context, double unknown, iso_residual *result) {{\n", i);
    comment(s.span, "  ");
    out_ += "  const double *inputs = (const double *)context;\n  (void)inputs;\n";
    CBlock b = block("  ");
    b.source = [&](VarId id) {
      if (id == s.x) return std::string("unknown");
      const auto at = std::lower_bound(inputs.begin(), inputs.end(), id);
      return fmt::format("inputs[{}]", at - inputs.begin());
    };
    b.expect({s.residual, s.derivative, s.scale});
    const std::string f = b.value(s.residual), slope = b.value(s.derivative), scale = b.value(s.scale);
    put("  result->f = {};\n  result->slope = {};\n  result->scale = {};\n}}\n\n", f, slope, scale);
  }

  void solve(CBlock& b, std::size_t i) {
    const model::Solve& s = p_.solves[i];
    const std::vector<VarId> inputs = inputs_of(s);
    std::string list;
    for (const VarId id : inputs) list += (list.empty() ? "" : ", ") + b.read(id);
    const std::string low = b.value(s.lowest), high = b.value(s.highest);
    if (!inputs.empty()) put("  double inputs_{}[] = {{{}}};\n", i, list);
    put("  double {} = {};\n", names_.of(s.x), v(s.x));
    put("  if (!iso_solve(residual_{}, {}, &{}, {}, {}, {}) && *m->unsolved < 0) *m->unsolved = {};\n", i,
        inputs.empty() ? "0" : fmt::format("inputs_{}", i), names_.of(s.x), s.lowest == kNone ? 0 : 1, low, high, i);
    b.define(s.x, names_.of(s.x));
  }

  // ---- equations ----------------------------------------------------------------------------------------

  /// One assignment after another: nothing computed for one is known to the next.
  void body(const std::vector<model::Assignment>& list, const std::string& indent) {
    for (const model::Assignment& a : list) {
      const std::string inner = indent + "  ";
      put("{}{{\n", indent);
      CBlock b(p_, names_, out_, inner);
      b.expect({a.value});
      const std::string value = b.value(a.value);
      put("{}{} = {};\n{}}}\n", inner, v(a.target), value, indent);
    }
  }

  void sampler(std::size_t i) {
    put("static void sampler_{}(iso_memory *m) {{\n  double *const v = m->v;\n", i);
    comment(p_.samplers[i].span, "  ");
    body(p_.samplers[i].body, "  ");
    out_ += "}\n\n";
  }

  void tap(VarId target, const std::string& now) {
    const auto found = tap_of_.find(target);
    if (!style_.taps || found == tap_of_.end()) return;
    put("  if (m->tapped[{0}]) {1} = m->tap(m->host, {0}, {1}, {2});\n", found->second, names_.of(target), now);
  }

  /// One entry of the order into a block, up to a local that holds its value.
  void item(CBlock& b, const Item& entry, const std::string& now) {
    const auto i = static_cast<std::size_t>(entry.index);
    const VarId target = model::target_of(p_, entry);
    const std::string& name = names_.of(target);
    if (entry.kind == Item::Kind::equation) {
      comment(p_.equations[i].span, "  ");
      const std::string value = b.value(p_.equations[i].value);
      const bool tapped = style_.taps && tap_of_.contains(target);
      put("  {}double {} = {};\n", tapped ? "" : "const ", name, value);
      // Compilers would compute with it by another mathematical library.
      const auto number = b.number(p_.equations[i].value);
      if (number && !tapped) b.define_constant(target, *number);
    } else if (entry.kind == Item::Kind::solve) {
      solve(b, i);
    } else {
      const model::Delay& d = p_.delays[i];
      const std::string lag = b.value(d.lag);
      put("  double {} = {};\n", name, v(target));
      put("  if (m->remembered[{0}] > 0)\n    {1} = iso_recall(m->history + {2}, {3}, m->remembered[{0}], {4}, {5}, "
          "{6}, "
          "{7}, {8});\n",
          i, name, rings_[i].begin, rings_[i].size, now, c_number(to_seconds(p_.group_of(d.out).step)), lag,
          c_number(to_seconds(d.longest)), d.held ? 1 : 0);
    }
    tap(target, now);
    b.define(target, name);
  }

  void expect(CBlock& b, const std::vector<Item>& items) {
    std::vector<NodeId> roots;
    for (const Item& entry : items) {
      if (entry.kind == Item::Kind::solve) {
        const model::Solve& s = p_.solves[static_cast<std::size_t>(entry.index)];
        roots.insert(roots.end(), {s.lowest, s.highest});
      } else {
        const std::vector<NodeId> values = model::values_of(p_, entry);
        roots.insert(roots.end(), values.begin(), values.end());
      }
    }
    b.expect(roots);
  }

  void equations_piece(std::size_t number, const std::vector<Item>& items) {
    put("static void equations_{}(iso_memory *m) {{\n  double *const v = m->v;\n", number);
    CBlock b = block("  ");
    expect(b, items);
    for (const Item& entry : items) {
      item(b, entry, v(model::kTime));
      const VarId target = model::target_of(p_, entry);
      put("  {} = {};\n", v(target), names_.of(target));
    }
    out_ += "}\n\n";
  }

  /// Pieces of one rate each; sampled parts stand between them.
  void equations() {
    std::string calls;
    std::vector<Item> piece;
    std::size_t pieces = 0;
    int rate = 0;
    const auto guard = [&](int r) { return r > 0 ? fmt::format("if (due > {}) ", r) : std::string{}; };
    const auto close = [&] {
      if (piece.empty()) return;
      equations_piece(pieces, piece);
      calls += fmt::format("  {}equations_{}(m);\n", guard(rate), pieces++);
      piece.clear();
    };
    for (const Item& entry : p_.order) {
      if (entry.kind == Item::Kind::tap) continue;  // with what it taps
      const int own = plan_.rate_of(entry);
      if (own != rate || piece.size() >= kMostPerFunction) close();
      rate = own;
      if (entry.kind != Item::Kind::sampler) {
        piece.push_back(entry);
        continue;
      }
      close();
      const model::Sampler& s = p_.samplers[static_cast<std::size_t>(entry.index)];
      calls += fmt::format("  if (sampled{} && {}) sampler_{}(m);\n", own > 0 ? fmt::format(" && due > {}", own) : "",
                           is_due(s), entry.index);
    }
    close();
    put("static void equations(iso_memory *m, int due, int sampled) {{\n  (void)due, (void)sampled;\n{}}}\n\n", calls);
  }

  static std::string is_due(const model::Sampler& s) {
    if (s.offset.count() == 0) return fmt::format("*m->now % {} == 0", s.period.count());
    return fmt::format("*m->now >= {0} && (*m->now - {0}) % {1} == 0", s.offset.count(), s.period.count());
  }

  // ---- what jumps ---------------------------------------------------------------------------------------

  void machines() {
    const std::size_t n = p_.machines.size();
    for (std::size_t i = 0; i < n; ++i) {
      put("static void leave_{0}(iso_memory *m);\nstatic void enter_{0}(iso_memory *m, char *restarted, int mode);\n",
          i);
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
    for (const model::StateMachine& machine : p_.machines) bodies(machine, machine.entry, "iso_max(0.0, {})", true);
    out_ += "  (void)v;\n  return acted;\n}\n\n";
    take();
  }

  /// switch over the modes that do something on entry or exit.
  void bodies(const model::StateMachine& m, const std::vector<std::vector<model::Assignment>>& lists, const char* mode,
              bool acted) {
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

  void machine(std::size_t i) {
    const model::StateMachine& m = p_.machines[i];
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
    inside(i, [&](std::size_t k, const model::StateMachine& inner) {
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
    inside(i, [&](std::size_t k, const model::StateMachine& inner) {
      put("  if (mode == {}) enter_{}(m, restarted, 0);\n", inner.outer_mode, k);
    });
    out_ += "}\n\n";
  }

  template <typename Visit>
  void inside(std::size_t machine, Visit visit) {
    for (std::size_t k = 0; k < p_.machines.size(); ++k) {
      if (p_.machines[k].outer == static_cast<std::int32_t>(machine)) visit(k, p_.machines[k]);
    }
  }

  std::string guard_of(VarId id) const {
    const int rate = plan_.rate_of(id);
    return rate > 0 ? fmt::format("due > {}", rate) : std::string{};
  }

  /// Every machine looks at the same image; outer machines come before those inside them.
  void take() {
    const std::size_t n = p_.machines.size();
    put("static int transitions(iso_memory *m, int due) {{\n  double *const v = m->v;\n  char restarted[{0}] = "
        "{{0}};\n  "
        "int chosen[{0}];\n  int any = 0;\n  (void)due, (void)v;\n",
        n);
    for (std::size_t i = 0; i < n; ++i) {
      const std::string guard = guard_of(p_.machines[i].mode);
      put("  chosen[{0}] = {1}choose_{0}(m){2};\n", i, guard.empty() ? "" : guard + " ? ",
          guard.empty() ? "" : " : -1");
    }
    for (std::size_t i = 0; i < n; ++i) {
      const model::StateMachine& machine = p_.machines[i];
      const std::string guard = guard_of(machine.mode);
      std::string to;
      for (const model::Transition& t : machine.transitions) to += fmt::format("{}{}", to.empty() ? "" : ", ", t.to);
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
  void events() {
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
      for (const model::WhenBlock& w : p_.events) {
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
    for (const model::WhenBlock& w : p_.events) put("{}, ", plan_.rate_of_group(w.group));
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

  void remember() {
    out_ += "static void remember(iso_memory *m, int due) {\n  const double *const v = m->v;\n  (void)due, (void)v;\n";
    for (std::size_t i = 0; i < p_.delays.size(); ++i) {
      const model::Delay& d = p_.delays[i];
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

  void settle() {
    std::string sampled;
    for (const model::Sampler& s : p_.samplers) {
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

  // ---- steps --------------------------------------------------------------------------------------------

  struct GroupNames {
    std::map<VarId, std::size_t> state;  ///< place within the group
    std::map<VarId, std::vector<std::size_t>> derivative;
    std::map<VarId, std::size_t> scratch;  ///< quantities that cross between pieces
    std::vector<std::size_t> limited;      ///< states with limits, places within the group
    std::vector<std::string> low, high;    ///< the limits as C, within a function that has a step c
    bool built_in = false;
  };

  /// What does not move within a step and is an operand of what does.
  std::vector<NodeId> held_operands(const GroupPlan& g) const {
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
        const model::Solve& s = p_.solves[static_cast<std::size_t>(entry.index)];
        look(s.lowest), look(s.highest);
      } else {
        for (const NodeId value : model::values_of(p_, entry)) look(value);
      }
      while (!todo.empty()) {
        const model::Node& n = p_.node(todo.back());
        todo.pop_back();
        look(n.a), look(n.b), look(n.c);
      }
    }
    return {wanted.begin(), wanted.end()};
  }

  std::size_t operations(const GroupPlan& g) const {
    std::set<NodeId> seen;
    std::vector<NodeId> todo;
    for (const std::int32_t place : g.between) {
      const Item& entry = p_.order[static_cast<std::size_t>(place)];
      if (entry.kind == Item::Kind::solve || entry.kind == Item::Kind::delay) return kMostBuiltIn + 1;
      for (const NodeId value : model::values_of(p_, entry)) todo.push_back(value);
      while (!todo.empty() && seen.size() <= kMostBuiltIn) {
        const NodeId id = todo.back();
        todo.pop_back();
        if (id == kNone || p_.node(id).op <= model::Op::variable || !seen.insert(id).second) continue;
        for (const NodeId child : {p_.node(id).a, p_.node(id).b, p_.node(id).c}) todo.push_back(child);
      }
    }
    return seen.size();
  }

  const model::State& state(const GroupPlan& g, std::size_t i) const {
    return p_.states[static_cast<std::size_t>(g.group->states[i])];
  }

  /// What one piece computes and another reads.
  void crossings(const std::vector<std::vector<Item>>& pieces, GroupNames& names) const {
    std::map<VarId, std::size_t> made;
    for (std::size_t k = 0; k < pieces.size(); ++k) {
      for (const Item& entry : pieces[k]) made[model::target_of(p_, entry)] = k;
    }
    for (std::size_t k = 0; k < pieces.size(); ++k) {
      for (const Item& entry : pieces[k]) {
        for (const NodeId value : model::values_of(p_, entry)) {
          for (const VarId id : p_.reads(value)) {
            const auto found = made.find(id);
            if (found != made.end() && found->second != k) names.scratch.emplace(id, names.scratch.size());
          }
        }
      }
    }
  }

  /// A limit that is a number is written as such.
  std::string limit(NodeId node, const char* which, std::size_t place) const {
    const auto value = model::fold(p_, node, [](VarId) { return std::nullopt; });
    return value ? c_number(*value) : fmt::format("c->{}[{}]", which, place);
  }

  void group(std::size_t index) {
    const GroupPlan& g = plan_.groups[index];
    const std::size_t n = g.group->states.size();
    if (n == 0) return;
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
        model::method_word(g.group->method));
    put("typedef struct step_{} {{\n  iso_memory *m;\n  double held[{}], low[{}], high[{}];\n  double *scratch;\n}} "
        "step_{};\n\n",
        index, std::max<std::size_t>(1, held.size()), std::max<std::size_t>(1, names.limited.size()),
        std::max<std::size_t>(1, names.limited.size()), index);
    for (std::size_t k = 0; k < pieces.size(); ++k) between_piece(g, index, k, pieces[k], names, held);
    between(g, index, pieces.size(), names);
    step_group(g, index, names, held);
  }

  void between_piece(const GroupPlan& g, std::size_t index, std::size_t number, const std::vector<Item>& items,
                     const GroupNames& names, const std::vector<NodeId>& held) {
    put("{2} void between_{0}_{1}(const step_{0} *restrict c, double t, const double *restrict x, double *restrict dx) "
        "{{\n  iso_memory *const "
        "m = "
        "c->m;\n  const double *const v = m->v;\n  (void)m, (void)v, (void)t, (void)x, (void)dx;\n",
        index, number, names.built_in ? "ISO_INLINE" : "static");
    CBlock b = block("  ");
    for (std::size_t i = 0; i < held.size(); ++i) b.known[held[i]] = fmt::format("c->held[{}]", i);
    b.source = [&](VarId id) {
      if (id == model::kTime) return std::string("t");
      if (const auto found = names.state.find(id); found != names.state.end())
        return fmt::format("x[{}]", found->second);
      if (const auto found = names.scratch.find(id); found != names.scratch.end())
        return fmt::format("c->scratch[{}]", found->second);
      return std::string{};
    };
    expect(b, items);
    for (const Item& entry : items) {
      item(b, entry, "t");
      const VarId target = model::target_of(p_, entry);
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

  void between(const GroupPlan& g, std::size_t index, std::size_t pieces, const GroupNames& names) {
    put("{1} void between_{0}(void *context, double t, const double *x, double *dx) {{\n  const step_{0} *const c = "
        "(const step_{0} *)context;\n",
        index, names.built_in ? "ISO_INLINE" : "static");
    std::set<VarId> computed;
    for (const std::int32_t place : g.between)
      computed.insert(model::target_of(p_, p_.order[static_cast<std::size_t>(place)]));
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
  std::string room(std::size_t& used, std::size_t size) {
    const std::string at = used == 0 ? std::string("m->work") : fmt::format("m->work + {}", used);
    used += size;
    made_.work = std::max(made_.work, used);
    return at;
  }

  void step_group(const GroupPlan& g, std::size_t index, const GroupNames& names, const std::vector<NodeId>& held) {
    const std::size_t n = g.group->states.size();
    const bool by_index = n > kMostWrittenOut;
    const auto index_list = [&](const char* name, auto&& of) {
      put("static const int32_t {}_{}[] = {{", name, index);
      for (std::size_t i = 0; i < n; ++i) put("{}{}", i == 0 ? "" : i % 16 == 0 ? ",\n    " : ", ", of(i));
      out_ += "};\n";
    };
    index_list("state", [&](std::size_t i) { return g.group->states[i]; });
    index_list("value", [&](std::size_t i) { return state(g, i).value; });
    if (by_index) index_list("slope", [&](std::size_t i) { return state(g, i).derivative; });
    put("\nstatic iso_trouble step_group_{0}(iso_memory *m) {{\n  double *const v = m->v;\n  step_{0} here;\n  "
        "step_{0} *const c = &here;\n  c->m = m;\n",
        index);
    std::size_t used = 0;
    if (!names.scratch.empty()) put("  c->scratch = {};\n", room(used, names.scratch.size()));
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
    if (n <= kMostOnStack) {
      put("  double x[{0}], k1[{0}], work[{1}];\n", n, 6 * n);
    } else {
      const std::string x = room(used, n), k1 = room(used, n), work = room(used, 6 * n);
      put("  double *const x = {}, *const k1 = {}, *const work = {};\n", x, k1, work);
    }
    if (by_index) {
      put("  for (int i = 0; i < {0}; ++i) {{\n    x[i] = v[value_{1}[i]];\n    k1[i] = v[slope_{1}[i]];\n  }}\n", n,
          index);
    } else {
      for (std::size_t i = 0; i < n; ++i)
        put("  x[{0}] = {1};\n  k1[{0}] = {2};\n", i, v(state(g, i).value), v(state(g, i).derivative));
    }
    for (std::size_t k = 0; k < names.limited.size(); ++k)
      put("  const int stuck_{1} = (x[{0}] <= {2} && k1[{0}] < 0) || (x[{0}] >= {3} && k1[{0}] > 0);\n  if (stuck_{1}) "
          "k1[{0}] = "
          "0;\n",
          names.limited[k], k, names.low[k], names.high[k]);
    put("  const double h = {};\n  (void)work;\n", c_number(to_seconds(g.group->step)));
    method(g, index, names, used);
    if (!p_.solves.empty()) out_ += "  if (*m->unsolved >= 0) return trouble_of(m);\n";
    for (std::size_t k = 0; k < names.limited.size(); ++k)
      put("  if (x[{0}] < {1}) x[{0}] = {1};\n  if (x[{0}] > {2}) x[{0}] = {2};\n", names.limited[k], names.low[k],
          names.high[k]);
    put("  int bad = 0;\n  for (int i = 0; i < {0}; ++i) bad |= !isfinite(x[i]);\n  if (bad) {{\n    for (int i = 0; i "
        "< {0}; "
        "++i) {{\n      if (!isfinite(x[i])) return (iso_trouble){{1, state_{1}[i], v[value_{1}[i]]}};\n    }}\n  }}\n",
        n, index);
    if (by_index || !plan_.single) {
      put("  for (int i = 0; i < {}; ++i) {}[{}_{}[i]] = x[i];\n", n, plan_.single ? "v" : "m->next",
          plan_.single ? "value" : "state", index);
    } else {
      for (std::size_t i = 0; i < n; ++i) put("  {} = x[{}];\n", v(state(g, i).value), i);
    }
    out_ += "  return (iso_trouble){0, 0, 0};\n}\n\n";
  }

  void method(const GroupPlan& g, std::size_t index, const GroupNames& names, std::size_t& used) {
    const std::size_t n = g.group->states.size();
    switch (g.group->method) {
      case Method::euler:
        put("  iso_euler({}, h, x, k1);\n", n);
        break;
      case Method::heun:
      case Method::rk4:
        put("  iso_{}({}, v[i_time], h, x, k1, between_{}, c, work);\n", model::method_word(g.group->method), n, index);
        break;
      case Method::implicit:
        slopes(g, names, used);
        put("  int rows[{0}];\n  if (!iso_implicit({0}, v[i_time], h, x, k1, slopes, drift, between_{1}, c, work, "
            "rows)) return "
            "(iso_trouble){{5, {1}, 0}};\n",
            n, index);
        break;
      case Method::exact:
        slopes(g, names, used);
        put("  iso_exact({}, h, x, k1, slopes, drift, m->known + {});\n", n, made_.known);
        made_.known += 7 * n * n + 1;
        break;
    }
    (void)names;
  }

  void slopes(const GroupPlan& g, const GroupNames& names, std::size_t& used) {
    const std::size_t n = g.group->states.size();
    const std::string at = room(used, n * n), drift_at = room(used, n);
    put("  double *const slopes = {0}, *const drift = {1};\n  memset(slopes, 0, {2} * sizeof(double));\n  "
        "memset(drift, 0, {3} * "
        "sizeof(double));\n  {{\n",
        at, drift_at, n * n, n);
    CBlock b = block("    ");
    std::vector<NodeId> roots;
    for (const model::Group::Slope& s : g.group->jacobian) roots.push_back(s.value);
    for (const NodeId d : g.group->drift) {
      if (d != kNone) roots.push_back(d);
    }
    b.expect(roots);
    for (const model::Group::Slope& s : g.group->jacobian) {
      const std::string value = b.value(s.value);
      put("    slopes[{}] = {}; /* d({})/d({}) */\n",
          static_cast<std::size_t>(s.row) * n + static_cast<std::size_t>(s.column), value,
          p_.variable(state(g, static_cast<std::size_t>(s.row)).derivative).name,
          p_.variable(state(g, static_cast<std::size_t>(s.column)).value).name);
    }
    for (std::size_t i = 0; i < n; ++i) {
      if (g.group->drift[i] == kNone) continue;
      const std::string value = b.value(g.group->drift[i]);
      put("    drift[{}] = {};\n", i, value);
    }
    out_ += "  }\n";
    for (std::size_t k = 0; k < names.limited.size(); ++k)
      put("  if (stuck_{0}) {{\n    memset(slopes + {1}, 0, {2} * sizeof(double));\n    drift[{3}] = 0;\n  }}\n", k,
          names.limited[k] * n, n, names.limited[k]);
  }

  void trouble() {
    out_ += "static iso_trouble trouble_of(const iso_memory *m) {\n  iso_trouble trouble = {0, 0, 0};\n";
    if (!p_.solves.empty()) {
      out_ += "  static const int32_t unknown[] = {";
      for (const model::Solve& s : p_.solves) put("{}, ", s.x);
      out_ +=
          "};\n  if (*m->unsolved >= 0) {\n    trouble.kind = 4;\n    trouble.index = *m->unsolved;\n"
          "    trouble.last_good = m->v[unknown[*m->unsolved]];\n    return trouble;\n  }\n";
    }
    if (!p_.events.empty()) out_ += "  if (*m->endless) {\n    trouble.kind = 3;\n    return trouble;\n  }\n";
    if (!p_.machines.empty())
      put("  for (int i = 0; i < {}; ++i) {{\n    if (m->reversals[i] > {}) {{\n      trouble.kind = 2;\n      "
          "trouble.index = "
          "i;\n      return trouble;\n    }}\n  }}\n",
          p_.machines.size(), kMostReversals);
    out_ += "  (void)m;\n  return trouble;\n}\n\n";
  }

  void step() {
    const std::int64_t instants = plan_.instants_per_step;
    std::string groups, arrived;
    for (std::size_t i = 0; i < plan_.groups.size(); ++i) {
      const GroupPlan& g = plan_.groups[i];
      const std::size_t n = g.group->states.size();
      if (n == 0) continue;
      const std::string guard = g.rate > 0 ? fmt::format("if (due > {}) ", g.rate) : "";
      groups +=
          fmt::format("    {}trouble = step_group_{}(m);\n    if (trouble.kind != 0) return trouble;\n", guard, i);
      if (plan_.single) continue;
      const std::string there = g.rate > 0 ? fmt::format("if (arrived > {}) ", g.rate) : "";
      arrived += fmt::format(
          "    {}{{\n      for (int i = 0; i < {}; ++i) m->v[value_{}[i]] = m->next[state_{}[i]];\n    }}\n", there, n,
          i, i);
    }
    put("static iso_trouble step(iso_memory *m) {{\n  for (int64_t instant = 0; instant < {0}; ++instant) {{\n"
        "    iso_trouble trouble = trouble_of(m);\n    if (trouble.kind != 0) return trouble;\n"
        "    const int due = due_at(*m->now);\n    (void)due;\n{1}    *m->now += {2};\n    const int arrived = "
        "due_at(*m->now);\n"
        "    (void)arrived;\n{3}    if (instant + 1 < {0}) settle_due(m, arrived);\n  }}\n  return (iso_trouble){{0, "
        "0, 0}};\n}}\n\n"
        "iso_trouble iso_plant_step(iso_memory *m) {{\n  const uint64_t before = iso_flush();\n  const iso_trouble "
        "trouble = "
        "step(m);\n  iso_unflush(before);\n  return trouble;\n}}\n\n"
        "int iso_plant_layout(void) {{ return {4}; }}\n",
        instants, groups, plan_.rates.front().count(), arrived, kCLayout);
  }

  const model::Program& p_;
  const Plan& plan_;
  CStyle style_;
  CNames names_;
  std::vector<Ring> rings_;
  std::map<VarId, std::int32_t> tap_of_;
  std::string out_;
  CCode made_;
};

}  // namespace

CCode c_code(const model::Program& program, const Plan& plan, const CStyle& style) {
  return Writer(program, plan, style).run();
}

}  // namespace isodyne::engine
