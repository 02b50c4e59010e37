#include "isodyne/engine/c_code.h"

#include <algorithm>

#include "isodyne/core/text.h"
#include "isodyne/engine/c_writer.h"

namespace isodyne::engine {

CCode CWriter::run() {
  names();
  tables();
  for (std::size_t i = 0; i < p_.solves.size(); ++i) residual(i);
  for (std::size_t i = 0; i < p_.periodic_tasks.size(); ++i) periodic_task(i);
  equations();
  machines();
  events();
  remember();
  settle();
  trouble();
  for (std::size_t g = 0; g < plan_.groups.size(); ++g) group(g);
  step();
  if (p_.order.size() > kMostPerFunction) made_.small = false;
  made_.text = std::move(out_);
  return std::move(made_);
}

void CWriter::comment(Span span, const char* indent) {
  if (style_.comments && span.end > span.begin) {
    std::string place = p_.sources->place(span);
    place = place.substr(place.rfind('/') + 1);
    std::string text = p_.sources->in_one_line(span);
    for (std::size_t at = 0; (at = text.find("*/", at)) != std::string::npos;) text.replace(at, 2, "* /");
    put("{}/* {}: {} */\n", indent, place, text);
  }
}

void CWriter::names() {
  out_ += "/* Places of the quantities in v[]. */\nenum {\n";
  for (std::size_t i = 0; i < p_.variables.size(); ++i) put("  i_{} = {},\n", names_.of(static_cast<VarId>(i)), i);
  out_ += "};\n\n";
}

void CWriter::tables() {
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
    const program::LookupTable& t = p_.tables[i];
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

std::vector<VarId> CWriter::inputs_of(const program::ImplicitEquation& s) const {
  std::set<VarId> inputs;
  for (const NodeId node : {s.residual, s.derivative, s.scale}) {
    for (const VarId id : p_.reads(node)) inputs.insert(id);
  }
  inputs.erase(s.x);
  return {inputs.begin(), inputs.end()};
}

void CWriter::residual(std::size_t i) {
  const program::ImplicitEquation& s = p_.solves[i];
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

void CWriter::solve(CBlock& b, std::size_t i) {
  const program::ImplicitEquation& s = p_.solves[i];
  const std::vector<VarId> inputs = inputs_of(s);
  std::string list;
  for (const VarId id : inputs) list_on(list, b.read(id));
  const std::string low = b.value(s.lowest), high = b.value(s.highest);
  if (!inputs.empty()) put("  double inputs_{}[] = {{{}}};\n", i, list);
  put("  double {} = {};\n", names_.of(s.x), v(s.x));
  put("  if (!iso_solve(residual_{}, {}, &{}, {}, {}, {}) && *m->unsolved < 0) *m->unsolved = {};\n", i,
      inputs.empty() ? "0" : fmt::format("inputs_{}", i), names_.of(s.x), s.lowest == kNone ? 0 : 1, low, high, i);
  b.define(s.x, names_.of(s.x));
}

/// One assignment after another: nothing computed for one is known to the next.
void CWriter::body(const std::vector<program::Assignment>& list, const std::string& indent) {
  for (const program::Assignment& a : list) {
    const std::string inner = indent + "  ";
    put("{}{{\n", indent);
    CBlock b(p_, names_, out_, inner);
    b.expect({a.value});
    const std::string value = b.value(a.value);
    put("{}{} = {};\n{}}}\n", inner, v(a.target), value, indent);
  }
}

void CWriter::periodic_task(std::size_t i) {
  put("static void task_{}(iso_memory *m) {{\n  double *const v = m->v;\n", i);
  comment(p_.periodic_tasks[i].span, "  ");
  body(p_.periodic_tasks[i].body, "  ");
  out_ += "}\n\n";
}

void CWriter::tap(VarId target, const std::string& now) {
  const auto found = tap_of_.find(target);
  if (!style_.taps || found == tap_of_.end()) return;
  put("  if (m->tapped[{0}]) {1} = m->tap(m->host, {0}, {1}, {2});\n", found->second, names_.of(target), now);
}

/// One entry of the order into a block, up to a local that holds its value.
void CWriter::item(CBlock& b, const Item& entry, const std::string& now) {
  const auto i = static_cast<std::size_t>(entry.index);
  const VarId target = program::target_of(p_, entry);
  const std::string& name = names_.of(target);
  if (entry.kind == Item::Kind::equation) {
    comment(p_.equations[i].span, "  ");
    if (remembers_.contains(target)) b.define(target, v(target));  // it goes on from what it was
    const std::string value = b.value(p_.equations[i].value);
    const bool tapped = style_.taps && tap_of_.contains(target);
    put("  {}double {} = {};\n", tapped ? "" : "const ", name, value);
    // Compilers would compute with it by another mathematical library.
    const auto number = b.number(p_.equations[i].value);
    if (number && !tapped) b.define_constant(target, *number);
  } else if (entry.kind == Item::Kind::solve) {
    solve(b, i);
  } else {
    const program::Delay& d = p_.delays[i];
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

void CWriter::expect(CBlock& b, const std::vector<Item>& items) {
  std::vector<NodeId> roots;
  for (const Item& entry : items) {
    if (entry.kind == Item::Kind::solve) {
      const program::ImplicitEquation& s = p_.solves[static_cast<std::size_t>(entry.index)];
      roots.insert(roots.end(), {s.lowest, s.highest});
    } else {
      const std::vector<NodeId> values = program::values_of(p_, entry);
      roots.insert(roots.end(), values.begin(), values.end());
    }
  }
  b.expect(roots);
}

void CWriter::equations_piece(std::size_t number, const std::vector<Item>& items) {
  put("static void equations_{}(iso_memory *m) {{\n  double *const v = m->v;\n", number);
  CBlock b = block("  ");
  expect(b, items);
  for (const Item& entry : items) {
    item(b, entry, v(program::kTime));
    const VarId target = program::target_of(p_, entry);
    put("  {} = {};\n", v(target), names_.of(target));
  }
  out_ += "}\n\n";
}

/// Pieces of one rate each; sampled parts stand between them.
void CWriter::equations() {
  std::string calls;
  std::vector<Item> piece;
  std::size_t pieces = 0;
  int rate = 0;
  bool idle = false;
  const auto guard = [&]() -> std::string {
    if (idle) return fmt::format("if (due > {} || (m->idle_wanted && due > {})) ", plan_.all() - 1, rate);
    return rate > 0 ? fmt::format("if (due > {}) ", rate) : std::string{};
  };
  const auto close = [&] {
    if (piece.empty()) return;
    equations_piece(pieces, piece);
    calls += fmt::format("  {}equations_{}(m);\n", guard(), pieces++);
    piece.clear();
  };
  for (const Item& entry : p_.order) {
    if (entry.kind == Item::Kind::tap) continue;  // with what it taps
    const int own = plan_.rate_of(entry);
    if (own != rate || plan_.is_idle(entry) != idle || piece.size() >= kMostPerFunction) close();
    rate = own;
    idle = plan_.is_idle(entry);
    if (entry.kind != Item::Kind::periodic_task && entry.kind != Item::Kind::sensor) {
      piece.push_back(entry);
      continue;
    }
    close();
    if (entry.kind == Item::Kind::sensor) {
      const program::Sensor& s = p_.sensors[static_cast<std::size_t>(entry.index)];
      calls += fmt::format("  if (m->sensing{} && (*m->now == 0 || ({}))) sample(m, {}, {}, {});\n",
                           own > 0 ? fmt::format(" && due > {}", own) : "", is_due(s), entry.index, s.value, s.truth);
      continue;
    }
    const program::PeriodicTask& s = p_.periodic_tasks[static_cast<std::size_t>(entry.index)];
    calls += fmt::format("  if (sampled{} && {}) task_{}(m);\n", own > 0 ? fmt::format(" && due > {}", own) : "",
                         is_due(s), entry.index);
  }
  close();
  if (!p_.sensors.empty())
    out_ +=
        "static void sample(iso_memory *m, int sensor, int value, int truth) {\n  if (m->sample)\n"
        "    m->sample(m->sensors, sensor);\n  else\n    m->v[value] = m->v[truth];\n}\n\n";
  put("static void equations(iso_memory *m, int due, int sampled) {{\n  (void)due, (void)sampled;\n{}}}\n\n", calls);
}

CCode c_code(const program::Plant& program, const Plan& plan, const CStyle& style) {
  return CWriter(program, plan, style).run();
}

}  // namespace isodyne::engine
