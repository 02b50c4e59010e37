#include "isodyne/bench/run.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/bench/advice.h"
#include "isodyne/core/text.h"
#include "isodyne/program/taps.h"

namespace isodyne::bench {

namespace {

std::vector<program::NodeId> edge_nodes(const program::Program& program) {
  std::vector<program::NodeId> nodes;
  for (const program::Edge& e : program.edges) nodes.push_back(e.now);
  return nodes;
}

}  // namespace

std::optional<Failure> trouble_with(const program::Program& program, const RunPlan& plan) {
  if (auto clash = clash_among(program, plan.faults, plan.scenario)) return clash;
  if (plan.scenario != program::kNone) {
    const program::Scenario& scenario = program.scenarios[static_cast<std::size_t>(plan.scenario)];
    if (!scenario.needs.empty())
      return Failure{fmt::format("scenario `{}` needs a value for `{}`", scenario.name, scenario.needs), "",
                     fmt::format("give the parameter a default, or do it from another scenario: do {}({} = …)",
                                 scenario.name, scenario.needs)};
  }
  for (const program::Controller& c : program.controllers) {
    if (const program::Setting* setting = setting_of(c, plan.setting)) {
      const program::PortKind& kind = program::port_kind(setting->kind);
      // It cannot wait for the plant.
      if (plan.pace || kind.pace != program::Pace::free) continue;
      return Failure{fmt::format("controller `{}` runs by its own clock under setting `{}` ({})", c.name, setting->name,
                                 kind.words),
                     "", "add --paced, so that the plant keeps to the wall clock too"};
    }
    std::string known;
    for (const program::Setting& s : c.settings) known += (known.empty() ? "" : ", ") + s.name;
    return Failure{fmt::format("controller `{}` has no setting `{}`", c.name, plan.setting), "",
                   fmt::format("it has {}", known)};
  }
  return std::nullopt;
}

namespace {
/// The program as this run needs it: without taps, if nothing is replaced.
std::shared_ptr<const program::Program> as_needed(std::shared_ptr<const program::Program> program,
                                                  const RunPlan& plan) {
  for (const std::int32_t f : plan.faults) {
    if (program->faults[static_cast<std::size_t>(f)].tap != program::kNone) return program;
  }
  if (plan.scenario != program::kNone) {
    for (const program::ScenarioStep& s : program->scenarios[static_cast<std::size_t>(plan.scenario)].steps) {
      if (s.tap != program::kNone) return program;
    }
  }
  return program::without_taps(program);
}
}  // namespace

Run::Run(std::shared_ptr<const program::Program> program, RunPlan plan, const PortMaker& make_port,
         observe::Observer& observer)
    : program_(as_needed(std::move(program), plan)),
      plan_(std::move(plan)),
      observer_(observer),
      seen_(&observer),
      // One continuous system has no cuts.
      plant_(plan_.reference ? engine::on_one_core(*program_) : program_),
      scenario_(*program_, plan_.scenario, plan_.seed),
      faults_(*program_, plan_.faults, plan_.seed),
      messages_(*program_, faults_, plan_.seed),
      edges_(*program_, edge_nodes(*program_)),
      sensing_(*program_, faults_, plan_.seed, state_),
      numbers_(*program_, plan_.faults, plan_.scenario, !plan_.reference) {
  for (const program::Actuator& a : program_->actuators) actuators_.emplace_back(a);
  std::size_t channel = program_->sensors.size() + actuators_.size();
  for (const program::Frame& f : program_->frames) {
    frames_.emplace_back(f);
    frame_channel_.push_back(channel);
    channel += f.fields.size();
  }
  wire_controllers(make_port);
}

engine::TapState* Run::tap(std::int32_t index) {
  return index == program::kNone ? nullptr : &state_.taps[static_cast<std::size_t>(index)];
}

RunResult Run::execute(const std::atomic<bool>& stop) {
  stop_ = &stop;
  if (plan_.reference) {
    reference_ = std::make_unique<engine::ReferencePlant>(plant_.shared_program(), plant_.plan());
    plant_.adopt_whole(reference_.get());
  } else if (plan_.native) {
    native_ = std::make_unique<engine::NativeBuilder>(plant_, *plan_.native);
    if (plan_.wait_for_native || plan_.pace) native_->wait();  // a compiler beside it would disturb the pace
  }
  const IsoFlushed flushed;  // once for the whole run: it is costly to change
  plain_numbers_ = flushed.before();
  state_ = plant_.start(scenario_.start_values());
  state_[program::kSeed] = random_key(plan_.seed);
  state_.sensors = &sensing_;
  faults_.prepare(state_);
  scenario_.prepare(state_);
  for (std::size_t i = 0; i < actuators_.size(); ++i) {
    const program::Actuator& a = program_->actuators[i];
    io::Sample got;
    io::ActuatorChannel(a).pass(a.start, state_.now, {}, got);
    if (a.counts != program::kNone) state_[a.counts] = actuators_[i].counts_of(a.start);
    if (a.signal != program::kNone) state_[a.signal] = got.signal;
  }
  if (plan_.pace) {
    plan_.time_steps = true;
    pacer_ = std::make_unique<Pacer>(program_->step, plan_.pace->speed);
    const std::size_t variables = program_->variables.size();
    const auto step_ns = static_cast<std::int64_t>(static_cast<double>(program_->step.count()) / plan_.pace->speed);
    queue_ = std::make_unique<observe::ObserverQueue>(
        observer_, variables, observe::ObserverQueue::usual_room(variables, step_ns), keep_away_from_stepping_thread);
    seen_ = queue_.get();
  }
  // Conditions of the first instant look at the solved start.
  plant_.solve(state_);
  scenario_.plan(state_.values.data(), state_.now);
  faults_.plan(state_.values.data(), state_.now, scenario_.commands());
  if (open_controllers()) run_instants();
  plant_.end_crew();
  close_controllers();
  result_.ended_at = state_.now;
  list_saturated();
  list_missing();
  list_doubt();
  for (const std::int32_t f : faults_.without_effect(state_))
    result_.remarks.push_back(
        fmt::format("Fault {} acted and changed nothing: `{}` was what it would have been without it.",
                    program_->faults[static_cast<std::size_t>(f)].name,
                    place_of(*program_, program_->faults[static_cast<std::size_t>(f)])));
  result_.expected = scenario_.expected();
  if (pacer_ && pacer_->end()) tell_stretch();
  seen_->event({state_.now, observe::EventKind::ended, static_cast<std::int32_t>(result_.ending), 0, 0});
  end_pace();
  return std::move(result_);
}

void Run::run_instants() {
  if (plan_.time_steps) sensing_.measure();
  for (;;) {
    if (pacer_ && started_) pacer_->wait(state_.now);
    const bool whole = plan_.time_steps ? timed_instant() : instant();
    if (!whole || over()) return;
    const auto before = plan_.time_steps ? Stopwatch::now() : Stopwatch::time_point{};
    const Time at = state_.now;
    const std::int64_t next = pacer_ && started_ ? pacer_->deadline(state_.now + program_->step) : 0;
    const engine::PlantTrouble trouble = plant_.step(state_, next);
    if (plan_.time_steps) {
      const auto took = (Stopwatch::now() - before).count();
      settled_ns_ += took;
      instant_ns_ += took;
      times_[static_cast<std::size_t>(RunShare::plant)].add(settled_ns_);
      times_[static_cast<std::size_t>(RunShare::whole)].add(instant_ns_);
    }
    tell(plant_.changes());
    if (trouble.kind != engine::PlantTrouble::Kind::none) return stop_for_trouble(trouble);
    ++result_.steps;
    if (pacer_) finish_paced_step(at);
  }
}

/// The order of events in one instant; the numbers are those of docs/architecture.md.
bool Run::instant() {
  make_changes();  // 1
  scenario_.apply(state_, *seen_);
  faults_.apply(state_, *seen_);
  if (!take_answers()) return false;  // 2
  cross_swapped();
  plant_.apply_input_taps(state_);
  sensing_.begin_instant();
  tell(plant_.settle(state_));  // 3, sensors among it
  sensing_.end_instant(*seen_);
  if (!all_numbers()) return false;
  if (!started_ && !bring_up()) return false;
  if (!exchange()) return false;  // 4
  finish_instant();               // 5
  return true;
}

/// The same as instant(), with a look at the clock between its steps (about 25 ns each, not taken off).
bool Run::timed_instant() {
  const auto add = [&](RunShare share, Stopwatch::time_point since) {
    times_[static_cast<std::size_t>(share)].add((Stopwatch::now() - since).count());
  };
  const auto begin = Stopwatch::now();
  make_changes();
  scenario_.apply(state_, *seen_);
  faults_.apply(state_, *seen_);
  if (!take_answers()) return false;
  cross_swapped();
  plant_.apply_input_taps(state_);
  sensing_.begin_instant();
  const auto settling = Stopwatch::now();
  tell(plant_.settle(state_));
  const auto sampled = Stopwatch::now();
  const std::int64_t sampling_ns = sensing_.took_ns();
  settled_ns_ = (sampled - settling).count() - sampling_ns;
  sensing_.end_instant(*seen_);
  times_[static_cast<std::size_t>(RunShare::channels)].add(sampling_ns + (Stopwatch::now() - sampled).count());
  if (!all_numbers()) return false;
  if (!started_ && !bring_up()) return false;
  const bool due =
      std::any_of(controllers_.begin(), controllers_.end(), [&](const Wired& c) { return c.next == state_.now; });
  const auto exchanging = Stopwatch::now();
  if (!exchange()) return false;
  if (due) add(RunShare::controllers, exchanging);
  const auto judging = Stopwatch::now();
  finish_instant();
  add(RunShare::judge, judging);
  instant_ns_ = (Stopwatch::now() - begin).count();
  return true;
}

void Run::tell(std::span<const engine::ModeChange> changes) {
  for (const engine::ModeChange& c : changes)
    seen_->event({Time(c.at_ns), observe::EventKind::mode, c.machine, c.transition, 0});
}

/// The fields hold the answer: faults on them, and then to the actuators.
void Run::take_frame(const program::Frame& frame, const io::FrameFields& fields) {
  fields.arrive(state_);
  for (const program::FrameField& f : frame.fields) {
    if (f.actuator != program::kNone) drive(static_cast<std::size_t>(f.actuator), state_[f.raw], true);
  }
}

void Run::drive(std::size_t a, double answer, bool in_frame) {
  const program::Actuator& actuator = program_->actuators[a];
  if (!actuator.on) return;
  const program::VarId to = program_->writable(actuator.value);
  const bool before = actuators_[a].saturation().now;
  const io::ActuatorChannel::Taps taps{tap(actuator.signal_tap), tap(actuator.counts_tap)};
  io::Sample got;
  state_[to] =
      in_frame ? actuators_[a].take(answer, state_.now, taps, got) : actuators_[a].pass(answer, state_.now, taps, got);
  if (actuator.counts != program::kNone) state_[actuator.counts] = got.counts;
  if (actuator.signal != program::kNone) state_[actuator.signal] = got.signal;
  saturates(program_->sensors.size() + a, before, actuators_[a].saturation(), state_[to]);
}

/// An event where a channel begins to be unable to hold what it is given.
void Run::saturates(std::size_t channel, bool before, const io::Saturation& now, double value) {
  if (now.now && !before)
    seen_->event({state_.now, observe::EventKind::saturated, static_cast<std::int32_t>(channel), 0, value});
}

void Run::list_saturated() {
  const auto list = [&](const std::string& name, const io::Saturation& s) {
    if (s.count > 0) result_.saturated.push_back({name, s.first, s.count});
  };
  for (std::size_t i = 0; i < program_->sensors.size(); ++i) list(program_->sensors[i].name, sensing_.saturation(i));
  for (std::size_t i = 0; i < actuators_.size(); ++i) list(program_->actuators[i].name, actuators_[i].saturation());
  for (std::size_t f = 0; f < frames_.size(); ++f) {
    const auto& fields = program_->frames[f].fields;
    for (std::size_t i = 0; i < fields.size(); ++i)
      list(program_->variable(fields[i].raw).name, frames_[f].saturation(i));
  }
}

void Run::make_changes() {
  for (; changes_made_ < plan_.changes.size() && plan_.changes[changes_made_].at <= state_.now; ++changes_made_) {
    const observe::Change& c = plan_.changes[changes_made_];
    state_[program_->writable(c.target)] = c.value;
    seen_->event({state_.now, observe::EventKind::change, c.target, 0, c.value});
  }
}

/// Wires that a fault has swapped: actuators get each other's value.
void Run::cross_swapped() {
  faults_.cross(state_, [&](std::int32_t t) {
    const program::Tap& tap = program_->taps[static_cast<std::size_t>(t)];
    return program_->variable(tap.target).role == program::Role::sensor ? program::kNone : tap.healthy;
  });
}

/// No verdict, no condition and no controller goes on with what is no number.
bool Run::all_numbers() {
  auto story = numbers_.look(state_.values.data(), state_.now, scenario_);
  if (!story) return true;
  result_.ending = observe::Ending::diverged;
  result_.explanation = fmt::format("at {} {}", format_instant(story->at), story->what);
  result_.details = std::move(story->details);
  return false;
}

/// Of implicit steps, which are stable whatever they do.
void Run::list_doubt() {
  const auto& [share, group, state, seconds, steps] = state_.doubt;
  if (steps == 0) return;
  const program::Group& g = program_->groups[static_cast<std::size_t>(group)];
  const program::State& s = program_->states[static_cast<std::size_t>(g.states[static_cast<std::size_t>(state)])];
  result_.remarks.push_back(
      fmt::format("The method `implicit` may be far off in {}: worst for `{}` at {}, by {:.3g} % of its value. A step "
                  "of {} is too long "
                  "for what happens there: make it smaller, or ask `isodyne advise`.",
                  counted(static_cast<std::size_t>(steps), "step"), program_->variable(s.value).name,
                  format_instant(*time_from_seconds(seconds)), 100 * share, format_span(g.step)));
}

void Run::list_missing() {
  for (const NumberWatch::Missing& m : numbers_.missing())
    result_.remarks.push_back(
        fmt::format("`{}` is without a value from {} on, at times at least: what it is computed "
                    "from gives no finite number there. Nobody reads it.",
                    program_->variable(m.id).name, format_instant(m.first)));
}

void Run::finish_instant() {
  seen_->image({state_.now, state_.values.data()});
  edges_.evaluate(state_.values.data());
  for (std::size_t i = 0; i < program_->edges.size(); ++i) state_[program_->edges[i].previous] = edges_.value(i);
  action_ = static_cast<std::int64_t>(scenario_.at_step());
}

bool Run::over() {
  if (!seen_->good()) {
    result_.ending = observe::Ending::not_recorded;
    return true;
  }
  if (stop_->load(std::memory_order_relaxed)) {  // nothing else is handed over with the flag
    result_.ending = observe::Ending::interrupted;
    result_.explanation = fmt::format("interrupted at {}", format_instant(state_.now));
    return true;
  }
  const Time next = state_.now + program_->step;
  const bool finished = plan_.scenario != program::kNone && scenario_.finished();
  if (plan_.longest && next > *plan_.longest) {
    if (plan_.scenario != program::kNone && !finished) {
      result_.ending = observe::Ending::cut_short;
      result_.explanation = fmt::format(
          "the time of the run was over at {}, scenario `{}` was not; what should have come once is undecided",
          format_instant(state_.now), program_->scenarios[static_cast<std::size_t>(plan_.scenario)].name);
    }
    return true;
  }
  if (finished) return true;
  scenario_.plan(state_.values.data(), next);
  faults_.plan(state_.values.data(), next, scenario_.commands());
  if (scenario_.timed_out() != nullptr) stop_for_wait();
  return scenario_.timed_out() != nullptr;
}

void Run::stop_for_wait() {
  const program::ScenarioStep& step = *scenario_.timed_out();
  result_.ending = observe::Ending::wait_timed_out;
  result_.explanation = fmt::format("{}: `{}` did not come true within {}", program_->sources->place(step.span),
                                    program_->sources->in_one_line(step.span), format_span(step.duration));
  for (const program::VarId id : program_->reads(step.value)) {
    result_.details.push_back(fmt::format("{} is {}", program_->variable(id).name, program_->format(id, state_[id])));
  }
}

/// Most often not the matrix is singular, but one of its slopes is none: that of a root at zero is infinite.
std::string Run::why_singular(std::size_t group) {
  const program::Group& g = program_->groups[group];
  const std::size_t n = g.states.size();
  std::vector<double> slopes(n * n), drift(n);
  plant_.interpreter().slopes(group, state_, slopes.data(), drift.data());
  const auto state = [&](std::size_t i) { return program_->states[static_cast<std::size_t>(g.states[i])]; };
  for (std::size_t k = 0; k < n * n; ++k) {
    if (std::isfinite(slopes[k])) continue;
    return fmt::format("how `{}` depends on `{}` is not a finite number there ({})",
                       program_->variable(state(k / n).derivative).name, program_->variable(state(k % n).value).name,
                       program_->sources->place(state(k / n).equation));
  }
  for (std::size_t i = 0; i < n; ++i) {
    if (!std::isfinite(drift[i]))
      return fmt::format("how `{}` depends on time is not a finite number there ({})",
                         program_->variable(state(i).derivative).name, program_->sources->place(state(i).equation));
  }
  return "their matrix is singular";
}

void Run::stop_for_trouble(const engine::PlantTrouble& trouble) {
  result_.ending = observe::Ending::diverged;
  if (trouble.kind == engine::PlantTrouble::Kind::endless_reversal) {
    const program::StateMachine& machine = program_->machines[static_cast<std::size_t>(trouble.index)];
    result_.explanation = fmt::format(
        "`{}` has changed its mode at each of the last {} instants, up to {}: its conditions undo each other",
        program_->variable(machine.mode).name, engine::kMostReversals, format_instant(state_.now));
    for (const program::Transition& t : machine.transitions) {
      result_.details.push_back(fmt::format("{}: {} -> {}", program_->sources->place(t.span),
                                            program_->format(machine.mode, t.from),
                                            program_->format(machine.mode, t.to)));
    }
    return;
  }
  if (trouble.kind == engine::PlantTrouble::Kind::endless_events) {
    result_.explanation =
        fmt::format("at {} these `when` blocks set each other off without end", format_instant(state_.now));
    for (const std::int32_t e : engine::endless(state_)) {
      const Span span = program_->events[static_cast<std::size_t>(e)].span;
      result_.details.push_back(
          fmt::format("{}: {}", program_->sources->place(span), program_->sources->in_one_line(span)));
    }
    return;
  }
  if (trouble.kind == engine::PlantTrouble::Kind::no_solution) {
    const program::Solve& s = program_->solves[static_cast<std::size_t>(trouble.index)];
    result_.explanation = fmt::format("the equation for `{}` has no solution that could be found at {}",
                                      program_->variable(s.x).name, format_instant(state_.now));
    result_.details.push_back(
        fmt::format("{}: {}", program_->sources->place(s.span), program_->sources->in_one_line(s.span)));
    result_.details.push_back(fmt::format("the last value tried was {}", program_->format(s.x, trouble.last_good)));
    return;
  }
  if (trouble.kind == engine::PlantTrouble::Kind::singular) {
    const program::Group& g = program_->groups[static_cast<std::size_t>(trouble.index)];
    result_.explanation =
        fmt::format("the method `{}` could not step its equations at {}: {}", program::method_word(g.method),
                    format_instant(state_.now), why_singular(static_cast<std::size_t>(trouble.index)));
    for (const std::int32_t s : g.states) {
      const program::VarId id = program_->states[static_cast<std::size_t>(s)].value;
      result_.details.push_back(fmt::format("{} is {}", program_->variable(id).name, program_->format(id, state_[id])));
    }
    return;
  }
  const program::State& s = program_->states[static_cast<std::size_t>(trouble.index)];
  if (trouble.kind == engine::PlantTrouble::Kind::stuck) {
    result_.explanation = fmt::format("the adaptive solver cannot go on after {}: `{}`, then {}, changes too fast",
                                      format_instant(state_.now), program_->variable(s.value).name,
                                      program_->format(s.value, trouble.last_good));
    result_.details.push_back(fmt::format("its equation is in {}", program_->sources->place(s.equation)));
    return;
  }
  const Time next_instant = state_.now + program_->group_of(s.value).step;
  result_.explanation = fmt::format("`{}` is no longer a finite number at {}; at {} it was {}",
                                    program_->variable(s.value).name, format_instant(next_instant),
                                    format_instant(state_.now), program_->format(s.value, trouble.last_good));
  result_.details.push_back(fmt::format("its equation is in {}", program_->sources->place(s.equation)));
  say_if_stiff(s.value);
}

/// What an explicit method cannot follow grows without bound, whatever the plant does.
void Run::say_if_stiff(program::VarId state) {
  const program::Group& g = program_->group_of(state);
  if (g.method == program::Method::implicit || g.method == program::Method::exact) return;
  auto quick = quickest_part(*program_, {state_.now, state_.values.data()});
  if (!quick) {  // too large for slopes by now: as it began
    engine::PlantState start = plant_.start(scenario_.start_values());
    plant_.solve(start);
    quick = quickest_part(*program_, {start.now, start.values.data()});
  }
  const double step = to_seconds(g.step);
  if (!quick || quick->shortest * 1.5 > step) return;
  const auto shortest = time_from_seconds(quick->shortest);
  result_.details.push_back(
      fmt::format("it is stiff: {} has a time constant of {}, and `{}` steps {} at once; take a smaller step or "
                  "`implicit`, and ask "
                  "`isodyne advise`",
                  quick->part, shortest ? format_span(*shortest) : "less than 1 ns", program::method_word(g.method),
                  format_span(g.step)));
}

}  // namespace isodyne::bench
