#include "isodyne/bench/run.h"

#include <algorithm>
#include <thread>

#include <fmt/format.h>

#include "isodyne/bench/settled_start.h"
#include "isodyne/core/text.h"
#include "isodyne/program/taps.h"

namespace isodyne::bench {

namespace {

std::vector<program::NodeId> edge_nodes(const program::Program& program) {
  std::vector<program::NodeId> nodes;
  for (const program::Edge& e : program.edges) nodes.push_back(e.now);
  return nodes;
}

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
      plant_(plan_.reference ? engine::on_one_core(*program_) : program_, plan_.networks),
      scenario_(*program_, plan_.scenario, plan_.seed, plan_.overrides),
      faults_(*program_, plan_.faults, plan_.seed),
      messages_(*program_, faults_, plan_.seed),
      sensing_(*program_, faults_, plan_.seed, state_),
      quick_(*program_, plant_, scenario_, faults_),
      gate_edges_(*program_, state_),
      channels_(*program_, state_, observer),
      controllers_(*program_, plan_, make_port, faults_, messages_, channels_, state_),
      numbers_(*program_, plan_.faults, plan_.scenario, !plan_.reference),
      edges_(*program_, edge_nodes(*program_)),
      door_(*program_, state_, faults_, inbox_, std::move(plan_.commands), !plan_.pace) {
  plant_.look_at(quick_.columns());
  quick_.find_noted();
}

RunResult Run::execute(const std::atomic<bool>& stop) {
  stop_ = &stop;
  if (plan_.reference) {
    reference_ = std::make_unique<engine::ReferencePlant>(plant_.shared_program(), plant_.plan(),
                                                          program::quick_view(*program_).period);
    plant_.adopt_whole(reference_.get());
  } else if (plan_.native) {
    native_ = std::make_unique<engine::NativeBuilder>(plant_, *plan_.native);
    if (plan_.wait_for_native || plan_.pace) native_->wait();  // a compiler beside it would disturb the pace
  }
  const IsoFlushed flushed;  // once for the whole run: it is costly to change
  controllers_.compute_with(flushed.before());
  if (auto reason = prepare())
    end(std::move(*reason));
  else if (auto useless = controllers_.open())
    end(std::move(*useless));
  else
    run_instants();
  plant_.end_crew();
  controllers_.close(result_);
  door_.close();
  result_.ended_at = state_.now;
  list_remarks();
  result_.expected = scenario_.expected();
  if (pacer_ && pacer_->end()) tell_stretch();
  seen_->event({state_.now, observe::EventKind::ended, static_cast<std::int32_t>(result_.ending), 0, 0});
  end_pace();
  return std::move(result_);
}

/// What networks have come to before the start is where they begin, but for what is given.
std::optional<Reason> Run::settle_before_start() {
  start_values_ = scenario_.start_values();
  if (!scenario_.settled()) return std::nullopt;
  auto settled = settled_start(*program_, plan_.networks, start_values_);
  if (!settled) return Reason{observe::Ending::diverged, settled.failure().text(), {}, false};
  start_values_ = settled->values;
  const auto& given = scenario_.start_values();
  start_values_.insert(start_values_.end(), given.begin(), given.end());
  const std::string what = settled->moves
                               ? fmt::format("a steady state that comes again every {}", format_span(settled->period))
                               : std::string("an operating point");
  result_.remarks.push_back(
      fmt::format("It began settled: {}, found in {}, to {:.2g} of the largest value of each unit.", what,
                  counted(static_cast<std::size_t>(settled->rounds), "round"), settled->residual));
  std::string held;
  for (const program::VarId id : settled->held) list_on(held, "`" + program_->variable(id).name + "`");
  if (!held.empty())
    result_.remarks.push_back(fmt::format("Before the start {} stayed as given, and networks with it.", held));
  return std::nullopt;
}

/// Everything that needs room gets it, and the plant its start.
std::optional<Reason> Run::prepare() {
  std::optional<Reason> useless = settle_before_start();
  state_ = plant_.start(start_values_);
  state_[program::kSeed] = random_key(plan_.seed);
  state_.sensors = &sensing_;
  if (sensing_.quick() || gate_edges_.quick())
    quick_.then([this] {
      if (sensing_.quick()) sensing_.between(*seen_);
      if (gate_edges_.quick()) gate_edges_.instant();
    });
  if (quick_.any() || sensing_.quick() || gate_edges_.quick()) state_.quick = &quick_;
  faults_.prepare(state_);
  door_.prepare(plan_.scenario == program::kNone ? nullptr : &at(program_->scenarios, plan_.scenario));
  channels_.start();
  if (plan_.pace) prepare_pace();
  if (plan_.time_steps) clock_.measure(), sensing_.measure(), plant_.time_networks();
  channels_.tell(*seen_);
  controllers_.tell(*seen_);
  door_.tell(*seen_);
  // Conditions of the first instant look at the solved start.
  plant_.solve(state_);
  scenario_.plan(state_.values.data(), state_.now);
  faults_.plan(state_.values.data(), state_.now, scenario_.commands());
  return useless;
}

void Run::run_instants() {
  for (;;) {
    if (pacer_ && started_) pacer_->wait(state_.now);
    clock_.begin();
    if (auto reason = instant()) {
      if (reason->shown) show_instant();
      return end(std::move(*reason));
    }
    clock_.end();
    if (over()) return;
    clock_.part();
    const Time at = state_.now;
    const std::int64_t next = pacer_ && started_ ? pacer_->deadline(state_.now + program_->step) : 0;
    if (quick_.any()) quick_.begin(state_.values.data());
    const engine::PlantTrouble trouble = plant_.step(state_, next);
    clock_.stepped();
    if (quick_.any()) quick_.hand_over(*seen_, state_.now);
    tell(plant_.changes());
    plant_.networks().take_losses([&](program::VarId id, Time when, double value) {
      seen_->event({when, observe::EventKind::lost, id, 0, value});
    });
    if (trouble.kind != engine::PlantTrouble::Kind::none)
      return end(plant_trouble(plant_, state_, trouble, start_values_));
    ++result_.steps;
    if (pacer_) finish_paced_step(at);
  }
}

/// The order of events in one instant; the numbers are those of docs/architecture.md.
std::optional<Reason> Run::instant() {
  door_.carry_out();  // 1
  door_.carry_out(scenario_.writes());
  for (const observe::Event& e : scenario_.events()) seen_->event(e);
  if (plan_.choice != nullptr) faults_.choose(*plan_.choice);
  faults_.apply(state_, *seen_);
  if (auto reason = controllers_.take_answers()) return reason;  // 2
  cross_swapped();
  plant_.apply_input_taps(state_);
  sensing_.begin_instant();
  clock_.part();
  tell(plant_.settle(state_));  // 3, sensors among it
  clock_.settled(sensing_.took_ns());
  sensing_.end_instant(*seen_);
  clock_.sampled();
  if (auto story = numbers_.look(state_.values.data(), state_.now, scenario_)) return no_number(std::move(*story));
  if (!started_) {
    if (auto reason = all_ready()) return reason;
  }
  const bool due = clock_.on() && controllers_.due();
  clock_.part();
  if (auto reason = controllers_.exchange()) return reason;  // 4
  if (due) clock_.add(RunShare::controllers);
  clock_.part();
  show_instant();  // 5
  clock_.add(RunShare::judge);
  return std::nullopt;
}

/// At the first instant, which lasts until every controller is ready.
std::optional<Reason> Run::all_ready() {
  if (auto reason = controllers_.bring_up(*stop_, observer_)) return reason;
  started_ = true;
  start_crew();
  if (plan_.pace) begin_pace();
  return std::nullopt;
}

void Run::end(Reason reason) {
  result_.ending = reason.ending;
  result_.explanation = std::move(reason.text);
  result_.details = std::move(reason.details);
}

void Run::tell(std::span<const engine::ModeChange> changes) {
  for (const engine::ModeChange& c : changes)
    seen_->event({Time(c.at_ns), observe::EventKind::mode, c.machine, c.transition, 0});
}

/// In lockstep somebody may make the run stand, until they say how it goes on.
bool Run::ended_by_command() {
  Door::Course course = door_.shown();
  while (course == Door::Course::stands && !stop_->load(std::memory_order_relaxed)) {
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    course = door_.course();
  }
  return course == Door::Course::ends;
}

void Run::interrupted() {
  result_.ending = observe::Ending::interrupted;
  result_.explanation = fmt::format("interrupted at {}", format_instant(state_.now));
}

/// Wires that a fault has swapped: actuators get each other's value.
void Run::cross_swapped() {
  faults_.cross(state_, [&](std::int32_t t) {
    const program::Tap& tap = at(program_->taps, t);
    return program_->variable(tap.target).role == program::Role::sensor ? program::kNone : tap.healthy;
  });
}

void Run::show_instant() {
  if (gate_edges_.any()) gate_edges_.hand_over(*seen_);
  seen_->image({state_.now, state_.values.data()});
  edges_.evaluate(state_.values.data());
  for (std::size_t i = 0; i < program_->edges.size(); ++i) state_[program_->edges[i].previous] = edges_.value(i);
  action_ = static_cast<std::int64_t>(scenario_.at_step());
}

/// Of a run that kept real time: what took longer than it would the next time.
void Run::first_visits(std::size_t network) {
  const engine::NetworkAccount a = account(network);
  if (a.first_visits == 0) return;
  const std::string& first = program_->networks[network].elements.front().path;
  result_.remarks.push_back(fmt::format(
      "The network of `{}` came into {} of its switches for the first time while it ran; each is made then, and takes "
      "longer once.",
      first, counted(static_cast<std::size_t>(a.first_visits), "combination")));
}

/// What a reader of the verdicts has to know.
void Run::list_remarks() {
  result_.messages_sent = messages_.sent();
  result_.messages_lost = messages_.lost();
  if (result_.messages_lost > 0)
    result_.remarks.push_back(fmt::format("Of {} messages between controllers {} never arrived.", result_.messages_sent,
                                          result_.messages_lost));
  for (std::size_t i = 0; i < program_->sensors.size(); ++i) {
    const io::Saturation& s = sensing_.saturation(i);
    if (s.count > 0) result_.saturated.push_back({program_->sensors[i].name, s.first, s.count, false});
  }
  channels_.list_saturated(result_.saturated);
  if (gate_edges_.lost() > 0)
    result_.remarks.push_back(
        fmt::format("{} of gates came too quickly to be looked at; requirements, measures and "
                    "recordings of edges are without them.",
                    counted(static_cast<std::size_t>(gate_edges_.lost()), "edge")));
  for (const NumberWatch::Missing& m : numbers_.missing()) result_.remarks.push_back(without_value(*program_, m));
  if (std::string doubt = implicit_doubt(*program_, state_); !doubt.empty())
    result_.remarks.push_back(std::move(doubt));
  for (std::size_t n = 0; plan_.pace && n < program_->networks.size(); ++n) first_visits(n);
  if (door_.refused() > 0) result_.remarks.push_back(refused_again(*program_, door_.first_refused(), door_.refused()));
  for (const std::int32_t f : faults_.without_effect(state_)) result_.remarks.push_back(without_effect(*program_, f));
}

bool Run::over() {
  if (!seen_->good()) {
    result_.ending = observe::Ending::not_recorded;
    return true;
  }
  // Relaxed: the flag publishes no other data.
  if (ended_by_command() || stop_->load(std::memory_order_relaxed)) return interrupted(), true;
  const Time next = state_.now + program_->step;
  const bool finished = plan_.scenario != program::kNone && scenario_.finished();
  if (plan_.longest && next > *plan_.longest) {
    if (plan_.scenario != program::kNone && !finished) {
      result_.ending = observe::Ending::cut_short;
      result_.explanation = fmt::format(
          "the time of the run was over at {}, scenario `{}` was not; what should have come once is undecided",
          format_instant(state_.now), at(program_->scenarios, plan_.scenario).name);
    }
    return true;
  }
  if (finished && !plan_.endless) return true;
  scenario_.plan(state_.values.data(), next);
  faults_.plan(state_.values.data(), next, scenario_.commands());
  if (scenario_.timed_out() == nullptr) return false;
  end(wait_timed_out(*program_, state_, *scenario_.timed_out()));
  return true;
}

}  // namespace isodyne::bench
