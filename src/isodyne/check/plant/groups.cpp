#include "isodyne/check/plant/groups.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/program/groups.h"

namespace isodyne::check {

std::optional<Method> method_of(Check& check, const lang::Name& name) {
  const auto method = method_named(name.text);
  if (method) return method;
  std::string known;
#define METHOD(id, word, order, evaluations, meaning) list_on(known, fmt::format("`{}`", word));
#include "isodyne/program/methods.def"
#undef METHOD
  check.error(Code::unknown_name, name.span, fmt::format("there is no integration method `{}`", name.text),
              "the methods are " + known + "; `implicit` is for stiff parts, `exact` for linear ones");
  return std::nullopt;
}

// ---- from drafts to groups ------------------------------------------------------------------------------

namespace {

void check_ratios(Check& check) {
  const std::vector<Group>& groups = check.program.groups;
  for (std::size_t i = 1; i < groups.size(); ++i) {
    const Time quick = groups[i - 1].step, slow = groups[i].step;
    if (slow.count() % quick.count() == 0) continue;
    const Group& own = groups[i].step == check.program.step ? groups[i - 1] : groups[i];
    check.error(Code::bad_period, own.span,
                fmt::format("the steps {} and {} are not in a whole ratio", format_span(quick), format_span(slow)),
                fmt::format("for example {} beside {}", format_span(quick),
                            format_span(quick * std::max<std::int64_t>(1, slow / quick))));
  }
}

}  // namespace

void resolve_groups(Check& check, std::optional<Method> bench_method) {
  Program& p = check.program;
  if (p.step.count() == 0) return;
  std::vector<std::int32_t> place;  // draft → group
  for (const GroupDraft& draft : check.groups) {
    Group g;
    g.step = draft.step.value_or(p.step);
    g.method = draft.method.value_or(bench_method.value_or(Method::rk4));
    g.core = draft.core;
    g.span = draft.span;
    const auto same = std::find_if(p.groups.begin(), p.groups.end(), [&](const Group& known) {
      return known.step == g.step && known.method == g.method && known.core == g.core;
    });
    place.push_back(static_cast<std::int32_t>(same - p.groups.begin()));
    if (same == p.groups.end()) p.groups.push_back(std::move(g));
  }
  std::vector<std::int32_t> order(p.groups.size()), rank(p.groups.size());
  for (std::size_t i = 0; i < order.size(); ++i) order[i] = static_cast<std::int32_t>(i);
  std::stable_sort(order.begin(), order.end(), [&](std::int32_t a, std::int32_t b) {
    return p.groups[static_cast<std::size_t>(a)].step < p.groups[static_cast<std::size_t>(b)].step;
  });
  std::vector<Group> sorted;
  for (std::size_t i = 0; i < order.size(); ++i) {
    rank[static_cast<std::size_t>(order[i])] = static_cast<std::int32_t>(i);
    sorted.push_back(std::move(p.groups[static_cast<std::size_t>(order[i])]));
  }
  p.groups = std::move(sorted);
  const auto moved = [&](std::int32_t draft) {
    return rank[static_cast<std::size_t>(place[static_cast<std::size_t>(draft)])];
  };
  for (Variable& v : p.variables) v.group = moved(v.group);
  for (PeriodicTask& s : p.periodic_tasks) s.group = moved(s.group);
  for (WhenBlock& w : p.events) w.group = moved(w.group);
  check_ratios(check);
}

namespace {

/// The group with the shortest step of which an equation of the bench reads something; kNone: none is quicker than the
/// bench, or the equation remembers the instant before (`rises`), which is one of the bench.
std::int32_t quickest_read(const Program& p, VarId target) {
  std::int32_t quickest = kNone;
  const auto equation =
      std::find_if(p.equations.begin(), p.equations.end(), [&](const Assignment& a) { return a.target == target; });
  if (equation == p.equations.end()) return kNone;
  for (const VarId id : p.reads(equation->value)) {
    if (std::any_of(p.edges.begin(), p.edges.end(), [&](const Edge& e) { return e.previous == id; })) return kNone;
    const Variable& v = p.variable(id);
    if (id == kTime || id == kSeed || program::is_parameter(v.role)) continue;
    const Time step = at(p.groups, v.group).step;
    if (step < p.step && (quickest == kNone || step < at(p.groups, quickest).step)) quickest = v.group;
  }
  return quickest;
}

}  // namespace

void join_quick_groups(Check& check) {
  Program& p = check.program;
  if (p.step.count() == 0) return;
  for (bool more = true; more;) {  // conditions may be made of each other
    more = false;
    for (std::size_t i = 0; i < p.variables.size(); ++i) {
      if (p.variables[i].role != Role::condition) continue;
      const std::int32_t group = quickest_read(p, static_cast<VarId>(i));
      if (group == kNone || group == p.variables[i].group) continue;
      p.variables[i].group = group;
      more = true;
    }
  }
  for (Sensor& s : p.sensors) {
    const bool often = s.at != kNone || (s.period.count() > 0 && s.period.count() % p.step.count() != 0 &&
                                         p.step.count() % s.period.count() == 0);
    if (s.at != kNone) s.period = p.step;
    if (!often) continue;
    std::int32_t group = quickest_read(p, s.truth);
    if (s.at != kNone) {  // it looks for edges as often as anything moves that it is about
      const Time step = group == kNone ? p.step : at(p.groups, group).step;
      if (p.group_of(s.at).step < step) group = p.variable(s.at).group;
      if (group != kNone) s.period = at(p.groups, group).step;
      const std::int32_t own = p.group_of(s.value).core, gate = p.group_of(s.at).core;
      if (gate != own || (group != kNone && at(p.groups, group).core != own)) {
        check.error(Code::bad_period, s.span,
                    fmt::format("sensor `{}` samples at edges on core {}, and the bench is on core {}", s.name,
                                gate != own ? gate : at(p.groups, group).core, own),
                    "the thread of the bench samples: put the gate and what is measured on its core");
        continue;
      }
    }
    // The thread of the bench samples.
    if (group == kNone || at(p.groups, group).core != p.group_of(s.value).core) continue;
    for (const VarId id : {s.truth, s.value, s.signal, s.counts}) {
      if (id != kNone) p.variables[static_cast<std::size_t>(id)].group = group;
    }
  }
}

namespace {
/// `exact` steps what is linear: slopes that do not move.
void check_linear(Check& check, const Group& group, const std::vector<bool>& moving) {
  const Program& p = check.program;
  const auto found = not_linear(p, group, moving);
  if (!found) return;
  const auto state = [&](std::int32_t i) -> const State& {
    return p.states[static_cast<std::size_t>(group.states[static_cast<std::size_t>(i)])];
  };
  const State &row = state(found->first.row), &column = state(found->first.column);
  check.error(Code::wrong_kind, row.equation,
              fmt::format("`{}` cannot be stepped by the method `exact`: how it depends on `{}` changes with `{}`",
                          p.variable(row.value).name, p.variable(column.value).name, p.variable(found->second).name),
              "`exact` is for equations that are linear in the states; try `method implicit`");
}

}  // namespace

void prepare_groups(Check& check) {
  // A dense factorisation of more than this would take longer than any step people ask for.
  constexpr std::size_t kMostStates = 500;
  Program& p = check.program;
  if (p.groups.empty()) return;
  collect_states(p);
  for (std::size_t i = 0; i < p.groups.size(); ++i) {
    Group& group = p.groups[i];
    if (group.method != Method::implicit && group.method != Method::exact) continue;
    if (group.states.size() > kMostStates) {
      check.error(Code::too_large, group.span,
                  fmt::format("the method `{}` steps {} states together at most; these are {}",
                              method_word(group.method), kMostStates, group.states.size()),
                  "give the stiff parts a group of their own");
      continue;
    }
    linearise(p, group);
    if (group.method == Method::exact) check_linear(check, group, moving_variables(p, static_cast<std::int32_t>(i)));
  }
}

}  // namespace isodyne::check
