#include "isodyne/check/stimulus/scenarios.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/plant/table_loader.h"
#include "isodyne/check/plant/taps.h"
#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"
#include "isodyne/program/margin.h"

namespace isodyne::check {

using StepKind = ScenarioStep::Kind;
using Written = lang::ScenarioStep::Kind;

namespace {

template <typename List>
const auto* named(const List& list, const std::string& name) {
  const auto found = std::find_if(list.begin(), list.end(), [&](const auto& x) { return x.name.text == name; });
  return found == list.end() ? nullptr : &*found;
}

template <typename List>
void unknown(Check& check, const List& list, const lang::Name& name, const char* what) {
  std::vector<std::string> names;
  for (const auto& x : list) names.push_back(x.name.text);
  const auto meant = did_you_mean(name.text, names);
  check.error(Code::unknown_name, name.span, fmt::format("there is no {} `{}`", what, name.text), meant.value_or(""));
}

ScenarioStep of_kind(StepKind kind) {
  ScenarioStep s;
  s.kind = kind;
  return s;
}

}  // namespace

void Scenarios::define() {
  for (const lang::ValuesDecl& v : check_.document.values) values(v);
  for (const lang::ScenarioDecl& s : check_.document.scenarios) scenario(s);
}

/// A set of values that nobody loads is checked all the same.
void Scenarios::values(const lang::ValuesDecl& v) {
  if (const auto* first = named(check_.document.values, v.name.text); first != &v) {
    check_.error(Code::duplicate, v.name.span, fmt::format("values `{}` are defined twice", v.name.text))
        .notes.push_back({first->name.span, "the first are here"});
  }
  made_ = {};
  for (const lang::ValuesDecl::Value& value : v.values)
    assign(value.target, *value.value, value.span, of_kind(StepKind::set));
  program::NamedValues made{v.name.text, v.doc, {}};
  for (const ScenarioStep& s : made_.steps) made.values.push_back({s.target, s.value, s.span});
  check_.program.value_sets.push_back(std::move(made));
}

void Scenarios::scenario(const lang::ScenarioDecl& s) {
  for (const Scenario& other : check_.program.scenarios) {
    if (other.name != s.name.text) continue;
    check_.error(Code::duplicate, s.name.span, fmt::format("scenario `{}` is defined twice", s.name.text))
        .notes.push_back({other.span, "the first is here"});
    return;
  }
  made_ = {};
  made_.name = s.name.text;
  made_.doc = s.doc;
  made_.span = s.name.span;
  names_.clear();
  within_ = {s.name.text};
  acted_ = too_long_ = false;
  performed_ = 0;
  lang::ScenarioStep alone;
  alone.name = s.name;
  alone.span = s.name.span;
  for (const lang::ScenarioDecl::Param& p : s.params) {
    if (!p.value && made_.needs.empty()) made_.needs = p.name.text;
  }
  if (!arguments(s, alone, names_)) return;
  base_ = {};
  performs_.clear();
  forks_.clear();
  steps(s.steps);
  check_.program.scenarios.push_back(std::move(made_));
}

std::size_t Scenarios::add(ScenarioStep step, Span span) {
  step.span = span;
  if (step.text.empty()) step.text = check_.program.sources->in_one_line(span);
  if (made_.steps.size() >= kMostSteps) too_many(made_.span);
  made_.steps.push_back(std::move(step));
  return made_.steps.size() - 1;
}

void Scenarios::too_many(Span span) {
  if (too_long_) return;
  too_long_ = true;
  check_.error(Code::too_large, span,
               fmt::format("scenario `{}` has more than {} steps, or does others more than {} deep", made_.name,
                           kMostSteps, kMostDepth),
               "do scenarios contain each other many times over?");
}

void Scenarios::steps(const Steps& all) {
  for (const lang::ScenarioStep& s : all) {
    if (!too_long_) step(s);
  }
}

void Scenarios::step(const lang::ScenarioStep& s) {
  const bool begins = s.kind == Written::start || s.kind == Written::start_from || s.kind == Written::start_settled;
  if (begins && acted_)
    check_.error(Code::unexpected, s.span, "start values come before everything that happens",
                 "move this line up, or use `set`");
  const bool acts_inside = s.kind == Written::perform || s.kind == Written::together;
  acted_ = acted_ || (!begins && s.kind != Written::end_when && !acts_inside);
  switch (s.kind) {
    case Written::start:
      return start(s);
    case Written::start_from:
      return start_from(s);
    case Written::start_settled:
      made_.settled = s.span;
      return;
    case Written::set:
    case Written::step:
    case Written::ramp:
      return set(s);
    case Written::play:
      return play(s);
    case Written::release:
      return release(s);
    case Written::load:
      return load(s);
    case Written::schedule:
      return schedule(s);
    case Written::wait:
    case Written::hold:
    case Written::end:
    case Written::end_when:
      return timed(s);
    case Written::expect:
      return expect(s);
    case Written::inject:
    case Written::clear:
    case Written::arm:
    case Written::disarm:
      return on_fault(s);
    case Written::stop:
      return stop(s);
    case Written::perform:
      return perform(s);
    case Written::repeat:
      return repeat(s);
    case Written::together:
    case Written::either:
      return branches(s);
  }
}

Time Scenarios::span_of(const lang::Expr& e, const char* what) {
  return x_.check_span(e, scope(), what).value_or(Time{});
}

// ---- values ---------------------------------------------------------------------------------------------

bool Scenarios::within_limits(VarId target, NodeId value, Span span) {
  const Variable& v = check_.program.variable(target);
  const auto constant = fold(check_.program, value, [](VarId) { return std::nullopt; });
  if (!constant || !v.limits || !made_.needs.empty() || (*constant >= v.limits->first && *constant <= v.limits->second))
    return true;
  check_.error(
      Code::out_of_limits, span,
      fmt::format("{} is outside the limits of `{}`: {} to {}", check_.program.format(target, *constant), v.name,
                  check_.program.format(target, v.limits->first), check_.program.format(target, v.limits->second)));
  return false;
}

void Scenarios::start(const lang::ScenarioStep& s) {
  const std::vector<VarId> ids = check_.resolve_start(s.target);
  const VarId id = ids.size() == 1 ? ids.front() : ids.empty() ? kNone : check_.resolve_one(check_.root, s.target);
  if (id == kNone) return;
  const Variable v = check_.program.variable(id);
  if (v.role != Role::fixed_param && !check_.program.startable(id)) {
    check_.error(Code::not_settable, s.target.span,
                 fmt::format("`{}` cannot be set: it is computed by the bench", s.target.text()),
                 "start values are for states, memories, parameters and free inputs");
    return;
  }
  const NodeId node = x_.check_as(*s.value, scope(), v.type, fmt::format("the value of `{}`", v.name));
  if (node == kNone) return;
  const auto value = check_.constant(node, s.value->span, "a start value");
  if (value && within_limits(id, node, s.value->span)) made_.start.push_back({id, *value, s.span});
}

/// What the run had recorded at that instant, by name; what this bench does not start with is passed over.
void Scenarios::start_from(const lang::ScenarioStep& s) {
  const Time at = span_of(*s.duration, "the instant");
  const std::string wanted = fmt::format("{}@{}", s.file.file, at.count());
  const auto data = check_.read_file(wanted, s.file.span);
  if (!data) return;
  const Csv csv = read_csv(check_.program.sources->text(*data));
  std::size_t taken = 0;
  for (const CsvRow& row : csv.rows) {
    const auto value = csv_number(row.text(1), false);
    const auto id = value ? check_.program.find(row.text(0)) : kNone;
    if (id == kNone) continue;
    if (!check_.program.startable(id)) continue;
    made_.start.push_back({id, *value, s.span});
    ++taken;
  }
  if (taken == 0)
    check_.error(Code::cannot_read, s.file.span, "nothing in that run is what this bench could start with",
                 "is it a run of another bench?");
}

bool Scenarios::place(const lang::Path& path, ScenarioStep& step) {
  const VarId id = check_.resolve_one(check_.root, path);
  if (id == kNone) return false;
  const Role role = check_.program.variable(id).role;
  const bool channel = role == Role::sensor || role == Role::counts || role == Role::signal || role == Role::actuator ||
                       role == Role::field;
  if (role != Role::input && role != Role::param && !channel) {
    check_.error(Code::not_settable, path.span,
                 fmt::format("`{}` cannot be set: it is computed by the bench", path.text()),
                 "set a free input, a parameter or a channel");
    return false;
  }
  step.target = id;
  if (channel) step.tap = tap_on(check_, id, path);
  return !channel || step.tap != kNone;
}

void Scenarios::assign(const lang::Path& target, const lang::Expr& value, Span span, ScenarioStep step) {
  if (!place(target, step)) return;
  const Variable v = check_.program.variable(step.target);
  const bool moved = step.kind == StepKind::step || step.kind == StepKind::ramp;
  if (moved && !(v.type.kind == Type::Kind::real || (v.type.numeric() && step.kind == StepKind::step))) {
    check_.error(Code::type_mismatch, target.span,
                 fmt::format("`{}` is {} and cannot be {}", target.text(), describe(check_.program, v.type),
                             step.kind == StepKind::ramp ? "ramped" : "moved by an amount"),
                 "use `set`");
    return;
  }
  Type type = v.type;
  if (step.kind == StepKind::step) type.absolute = false;
  step.value = x_.check_as(value, scope(), type, fmt::format("the value of `{}`", v.name));
  if (step.value == kNone || (step.kind != StepKind::step && !within_limits(step.target, step.value, value.span)))
    return;
  if (step.kind == StepKind::set)
    step.text = fmt::format("set {} = {}", target.text(), check_.program.sources->in_one_line(value.span));
  add(std::move(step), span);
}

void Scenarios::set(const lang::ScenarioStep& s) {
  ScenarioStep step;
  step.kind = s.kind == Written::set ? StepKind::set : s.kind == Written::step ? StepKind::step : StepKind::ramp;
  if (s.kind == Written::ramp) {
    step.duration = span_of(*s.duration, "the duration");
    if (step.duration.count() == 0 && made_.needs.empty())
      check_.error(Code::bad_period, s.duration->span, "a ramp takes some time", "use `set` to jump");
  }
  assign(s.target, *s.value, s.span, std::move(step));
}

void Scenarios::play(const lang::ScenarioStep& s) {
  ScenarioStep step;
  step.kind = StepKind::play;
  if (!place(s.target, step)) return;
  const Variable v = check_.program.variable(step.target);
  if (v.type.kind != Type::Kind::real) {
    check_.error(Code::type_mismatch, s.target.span,
                 fmt::format("`{}` is {} and cannot be played", s.target.text(), describe(check_.program, v.type)),
                 "use `schedule` or `set`");
    return;
  }
  step.table = s.name.text.empty() ? load_column(check_, x_, s.file, v.type) : table_over_time(s, v);
  if (step.table == kNone) return;
  const auto all = time_from_seconds(std::max(0.0, at(check_.program.tables, step.table).x.back()));
  step.duration = s.duration ? span_of(*s.duration, "the duration") : all.value_or(Time{});
  if (s.duration && step.duration.count() == 0 && made_.needs.empty())
    check_.error(Code::bad_period, s.duration->span, "what is played takes some time", "use `set` to jump");
  add(std::move(step), s.span);
}

/// A table of the bench that gives such values over time.
std::int32_t Scenarios::table_over_time(const lang::ScenarioStep& s, const Variable& v) {
  const auto known = check_.tables.find(s.name.text);
  const lang::TableDecl* decl = named(check_.document.tables, s.name.text);
  if (decl == nullptr || known == check_.tables.end()) {
    if (decl == nullptr) unknown(check_, check_.document.tables, s.name, "table");
    return kNone;
  }
  Unit unit;
  const Type result = check_.type_of(decl->result, unit);
  const bool over_time =
      decl->params.size() == 1 && check_.type_of(decl->params[0].type, unit).dimension == parse_unit("s")->dimension;
  if (over_time && result.dimension == v.type.dimension && result.absolute == v.type.absolute) return known->second;
  check_
      .error(Code::type_mismatch, s.name.span,
             over_time ? fmt::format("`{}` gives {}, and `{}` is {}", s.name.text, describe(result.dimension), v.name,
                                     describe(v.type.dimension))
                       : fmt::format("`{}` is no table over time", s.name.text),
             over_time ? "" : "what is played has one argument, a time since it began")
      .notes.push_back({decl->name.span, "it is declared here"});
  return kNone;
}

void Scenarios::release(const lang::ScenarioStep& s) {
  ScenarioStep step;
  step.kind = StepKind::release;
  if (!place(s.target, step)) return;
  if (step.tap == kNone) {
    check_.error(Code::wrong_kind, s.target.span,
                 fmt::format("`{}` is no channel, so nothing holds it", s.target.text()),
                 "inputs and parameters keep the value that they were set to");
    return;
  }
  add(std::move(step), s.span);
}

/// A track of the blocks that it stands in; the innermost that has one of this name.
void Scenarios::stop(const lang::ScenarioStep& s) {
  std::vector<std::string> known;
  for (std::size_t i = forks_.size(); i-- > 0;) {
    const auto& names = forks_[i].names;
    known.insert(known.end(), names.begin(), names.end());
    const auto found = std::find(names.begin(), names.end(), s.name.text);
    if (found == names.end()) continue;
    ScenarioStep step = of_kind(StepKind::stop);
    step.places = {static_cast<std::int32_t>(forks_[i].step), static_cast<std::int32_t>(found - names.begin())};
    add(std::move(step), s.span);
    return;
  }
  const auto meant = did_you_mean(s.name.text, known);
  check_.error(Code::unknown_name, s.name.span, fmt::format("there is no track `{}` beside this", s.name.text),
               meant ? *meant : "`stop` ends a track of the `together` that it stands in");
}

void Scenarios::load(const lang::ScenarioStep& s) {
  const lang::ValuesDecl* v = named(check_.document.values, s.name.text);
  if (v == nullptr) return unknown(check_, check_.document.values, s.name, "set of values");
  for (const lang::ValuesDecl::Value& value : v->values)
    assign(value.target, *value.value, value.span, of_kind(StepKind::set));
}

/// Rows become pauses and values; the times are those since the schedule began.
void Scenarios::schedule(const lang::ScenarioStep& s) {
  Time before{};
  for (const lang::ScenarioStep::Row& row : s.rows) {
    const Time at = span_of(*row.at, "the time of a row");
    if (made_.needs.empty() && (at < before || (at == before && &row != &s.rows.front()))) {
      check_.error(Code::bad_table, row.at->span, "the times of a schedule must rise from row to row");
      return;
    }
    if (at > before) {
      ScenarioStep pause;
      pause.duration = at - before;
      pause.text = "hold until " + check_.program.sources->in_one_line(row.at->span) + " of the schedule";
      add(std::move(pause), row.at->span);
    }
    before = at;
    for (std::size_t i = 0; i < std::min(row.values.size(), s.targets.size()); ++i)
      assign(s.targets[i], *row.values[i], row.values[i]->span, of_kind(StepKind::set));
  }
}

// ---- time and faults ------------------------------------------------------------------------------------

void Scenarios::timed(const lang::ScenarioStep& s) {
  if (s.kind == Written::end_when) {
    const NodeId when = x_.check_truth(*s.value, scope(), "what ends the scenario");
    if (when != kNone) made_.ends.push_back({when, s.span});
    return;
  }
  ScenarioStep step;
  step.kind = s.kind == Written::wait ? StepKind::wait : s.kind == Written::hold ? StepKind::hold : StepKind::end;
  if (s.value) step.value = x_.check_truth(*s.value, scope(), "what is waited for");
  if (s.duration) step.duration = span_of(*s.duration, "the duration");
  add(std::move(step), s.span);
}

void Scenarios::expect(const lang::ScenarioStep& s) {
  ScenarioStep step;
  step.kind = StepKind::expect;
  step.whole = s.whole;
  step.timed = s.duration != nullptr;
  step.value = x_.check_truth(*s.value, scope(), "what is expected");
  if (s.duration) step.duration = span_of(*s.duration, "the duration");
  if (step.value == kNone) return;
  const Margin margin = margin_of(check_.program, step.value);
  step.margin = margin.node;
  step.margin_unit = margin.unit;
  add(std::move(step), s.span);
}

void Scenarios::on_fault(const lang::ScenarioStep& s) {
  const auto& faults = check_.program.faults;
  const auto found = std::find_if(faults.begin(), faults.end(), [&](const Fault& f) { return f.name == s.name.text; });
  if (found == faults.end()) {
    if (named(check_.document.faults, s.name.text) != nullptr) return;  // it is wrong, which has been reported
    return unknown(check_, check_.document.faults, s.name, "fault");
  }
  if (s.kind == Written::inject && found->when != Fault::When::by_hand) {
    check_
        .error(Code::wrong_kind, s.name.span,
               fmt::format("`{}` is not injected by hand: it acts {}", s.name.text, found->when_text),
               "write `by hand` into the fault instead")
        .notes.push_back({found->span, "it is declared here"});
    return;
  }
  ScenarioStep step;
  const bool trigger = s.kind == Written::arm || s.kind == Written::disarm;
  if (trigger && found->when != Fault::When::once) {
    check_
        .error(Code::wrong_kind, s.name.span,
               fmt::format("`{}` has no trigger: it acts {}", s.name.text, found->when_text), "a fault `once` has one")
        .notes.push_back({found->span, "it is declared here"});
    return;
  }
  step.kind = s.kind == Written::inject  ? StepKind::inject
              : s.kind == Written::clear ? StepKind::clear
              : s.kind == Written::arm   ? StepKind::arm
                                         : StepKind::disarm;
  step.fault = static_cast<std::int32_t>(found - faults.begin());
  step.target = found->active;
  add(std::move(step), s.span);
}

// ---- blocks ---------------------------------------------------------------------------------------------

/// The parameters of a scenario as names: what it is given, or what it has by itself.
bool Scenarios::arguments(const lang::ScenarioDecl& of, const lang::ScenarioStep& s, Names& names) {
  const bool alone = s.kind != Written::perform;
  bool good = true;
  for (const lang::ScenarioStep::Argument& a : s.args) {
    if (named(of.params, a.name.text) != nullptr) continue;
    unknown(check_, of.params, a.name, fmt::format("parameter of scenario `{}` called", of.name.text).c_str());
    good = false;
  }
  for (const lang::ScenarioDecl::Param& p : of.params) {
    Unit unit;
    Typed value;
    value.type = check_.type_of(p.type, unit);
    value.shown = unit;
    if (!value.type.valid()) return false;
    const auto* given = named(s.args, p.name.text);
    const lang::Expr* e = given != nullptr ? given->value.get() : p.value.get();
    if (e == nullptr && !alone) {
      check_
          .error(Code::missing, s.span, fmt::format("scenario `{}` needs a value for `{}`", of.name.text, p.name.text),
                 fmt::format("do {}({} = …)", of.name.text, p.name.text))
          .notes.push_back({p.name.span, "it is declared here"});
      return false;
    }
    value.node = e == nullptr ? x_.constant(0)
                              : x_.check_as(*e, scope(), value.type, fmt::format("the value of `{}`", p.name.text));
    good = good && value.node != kNone;
    names[p.name.text] = value;
  }
  return good;
}

void Scenarios::perform(const lang::ScenarioStep& s) {
  const lang::ScenarioDecl* other = named(check_.document.scenarios, s.name.text);
  if (other == nullptr) return unknown(check_, check_.document.scenarios, s.name, "scenario");
  if (++performed_ > kMostSteps || within_.size() > kMostDepth) return too_many(s.span);
  if (std::find(within_.begin(), within_.end(), s.name.text) != within_.end()) {
    std::string way;
    for (const std::string& name : within_) way += name + " -> ";
    check_.error(Code::recursion, s.span,
                 fmt::format("scenario `{}` does itself: {}{}", s.name.text, way, s.name.text));
    return;
  }
  Names names;
  if (!arguments(*other, s, names)) return;
  std::swap(names, names_);
  within_.push_back(s.name.text);
  const Base outer = base_;
  base_ = {made_.steps.size(), static_cast<double>(performs_[s.name.text]++)};
  std::vector<Fork> beside;  // its own tracks are what it knows
  std::swap(beside, forks_);
  steps(other->steps);
  std::swap(beside, forks_);
  base_ = outer;
  within_.pop_back();
  std::swap(names, names_);
}

void Scenarios::repeat(const lang::ScenarioStep& s) {
  ScenarioStep head;
  head.kind = StepKind::repeat;
  head.whole = s.whole;
  if (s.whole) {
    head.value = x_.check_truth(*s.value, scope(), "what ends the repetition");
  } else {
    head.value = x_.check_as(*s.value, scope(), {Type::Kind::integer, {}, kNone}, "how many times");
  }
  const std::size_t at = add(std::move(head), s.span);
  steps(s.blocks[0].steps);
  ScenarioStep again;
  again.kind = StepKind::again;
  again.places = {static_cast<std::int32_t>(at)};
  add(std::move(again), s.span);
  made_.steps[at].places = {here()};
}

/// either: each alternative ends with a jump behind them all; together: each track ends with a join.
void Scenarios::branches(const lang::ScenarioStep& s) {
  const bool tracks = s.kind == Written::together;
  if (s.blocks.empty()) return;
  ScenarioStep head;
  head.kind = tracks ? StepKind::fork : StepKind::either;
  // What is drawn is the same whether a scenario is played or done by another one; each time that it is done, anew.
  head.draw = static_cast<double>(made_.steps.size() - base_.begin) + base_.times * 1e9;
  head.written_in = within_.back();
  const bool acted = acted_;  // each track begins where they all do
  const std::size_t at = add(std::move(head), s.span);
  std::vector<std::size_t> ends;
  if (tracks) {
    forks_.push_back({at, {}});
    for (const lang::ScenarioStep::Block& b : s.blocks) forks_.back().names.push_back(b.name.text);
  }
  for (const lang::ScenarioStep::Block& b : s.blocks) {
    if (tracks) acted_ = acted;
    made_.steps[at].places.push_back(here());
    made_.steps[at].names.push_back(b.name.text);
    steps(b.steps);
    ends.push_back(add(of_kind(tracks ? StepKind::join : StepKind::jump), s.span));
  }
  acted_ = true;
  if (tracks) forks_.pop_back();
  for (const std::size_t end : ends) made_.steps[end].places = {here()};
  // Where a fork goes on: behind its tracks.
  if (tracks) made_.steps[at].places.push_back(here());
}

}  // namespace isodyne::check
