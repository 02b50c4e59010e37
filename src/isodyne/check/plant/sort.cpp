// Tarjan's strongly connected components (R. Tarjan, "Depth-first search and linear graph algorithms",
// 1972), with an explicit stack so that a chain of a million equations needs no deep recursion. Components
// come out in the order "what is needed first"; a component of several members is an algebraic loop.
//
// Works: level → outflow → rate (a chain, any order of text). Reported: a = b + 1, b = 2 * a.

#include "isodyne/check/plant/sort.h"

#include <algorithm>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/check/plant/groups.h"
#include "isodyne/check/plant/implicit.h"
#include "isodyne/check/plant/source_ends.h"

namespace isodyne::check {

namespace {

using Graph = std::vector<std::vector<std::int32_t>>;  // node → what it needs

class Components {
 public:
  explicit Components(const Graph& graph)
      : graph_(graph), index_(graph.size(), -1), low_(graph.size()), on_stack_(graph.size()) {
    for (std::size_t v = 0; v < graph.size(); ++v) {
      if (index_[v] < 0) visit(static_cast<std::int32_t>(v));
    }
  }
  std::vector<std::vector<std::int32_t>> found;

 private:
  struct Frame {
    std::int32_t node;
    std::size_t next;
  };

  void enter(std::int32_t v) {
    const auto i = static_cast<std::size_t>(v);
    index_[i] = low_[i] = counter_++;
    stack_.push_back(v);
    on_stack_[i] = true;
    frames_.push_back({v, 0});
  }

  void visit(std::int32_t root) {
    enter(root);
    while (!frames_.empty()) {
      Frame& frame = frames_.back();
      const auto v = static_cast<std::size_t>(frame.node);
      if (frame.next < graph_[v].size()) {
        const std::int32_t w = graph_[v][frame.next++];
        const auto wi = static_cast<std::size_t>(w);
        if (index_[wi] < 0) {
          enter(w);
        } else if (on_stack_[wi]) {
          low_[v] = std::min(low_[v], index_[wi]);
        }
        continue;
      }
      leave(static_cast<std::int32_t>(v));
    }
  }

  void leave(std::int32_t node) {
    const auto v = static_cast<std::size_t>(node);
    frames_.pop_back();
    if (!frames_.empty()) {
      const auto parent = static_cast<std::size_t>(frames_.back().node);
      low_[parent] = std::min(low_[parent], low_[v]);
    }
    if (low_[v] != index_[v]) return;
    std::vector<std::int32_t> component;
    std::int32_t w = -1;
    do {
      w = stack_.back();
      stack_.pop_back();
      on_stack_[static_cast<std::size_t>(w)] = false;
      component.push_back(w);
    } while (w != node);
    std::reverse(component.begin(), component.end());
    found.push_back(std::move(component));
  }

  const Graph& graph_;
  std::vector<std::int32_t> index_, low_;
  std::vector<bool> on_stack_;
  std::vector<std::int32_t> stack_;
  std::vector<Frame> frames_;
  std::int32_t counter_ = 0;
};

/// A way round inside a component, starting and ending at its first member.
std::vector<std::int32_t> cycle_in(const Graph& graph, const std::vector<std::int32_t>& component) {
  const std::int32_t home = *std::min_element(component.begin(), component.end());  // the first in the text
  std::unordered_map<std::int32_t, std::int32_t> came_from;
  std::vector<std::int32_t> queue{home};
  for (std::size_t head = 0; head < queue.size(); ++head) {
    const std::int32_t v = queue[head];
    for (const std::int32_t w : graph[static_cast<std::size_t>(v)]) {
      if (w == home) {
        std::vector<std::int32_t> way{v};
        while (way.back() != home) way.push_back(came_from.at(way.back()));
        std::reverse(way.begin(), way.end());
        return way;
      }
      const bool inside = std::find(component.begin(), component.end(), w) != component.end();
      if (inside && came_from.try_emplace(w, v).second) queue.push_back(w);
    }
  }
  return {home};
}

struct Entry {
  Item item;
  VarId names;  ///< what to call it in a loop
  Span span;
};

void report_loop(Check& check, const Graph& graph, const std::vector<Entry>& entries,
                 const std::vector<std::int32_t>& component) {
  const std::vector<std::int32_t> way = cycle_in(graph, component);
  const auto name = [&](std::int32_t i) {
    return check.program.variable(entries[static_cast<std::size_t>(i)].names).name;
  };
  std::string loop;
  for (const std::int32_t i : way) loop += name(i) + " needs ";
  loop += name(way.front());
  Diagnostic& d =
      check.error(Code::algebraic_loop, entries[static_cast<std::size_t>(way.front())].span,
                  fmt::format("these equations need each other's result: {}", loop),
                  "break the loop with a state, a memory or a `delay`: something in it takes time; or say which "
                  "quantity is to be solved for: `solve x from … = …`");
  for (std::size_t i = 1; i < way.size() && i < 10; ++i) {
    d.notes.push_back(
        {entries[static_cast<std::size_t>(way[i])].span, fmt::format("`{}` is computed here", name(way[i]))});
  }
}

/// The entries in computable order; reports loops.
std::vector<Entry> sorted(Check& check, const std::vector<Entry>& entries, const Graph& graph) {
  std::vector<Entry> order;
  for (const auto& component : Components(graph).found) {
    const std::int32_t first = component.front();
    const auto& needs = graph[static_cast<std::size_t>(first)];
    const bool self = std::find(needs.begin(), needs.end(), first) != needs.end();
    if (component.size() > 1 || self) report_loop(check, graph, entries, component);
    for (const std::int32_t i : component) order.push_back(entries[static_cast<std::size_t>(i)]);
  }
  return order;
}

bool is_param(const Program& p, VarId id) {
  return program::is_parameter(p.variable(id).role);
}

/// A parameter has its value from the start on: what moves would be frozen in it.
bool param_follows(Check& check, const Assignment& a, VarId read) {
  const Program& p = check.program;
  if (!is_param(p, a.target) || is_param(p, read)) return false;
  const std::string& name = p.variable(a.target).name;
  const std::string own = name.substr(name.rfind('.') + 1);
  check.error(
      Code::not_constant, a.span,
      fmt::format("parameter `{}` would keep the value that `{}` has at the start: parameters are computed once", name,
                  p.variable(read).name),
      fmt::format("for a value that moves declare `input {}` in the model instead, and connect it: `{} = …`", own,
                  name));
  return true;
}

void sort_start(Check& check) {
  Program& p = check.program;
  std::unordered_map<VarId, std::int32_t> maker;
  std::vector<Entry> entries;
  for (std::size_t i = 0; i < p.start.size(); ++i) {
    maker[p.start[i].target] = static_cast<std::int32_t>(i);
    entries.push_back({{Item::Kind::equation, static_cast<std::int32_t>(i)}, p.start[i].target, p.start[i].span});
  }
  Graph graph(entries.size());
  for (std::size_t i = 0; i < p.start.size(); ++i) {
    for (const VarId read : p.reads(p.start[i].value)) {
      if (param_follows(check, p.start[i], read)) break;
      const auto made = maker.find(read);
      if (made != maker.end()) {
        graph[i].push_back(made->second);
      } else {
        check.error(Code::not_constant, p.start[i].span,
                    fmt::format("a start value cannot read `{}`, which is computed later", p.variable(read).name),
                    "start values may use parameters and other start values");
      }
    }
  }
  std::vector<Assignment> order;
  for (const Entry& e : sorted(check, entries, graph)) order.push_back(p.start[static_cast<std::size_t>(e.item.index)]);
  p.start = std::move(order);
}

/// Everything that is computed at an instant, and what it needs.
struct Instant {
  std::vector<Entry> entries;
  Graph graph;
};

Instant instant_of(const Program& p) {
  Instant all;
  std::unordered_map<VarId, std::int32_t> maker;
  const auto add = [&](Item::Kind kind, std::size_t i, VarId made, Span span) {
    maker[made] = static_cast<std::int32_t>(all.entries.size());
    all.entries.push_back({{kind, static_cast<std::int32_t>(i)}, made, span});
  };
  for (std::size_t i = 0; i < p.equations.size(); ++i)
    add(Item::Kind::equation, i, p.equations[i].target, p.equations[i].span);
  for (std::size_t i = 0; i < p.periodic_tasks.size(); ++i) {
    const PeriodicTask& s = p.periodic_tasks[i];
    for (const Assignment& a : s.body) maker[a.target] = static_cast<std::int32_t>(all.entries.size());
    all.entries.push_back({{Item::Kind::periodic_task, static_cast<std::int32_t>(i)},
                           s.body.empty() ? 0 : s.body.front().target,
                           s.span});
  }
  for (std::size_t i = 0; i < p.delays.size(); ++i) add(Item::Kind::delay, i, p.delays[i].out, p.delays[i].span);
  for (std::size_t i = 0; i < p.solves.size(); ++i) add(Item::Kind::solve, i, p.solves[i].x, p.solves[i].span);
  for (std::size_t i = 0; i < p.sensors.size(); ++i) {
    const Sensor& s = p.sensors[i];
    for (const VarId made : {s.signal, s.counts}) maker[made] = static_cast<std::int32_t>(all.entries.size());
    add(Item::Kind::sensor, i, s.value, s.span);
  }
  all.graph.resize(all.entries.size());
  const auto need = [&](std::size_t entry, NodeId value, bool own_values_are_memory) {
    for (const VarId read : p.reads(value)) {
      const auto made = maker.find(read);
      if (made == maker.end()) continue;
      // Inside `every`, its own values are those of the last time, so they are no dependency.
      if (own_values_are_memory && made->second == static_cast<std::int32_t>(entry)) continue;
      all.graph[entry].push_back(made->second);
    }
  };
  std::size_t entry = 0;
  for (const Assignment& e : p.equations) need(entry++, e.value, false);
  for (const PeriodicTask& s : p.periodic_tasks) {
    for (const Assignment& a : s.body) need(entry, a.value, true);
    ++entry;
  }
  for (const Delay& d : p.delays) need(entry++, d.lag, false);  // its input is of the past
  for (const ImplicitEquation& s : p.solves) {
    for (const NodeId value : {s.residual, s.derivative, s.scale, s.lowest, s.highest}) need(entry, value, true);
    ++entry;
  }
  const auto sample_needs = [&](VarId sampled, VarId truth) {
    const auto sample = maker.find(sampled), made = maker.find(truth);
    if (sample != maker.end() && made != maker.end())
      all.graph[static_cast<std::size_t>(sample->second)].push_back(made->second);
  };
  for (const Sensor& s : p.sensors) {
    sample_needs(s.value, s.truth);
    if (s.at != kNone) sample_needs(s.value, s.at);
  }
  for (const Fault& f : p.faults) {  // while swapped, each sees what the other measures
    if (f.other == kNone) continue;
    const VarId one = at(p.taps, f.tap).target, two = at(p.taps, f.other).target;
    for (const Sensor& s : p.sensors) {
      if (s.value == one) sample_needs(two, s.truth);
      if (s.value == two) sample_needs(one, s.truth);
    }
  }
  maker.erase(kNone);
  return all;
}

void sort_equations(Check& check) {
  Program& p = check.program;
  const Instant all = instant_of(p);
  std::unordered_map<VarId, std::int32_t> tapped;
  for (std::size_t i = 0; i < p.taps.size(); ++i) tapped[p.taps[i].target] = static_cast<std::int32_t>(i);
  for (const Entry& e : sorted(check, all.entries, all.graph)) {
    p.order.push_back(e.item);
    if (e.item.kind != Item::Kind::equation && e.item.kind != Item::Kind::solve) continue;
    const auto tap = tapped.find(e.names);
    if (tap != tapped.end()) p.order.push_back({Item::Kind::tap, tap->second});
  }
}

/// A delay remembers every step of its longest lag.
void check_delays(Check& check) {
  const Program& p = check.program;
  for (const Delay& d : p.delays) {
    if (p.step.count() == 0) return;  // a model on its own
    const Time step = p.group_of(d.out).step;
    if (d.longest < step) {
      check.error(Code::bad_period, d.span,
                  fmt::format("a delay of {} is shorter than the step ({})", format_span(d.longest), format_span(step)),
                  "nothing is known of the time between two steps");
    } else if (d.longest / step > kLongestDelay) {
      check.error(Code::too_large, d.span, fmt::format("a delay remembers {} steps at most", kLongestDelay),
                  "take a longer step, or sample the quantity with `every` first");
    }
  }
  for (const Fault& f : p.faults) {
    if (p.step.count() == 0 || f.lag / p.step <= kLongestDelay) continue;
    check.error(Code::too_large, f.span, fmt::format("a delay remembers {} steps at most", kLongestDelay));
  }
}

}  // namespace

void sort_program(Check& check) {
  check_delays(check);
  prepare_solves(check);
  sort_start(check);
  sort_equations(check);
  if (!check.diagnostics.has_errors()) add_source_ends(check);
  prepare_groups(check);
}

}  // namespace isodyne::check
