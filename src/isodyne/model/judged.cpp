#include "isodyne/model/judged.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/model/formulas.h"
#include "isodyne/model/margin.h"

namespace isodyne::model {

namespace {

struct KindEntry {
  FaultKind kind;
  const char* word;
  std::string_view amount, where;
};

constexpr KindEntry kKinds[] = {
#define FAULT(id, word, amount, where, meaning) {FaultKind::id, word, #amount, #where},
#include "isodyne/model/fault_kinds.def"
#undef FAULT
};

const Type kTruth{Type::Kind::boolean, {}, kNone};

}  // namespace

void Judged::declare() {
  for (const lang::ConditionDecl& c : check_.document.conditions) {
    Variable v;
    v.role = Role::condition;
    v.type = kTruth;
    v.doc = c.doc;
    check_.define(check_.root, c.name, std::move(v));
  }
  for (const lang::FaultDecl& f : check_.document.faults) {
    Variable v;
    v.role = Role::fault;
    v.type = kTruth;
    v.doc = f.doc;
    check_.define(check_.root, f.name, std::move(v));
  }
}

void Judged::define() {
  for (const auto& c : check_.document.conditions) condition(c);
  for (const auto& f : check_.document.faults) fault(f);
  for (const auto& s : check_.document.scenarios) scenario(s);
  for (const auto& r : check_.document.requirements) requirement(r);
  for (const auto& f : check_.document.figures) figure(f);
}

void Judged::condition(const lang::ConditionDecl& c) {
  const NodeId value = x_.check_truth(*c.value, scope(), fmt::format("condition `{}`", c.name.text));
  const auto found = check_.root.variables.find(c.name.text);
  if (value == kNone || check_.program.variable(found->second).span.begin != c.name.span.begin) return;
  check_.program.equations.push_back({found->second, value, c.value->span});
}

std::optional<double> Judged::start_of(VarId id) const {
  const auto start = check_.start_value.find(id);
  if (start == check_.start_value.end()) return std::nullopt;
  return fold(check_.program, start->second, [](VarId) { return std::nullopt; });
}

// ---- faults ---------------------------------------------------------------------------------------------

void Judged::fault(const lang::FaultDecl& f) {
  const auto found = check_.root.variables.find(f.name.text);
  if (found == check_.root.variables.end() || check_.program.variable(found->second).span.begin != f.name.span.begin)
    return;
  Fault fault;
  fault.name = f.name.text;
  fault.doc = f.doc;
  fault.span = f.name.span;
  fault.active = found->second;
  if (f.target.parts.empty()) {
    check_.error(Code::missing, f.name.span, fmt::format("fault `{}` does not say where it is", f.name.text),
                 "add `on name offset 5 cm`");
    return;
  }
  const VarId target = check_.resolve_one(check_.root, f.target);
  if (target == kNone || !check_.program.variable(target).type.valid()) return;
  fault.tap = tap_on(target, f.target);
  const bool amount = fault_amount(f, fault, check_.program.variable(target));
  fault_time(f, fault);
  if (fault.tap != kNone && amount) check_.program.faults.push_back(std::move(fault));
}

/// Fields and ports of frames, whatever is in them.
bool Judged::tap_on_field(VarId target, std::int32_t tap) {
  for (Frame& f : check_.program.frames) {
    for (FrameField& field : f.fields) {
      if (field.raw == target) return field.tap = tap, true;
    }
    for (FramePort& port : f.ports) {
      if (port.raw == target) return port.tap = tap, true;
    }
  }
  return false;
}

std::int32_t Judged::tap_on(VarId target, const lang::Path& path) {
  Program& p = check_.program;
  for (std::size_t i = 0; i < p.taps.size(); ++i) {
    if (p.taps[i].target == target) return static_cast<std::int32_t>(i);
  }
  const auto index = static_cast<std::int32_t>(p.taps.size());
  Tap tap;
  tap.target = target;
  const Variable variable = p.variable(target);
  if (tap_on_field(target, index)) {
    p.taps.push_back(tap);
    return index;
  }
  switch (variable.role) {
    case Role::sensor:
    case Role::counts:
    case Role::signal:
      for (Sensor& s : p.sensors) {
        if (s.value == target) s.tap = index;
        if (s.signal == target) s.signal_tap = index;
        if (s.counts == target) s.counts_tap = index;
      }
      for (Actuator& a : p.actuators) {
        if (a.counts == target) a.counts_tap = index;
        if (a.signal == target) a.signal_tap = index;
      }
      break;
    case Role::actuator:
      tap.healthy = check_.define_hidden(variable.name + " healthy", variable.type, variable.unit);
      break;
    case Role::equation:
    case Role::sensor_true:
      break;
    case Role::input:
    case Role::param:
      tap.healthy = check_.define_hidden(variable.name + " healthy", variable.type, variable.unit);
      break;
    default:
      check_.error(
          Code::wrong_kind, path.span, fmt::format("`{}` cannot be faulted", path.text()),
          variable.role == Role::state
              ? "fault what moves the state, a parameter, or the sensor that measures it"
              : "faults act on sensors, their signals and counts, actuators, fields of frames, inputs, parameters and "
                "outputs");
      return kNone;
  }
  p.taps.push_back(tap);
  return index;
}

/// Whether this kind of fault means something for what it is on.
bool Judged::fault_place(const lang::FaultDecl& f, std::string_view where, const Variable& target) {
  const bool numeric = target.type.numeric();
  const auto wrong = [&](const std::string& why, const char* advice) {
    check_.error(Code::type_mismatch, f.kind.span, why, advice);
    return false;
  };
  if ((where == "number" && !numeric) || (where == "truth" && !numeric && target.type.kind != Type::Kind::boolean))
    return wrong(fmt::format("`{}` changes numbers, but `{}` is {}", f.kind.text, target.name,
                             describe(check_.program, target.type)),
                 "use `force` or `freeze`");
  const bool plain = numeric && target.type.dimension == Dimension{};
  if (where == "whole" && (!plain || (target.role != Role::counts && target.type.kind != Type::Kind::integer)))
    return wrong(fmt::format("`{}` turns bits of whole numbers, and `{}` is none", f.kind.text, target.name),
                 "faults on `NAME.counts` and on fields of frames see the bits");
  if (where == "signal" && target.role != Role::signal)
    return wrong(fmt::format("`{}` is about a wire, and `{}` is none", f.kind.text, target.name),
                 "a channel with an electrical range has one: `NAME.signal`; elsewhere `force` does it");
  return true;
}

bool Judged::fault_amount(const lang::FaultDecl& f, Fault& fault, const Variable& target) {
  const auto* entry =
      std::find_if(std::begin(kKinds), std::end(kKinds), [&](const KindEntry& k) { return f.kind.text == k.word; });
  if (entry == std::end(kKinds)) {
    std::vector<std::string> words;
    std::string all;
    for (const KindEntry& k : kKinds) {
      words.emplace_back(k.word);
      all += (all.empty() ? "" : ", ") + words.back();
    }
    const auto meant = closest(f.kind.text, words);
    check_.error(Code::unknown_name, f.kind.span, fmt::format("there is no kind of fault called `{}`", f.kind.text),
                 meant ? fmt::format("did you mean `{}`?", *meant) : fmt::format("the kinds are {}", all));
    return false;
  }
  fault.kind = entry->kind;
  fault.truth = target.type.kind == Type::Kind::boolean;
  if (!fault_place(f, entry->where, target)) return false;
  if (!spike_time(f, fault)) return false;
  const std::string_view rule = entry->amount;
  if (rule == "none") {
    if (f.amount) check_.error(Code::unexpected, f.amount->span, fmt::format("`{}` takes no amount", f.kind.text));
    return !f.amount;
  }
  const bool number = rule == "factor" || rule == "share" || rule == "bit";
  if (!f.amount) {
    const std::string unit = number ? "" : rule == "time" ? " ms" : " " + target.unit.text;
    check_.error(Code::missing, f.kind.span, fmt::format("`{}` needs an amount", f.kind.text),
                 fmt::format("for example `{} 5{}`", f.kind.text, rule == "share" ? " %" : unit));
    return false;
  }
  fault.amount_text = one_line(check_.program.sources->covered(f.amount->span));
  if (rule == "time") {
    const auto lag = x_.check_span(*f.amount, scope(), "the time of the delay");
    fault.lag = lag.value_or(Time{});
    fault.amount = x_.constant(0);
    return lag.has_value();
  }
  Type type = target.type;
  if (rule == "factor" && type.absolute) {
    check_.error(Code::type_mismatch, f.kind.span,
                 fmt::format("`{}` means nothing for an absolute temperature", f.kind.text), "use `offset` or `force`");
    return false;
  }
  if (rule != "replace") type.absolute = false;
  if (number) type = {Type::Kind::real, {}, kNone};
  if (rule == "rate")
    type = {Type::Kind::real, divide(type.dimension, parse_unit("s")->dimension).value_or(Dimension{}), kNone};
  fault.amount = x_.check_as(*f.amount, scope(), type, fmt::format("the amount of `{}`", f.kind.text));
  if (fault.amount == kNone) return false;
  const auto constant = fold(check_.program, fault.amount, [](VarId) { return std::nullopt; });
  if (rule == "share" && constant && (*constant < 0 || *constant > 1)) {
    check_.error(Code::out_of_limits, f.amount->span, "a share is between 0 % and 100 %");
    return false;
  }
  if (rule == "bit" && constant && (*constant < 0 || *constant > 52 || *constant != std::floor(*constant))) {
    check_.error(Code::out_of_limits, f.amount->span, "a bit has a whole number, from 0 (the lowest) to 52");
    return false;
  }
  return true;
}

bool Judged::spike_time(const lang::FaultDecl& f, Fault& fault) {
  if (fault.kind != FaultKind::spikes) {
    if (f.every) check_.error(Code::unexpected, f.every->span, fmt::format("`{}` takes no `every`", f.kind.text));
    return !f.every;
  }
  if (!f.every) {
    check_.error(Code::missing, f.kind.span, "`spikes` needs to know how often",
                 "for example `spikes 20 cm every 2 s`");
    return false;
  }
  fault.every = x_.check_span(*f.every, scope(), "the time between spikes").value_or(Time{});
  if (fault.every.count() > 0) return true;
  check_.error(Code::bad_period, f.every->span, "the time between spikes must be at least 1 ns");
  return false;
}

void Judged::fault_time(const lang::FaultDecl& f, Fault& fault) {
  const auto written = [&](const char* word, const lang::ExprPtr& e) {
    if (e)
      fault.when_text += fmt::format("{}{} {}", fault.when_text.empty() ? "" : " ", word,
                                     one_line(check_.program.sources->covered(e->span)));
  };
  using Written = lang::FaultDecl::Time;
  written(f.time == Written::between ? "between" : "from", f.begin);
  written(f.time == Written::between ? "and" : "to", f.end);
  written(f.time == Written::once ? "once" : "while", f.condition);
  if (fault.when_text.empty()) fault.when_text = "the whole run";
  written("lasting", f.lasting);
  written("until", f.until);
  written("pulsing", f.pulse);
  written("every", f.period);
  fault.when = static_cast<Fault::When>(f.time);
  const auto span = [&](const lang::ExprPtr& e, const char* what) -> std::optional<Time> {
    if (!e) return std::nullopt;
    return x_.check_span(*e, scope(), what);
  };
  fault.begin = span(f.begin, "the beginning of the fault").value_or(Time{});
  fault.end = span(f.end, "the end of the fault");
  if (fault.end && *fault.end <= fault.begin)
    check_.error(Code::out_of_limits, f.end->span, "the fault ends before it begins");
  if (f.condition)
    fault.condition =
        x_.check_truth(*f.condition, scope(), f.time == Written::once ? "what follows `once`" : "what follows `while`");
  fault.lasting = span(f.lasting, "the duration of the fault");
  if (f.until) fault.until = x_.check_truth(*f.until, scope(), "what follows `until`");
  fault.pulse = span(f.pulse, "how long the fault acts").value_or(Time{});
  fault.period = span(f.period, "the period of the fault").value_or(Time{});
  if (f.pulse && fault.pulse >= fault.period)
    check_.error(Code::out_of_limits, f.pulse->span, "the fault acts for the whole of its period",
                 "leave out `pulsing`, or give it a longer period");
}

// ---- scenarios ------------------------------------------------------------------------------------------

void Judged::scenario(const lang::ScenarioDecl& s) {
  for (const Scenario& other : check_.program.scenarios) {
    if (other.name != s.name.text) continue;
    check_.error(Code::duplicate, s.name.span, fmt::format("scenario `{}` is defined twice", s.name.text))
        .notes.push_back({other.span, "the first is here"});
    return;
  }
  Scenario scenario;
  scenario.name = s.name.text;
  scenario.doc = s.doc;
  scenario.span = s.name.span;
  bool acted = false;
  for (const lang::ScenarioStep& written : s.steps) {
    ScenarioStep step;
    step.kind = static_cast<ScenarioStep::Kind>(written.kind);
    step.span = written.span;
    if (step.kind == ScenarioStep::Kind::start && acted) {
      check_.error(Code::unexpected, written.span, "start values come before everything that happens",
                   "move this line up, or use `set`");
    }
    acted = acted || step.kind != ScenarioStep::Kind::start;
    scenario_target(written, step);
    if (written.duration) step.duration = x_.check_span(*written.duration, scope(), "the duration").value_or(Time{});
    if (step.kind == ScenarioStep::Kind::ramp && step.duration.count() == 0) {
      check_.error(Code::bad_period, written.duration->span, "a ramp takes some time", "use `set` to jump");
    }
    scenario.steps.push_back(step);
  }
  check_.program.scenarios.push_back(std::move(scenario));
}

void Judged::scenario_target(const lang::ScenarioStep& s, ScenarioStep& step) {
  if (step.kind == ScenarioStep::Kind::wait) step.value = x_.check_truth(*s.value, scope(), "what is waited for");
  if (s.target.parts.empty()) return;
  const VarId id = check_.resolve_one(check_.root, s.target);
  if (id == kNone) {
    return;
  }
  const Variable variable = check_.program.variable(id);
  const bool settable = variable.role == Role::input || variable.role == Role::param;
  const bool startable = settable || variable.role == Role::state || variable.role == Role::sampled ||
                         variable.role == Role::mode || variable.role == Role::fixed_param;
  if (!settable && !(step.kind == ScenarioStep::Kind::start && startable)) {
    check_.error(Code::not_settable, s.target.span,
                 fmt::format("`{}` cannot be set: it is computed by the bench", s.target.text()),
                 step.kind == ScenarioStep::Kind::start
                     ? "start values are for states, memories, parameters and free inputs"
                     : "set a free input or a parameter");
    return;
  }
  if (step.kind == ScenarioStep::Kind::ramp && variable.type.kind != Type::Kind::real) {
    check_.error(
        Code::type_mismatch, s.target.span,
        fmt::format("`{}` is {} and cannot be ramped", s.target.text(), describe(check_.program, variable.type)),
        "use `set`");
    return;
  }
  step.target = id;
  step.value = x_.check_as(*s.value, scope(), variable.type, fmt::format("the value of `{}`", variable.name));
  if (step.value == kNone) return;
  const auto value = step.kind == ScenarioStep::Kind::start
                         ? check_.constant(step.value, s.value->span, "a start value")
                         : fold(check_.program, step.value, [](VarId) { return std::nullopt; });
  if (value && variable.limits && (*value < variable.limits->first || *value > variable.limits->second)) {
    check_.error(Code::out_of_limits, s.value->span,
                 fmt::format("{} is outside the limits of `{}`: {} to {}", check_.program.format(id, *value),
                             variable.name, check_.program.format(id, variable.limits->first),
                             check_.program.format(id, variable.limits->second)));
  }
}

// ---- requirements and figures ---------------------------------------------------------------------------

void Judged::requirement(const lang::RequirementDecl& r) {
  Requirement requirement;
  requirement.name = r.name.text;
  requirement.doc = r.doc;
  requirement.source = r.source;
  requirement.span = r.span;
  requirement.formula = one_line(check_.program.sources->covered(r.span));
  for (const Requirement& other : check_.program.requirements) {
    if (other.name != r.name.text) continue;
    check_.error(Code::duplicate, r.name.span, fmt::format("requirement {} is defined twice", r.name.text))
        .notes.push_back({other.span, "the first is here"});
    return;
  }
  Formulas formulas(check_, x_);
  if (!formulas.define(r, requirement)) return;
  const auto lines = [&](NodeId check) {
    const auto more = limit_lines(check_.program, check, [&](VarId id) { return start_of(id); });
    requirement.limits.insert(requirement.limits.end(), more.begin(), more.end());
  };
  if (requirement.check != kNone) lines(requirement.check);
  for (const FormulaNode& node : requirement.nodes) {
    if (node.kind == FormulaNode::Kind::truth) lines(node.value);
  }
  check_.program.requirements.push_back(std::move(requirement));
}

void Judged::figure(const lang::FigureDecl& f) {
  Figure figure;
  figure.name = f.name.text;
  figure.title = f.title.empty() ? f.name.text : f.title;
  for (const auto& panel : f.panels) {
    std::vector<VarId> ids;
    for (const lang::Path& path : panel) {
      for (const VarId id : check_.resolve(check_.root, path).ids) {
        const Variable& v = check_.program.variable(id);
        const bool same =
            ids.empty() || check_.program.variable(ids.front()).type == v.type ||
            (check_.program.variable(ids.front()).type.kind == v.type.kind && v.type.kind == Type::Kind::choice);
        if (!same) {
          check_.error(Code::unit_mismatch, path.span,
                       fmt::format("a panel has one axis: `{}` is {}, the first signal is {}", path.text(),
                                   describe(check_.program, v.type),
                                   describe(check_.program, check_.program.variable(ids.front()).type)),
                       "give it a panel of its own");
          break;
        }
        ids.push_back(id);
      }
    }
    if (!ids.empty()) figure.panels.push_back(std::move(ids));
  }
  check_.program.figures.push_back(std::move(figure));
}

}  // namespace isodyne::model
