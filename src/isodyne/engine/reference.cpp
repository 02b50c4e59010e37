#include "isodyne/engine/reference.h"

#include <algorithm>
#include <cmath>
#include <set>

#include <cvode/cvode.h>
#include <nvector/nvector_serial.h>
#include <sundials/sundials_context.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunmatrix/sunmatrix_dense.h>

#include "isodyne/program/groups.h"
#include "isodyne/program/margin.h"

namespace isodyne::engine {

using program::kNone;
using program::NodeId;
using program::VarId;

namespace {

constexpr int kMostEventsPerStep = 10'000;

}  // namespace

struct ReferencePlant::Solver {
  std::shared_ptr<const program::Plant> program;
  const Plan& plan;
  ReferenceAccuracy accuracy;
  Interpreter interpreter;
  std::unique_ptr<program::Plant> with_crossings;
  std::unique_ptr<Evaluator> crossings;
  std::unique_ptr<Evaluator> limits;
  /// States with limits, and where each is. Standing on a limit is a mode: the state does not move, and leaves when its
  /// derivative turns inwards, which is a root like that of arriving.
  enum class Stand : char { free, low, high };
  std::vector<std::size_t> limited;
  std::vector<Stand> stands;
  std::size_t roots = 0;
  std::vector<VarId> outside;  ///< what the equations read and do not compute
  std::vector<double> outside_was, x_was;
  const StateView* state = nullptr;
  SUNContext context = nullptr;
  N_Vector y = nullptr;
  SUNMatrix matrix = nullptr;
  SUNLinearSolver linear = nullptr;
  void* cvode = nullptr;
  bool begun = false;
  long calls = 0;
  Time between;  ///< two instants

  Solver(std::shared_ptr<const program::Plant> p, const Plan& made, Time looked_at, ReferenceAccuracy wanted)
      : program(std::move(p)), plan(made), accuracy(wanted), interpreter(program, plan), between(instants(looked_at)) {
    find_crossings();
    find_outside();
    const auto n = static_cast<sunindextype>(program->states.size());
    if (n == 0) return;
    SUNContext_Create(nullptr, &context);
    y = N_VNew_Serial(n, context);
    cvode = CVodeCreate(CV_BDF, context);
    N_VConst(0, y);
    CVodeInit(cvode, derivative, 0, y);
    CVodeSStolerances(cvode, accuracy.relative, accuracy.absolute);
    CVodeSetUserData(cvode, this);
    matrix = SUNDenseMatrix(n, n, context);
    linear = SUNLinSol_Dense(y, matrix, context);
    CVodeSetLinearSolver(cvode, linear, matrix);
    CVodeSetMaxNumSteps(cvode, 1'000'000);
    // Where nothing happens its steps grow, over pulses that equations make out of the time as well.
    CVodeSetMaxStep(cvode, to_seconds(program->step));
    CVodeSetMaxHnilWarns(cvode, -1);
    CVodeSetErrFile(cvode, nullptr);
    if (roots > 0) CVodeRootInit(cvode, static_cast<int>(roots), root);
  }
  ~Solver() {
    if (cvode != nullptr) CVodeFree(&cvode);
    if (linear != nullptr) SUNLinSolFree(linear);
    if (matrix != nullptr) SUNMatDestroy(matrix);
    if (y != nullptr) N_VDestroy(y);
    if (context != nullptr) SUNContext_Free(&context);
  }
  Solver(const Solver&) = delete;
  Solver& operator=(const Solver&) = delete;

  /// Transitions of one source mode may become true in any order, so every condition is a root of its own.
  void find_crossings() {
    with_crossings = std::make_unique<program::Plant>(*program);
    program::Distances done;
    const auto crossing = [&](NodeId condition) { return program::distance_of(*with_crossings, condition, 1, done); };
    std::vector<NodeId> nodes;
    for (const program::StateMachine& m : program->machines) {
      for (const program::Transition& t : m.transitions) nodes.push_back(crossing(t.condition));
    }
    for (const program::WhenBlock& w : program->events) nodes.push_back(crossing(w.condition));
    std::vector<NodeId> bounds;
    for (std::size_t i = 0; i < program->states.size(); ++i) {
      const program::State& s = program->states[i];
      if (s.lowest == kNone) continue;
      limited.push_back(i);
      bounds.insert(bounds.end(), {s.lowest, s.highest});
    }
    stands.assign(limited.size(), Stand::free);
    roots = nodes.size() + 2 * limited.size();
    crossings = std::make_unique<Evaluator>(*with_crossings, nodes);
    limits = std::make_unique<Evaluator>(*with_crossings, bounds);
  }

  void find_outside() {
    std::set<VarId> computed{program::kTime}, read;
    for (const program::State& s : program->states) computed.insert(s.value);
    for (const program::Item& item : program->order) {
      using Kind = program::Item::Kind;
      if (item.kind == Kind::periodic_task || item.kind == Kind::tap || item.kind == Kind::sensor) continue;
      computed.insert(program::target_of(*program, item));
      for (const NodeId value : program::values_of(*program, item)) {
        for (const VarId id : program->reads(value)) read.insert(id);
      }
    }
    for (const VarId id : read) {
      if (!computed.contains(id)) outside.push_back(id);
    }
    outside_was.resize(outside.size());
    x_was.resize(program->states.size());
  }

  double low(std::size_t k) const { return limits->value(2 * k); }
  double high(std::size_t k) const { return limits->value(2 * k + 1); }

  double slope(std::size_t k) const { return (*state)[program->states[limited[k]].derivative]; }

  /// From the image as it is: who arrives at a limit stands there, who is drawn away from it leaves. True if that
  /// changed. `leaving`: their roots have just been found; a derivative that is still zero but for rounding does not
  /// hold them.
  bool place(const std::vector<char>& leaving) {
    bool changed = false;
    for (std::size_t k = 0; k < limited.size(); ++k) {
      const double x = (*state)[program->states[limited[k]].value], d = slope(k);
      Stand next = Stand::free;
      if (x <= low(k) && d < 0) next = Stand::low;
      if (x >= high(k) && d > 0) next = Stand::high;
      if (next == stands[k] && !leaving.empty() && leaving[k] != 0) next = Stand::free;
      changed = changed || next != stands[k];
      stands[k] = next;
    }
    return changed;
  }

  /// Which of those that stand have a root now.
  std::vector<char> leaving() {
    std::vector<char> all(limited.size());
    if (limited.empty()) return all;
    std::vector<int> found(roots);
    CVodeGetRootInfo(cvode, found.data());
    const std::size_t conditions = roots - 2 * limited.size();
    for (std::size_t k = 0; k < limited.size(); ++k)
      all[k] = (stands[k] == Stand::low && found[conditions + 2 * k] != 0) ||
               (stands[k] == Stand::high && found[conditions + 2 * k + 1] != 0);
    return all;
  }

  /// Puts states and time into the image and computes it.
  void look(double t, const double* x) {
    for (std::size_t i = 0; i < program->states.size(); ++i) (*state)[program->states[i].value] = x[i];
    interpreter.evaluate_at(*state, t);
    ++calls;
  }

  static int derivative(realtype t, N_Vector at, N_Vector dx, void* data) {
    auto& s = *static_cast<Solver*>(data);
    const double* x = N_VGetArrayPointer(at);
    double* d = N_VGetArrayPointer(dx);
    s.look(t, x);
    for (std::size_t i = 0; i < s.program->states.size(); ++i) {
      d[i] = (*s.state)[s.program->states[i].derivative];
      if (!std::isfinite(d[i])) return 1;  // a smaller step may help
    }
    for (std::size_t k = 0; k < s.limited.size(); ++k) {
      if (s.stands[k] != Stand::free) d[s.limited[k]] = 0;
    }
    return 0;
  }

  static int root(realtype t, N_Vector at, realtype* g, void* data) {
    auto& s = *static_cast<Solver*>(data);
    const double* x = N_VGetArrayPointer(at);
    s.look(t, x);
    s.crossings->evaluate(s.state->values.data());
    const std::size_t conditions = s.roots - 2 * s.limited.size();
    for (std::size_t i = 0; i < conditions; ++i) g[i] = s.crossings->value(i);
    for (std::size_t k = 0; k < s.limited.size(); ++k) {
      const double value = x[s.limited[k]], slope = s.slope(k);
      g[conditions + 2 * k] = s.stands[k] == Stand::low ? slope : s.stands[k] == Stand::high ? 1 : value - s.low(k);
      g[conditions + 2 * k + 1] = s.stands[k] == Stand::high  ? -slope
                                  : s.stands[k] == Stand::low ? 1
                                                              : s.high(k) - value;
    }
    return 0;
  }

  bool changed_outside() const {
    for (std::size_t i = 0; i < outside.size(); ++i) {
      if ((*state)[outside[i]] != outside_was[i]) return true;
    }
    for (std::size_t i = 0; i < x_was.size(); ++i) {
      if ((*state)[program->states[i].value] != x_was[i]) return true;
    }
    return !begun || std::any_of(state->taps.begin(), state->taps.end(), [](const TapState& t) { return t.any_on; });
  }

  void note() {
    for (std::size_t i = 0; i < outside.size(); ++i) outside_was[i] = (*state)[outside[i]];
    for (std::size_t i = 0; i < x_was.size(); ++i) x_was[i] = (*state)[program->states[i].value];
  }

  /// Begins anew from the image as it is.
  void begin(double t, const std::vector<char>& leaving = {}) {
    limits->evaluate(state->values.data());
    place(leaving);
    double* x = N_VGetArrayPointer(y);
    for (std::size_t i = 0; i < program->states.size(); ++i) x[i] = (*state)[program->states[i].value];
    CVodeReInit(cvode, t, y);
    begun = true;
  }

  void clamp() {
    double* x = N_VGetArrayPointer(y);
    for (std::size_t k = 0; k < limited.size(); ++k) x[limited[k]] = std::clamp(x[limited[k]], low(k), high(k));
  }

  /// The solver cannot go on: the state that moves fastest, measured against its own size, is where to look.
  PlantTrouble stuck(const std::vector<double>& before) {
    look(to_seconds(*state->now), N_VGetArrayPointer(y));
    std::size_t worst = 0;
    double most = -1;
    for (std::size_t i = 0; i < before.size(); ++i) {
      const program::State& s = program->states[i];
      const double pace = std::abs((*state)[s.derivative]) / (std::abs((*state)[s.value]) + accuracy.absolute);
      if (std::isnan(pace) || pace > most) {
        worst = i;
        most = std::isnan(pace) ? HUGE_VAL : pace;
      }
    }
    return {PlantTrouble::Kind::stuck, static_cast<std::int32_t>(worst), before[worst]};
  }

  PlantTrouble step(ModeChanges& changes) {
    const Time from = *state->now, end = from + program->step;
    const std::vector<double> before = x_was;
    for (Time next = from + between;; next += between) {
      if (cvode == nullptr)
        interpreter.evaluate_at(*state, to_seconds(next));
      else if (changed_outside())
        begin(to_seconds(*state->now));
      if (const PlantTrouble trouble = go_to(next, from, before, changes); trouble.kind != PlantTrouble::Kind::none)
        return trouble;
      *state->now = next;
      if (cvode != nullptr) note();
      if (next == end) return {};
      make_room(changes);
      interpreter.settle_all(*state, changes);
      if (state->quick != nullptr) state->quick->instant(state->core, next, state->values.data());
    }
  }

  void make_room(ModeChanges& changes) const {
    if (changes.list.size() < static_cast<std::size_t>(changes.count) + 2 * program->machines.size())
      changes.list.resize(2 * changes.list.size() + 2 * program->machines.size());
  }

  /// How far it is from one instant to the next: where quick parts sample or remember, each of theirs counts.
  Time instants(Time looked_at) const {
    const bool sampled =
        std::any_of(program->periodic_tasks.begin(), program->periodic_tasks.end(),
                    [&](const auto& s) { return program::at(program->groups, s.group).step < program->step; }) ||
        std::any_of(program->sensors.begin(), program->sensors.end(),
                    [&](const auto& s) { return s.period < program->step; }) ||
        std::any_of(program->delays.begin(), program->delays.end(),
                    [&](const auto& d) { return program->group_of(d.out).step < program->step; });
    if (sampled) return std::min(plan.rates.front(), program->step);
    return looked_at.count() > 0 ? looked_at : program->step;
  }

  /// To an instant of the bench, or one between two that somebody looks at. `from`, `before`: the one of the bench to
  /// go back to where it cannot go on.
  PlantTrouble go_to(Time end_ns, Time from, const std::vector<double>& before, ModeChanges& changes) {
    const double end = to_seconds(end_ns);
    double t = to_seconds(*state->now);
    for (int events = 0; cvode != nullptr && t < end;) {
      realtype reached = t;
      const int status = CVode(cvode, end, y, &reached, CV_NORMAL);
      if (status < 0) {
        const PlantTrouble trouble = stuck(before);
        for (std::size_t i = 0; i < before.size(); ++i) (*state)[program->states[i].value] = before[i];
        *state->now = from;
        interpreter.evaluate_at(*state, to_seconds(*state->now));
        return trouble;
      }
      clamp();
      look(reached, N_VGetArrayPointer(y));
      t = reached;
      if (status != CV_ROOT_RETURN) {
        // A root that was zero from the beginning is none to the solver: who is beyond a limit by now comes back to it.
        if (place({})) begin(t);
        break;
      }
      if (++events > kMostEventsPerStep) return {PlantTrouble::Kind::endless_events, 0, 0};
      // A strict condition may hold only just behind its root.
      *state->now = std::min(end_ns - Time(1), Time(static_cast<std::int64_t>(std::llround(t * 1e9))));
      make_room(changes);
      const std::vector<char> left = leaving();
      const bool of_limit = place(left);
      if (!interpreter.jump(*state, changes) && !of_limit) {
        const double nudged = std::min(end, t + 1e-9);
        begin(t);
        if (CVode(cvode, nudged, y, &reached, CV_NORMAL) >= 0) {
          clamp();
          look(reached, N_VGetArrayPointer(y));
          t = reached;
          interpreter.jump(*state, changes);
        }
      }
      (*state)[program::kTime] = t;
      begin(t, left);
    }
    return {};
  }
};

ReferencePlant::ReferencePlant(std::shared_ptr<const program::Plant> program, const Plan& plan, Time looked_at,
                               ReferenceAccuracy accuracy)
    : solver_(std::make_unique<Solver>(std::move(program), plan, looked_at, accuracy)) {}
ReferencePlant::~ReferencePlant() = default;

void ReferencePlant::solve(const StateView& state) {
  solver_->interpreter.solve(state);
}

void ReferencePlant::settle(const StateView& state, ModeChanges& changes) {
  solver_->interpreter.settle_all(state, changes);
}

PlantTrouble ReferencePlant::step(const StateView& state, ModeChanges& changes) {
  if (const PlantTrouble before = solver_->interpreter.trouble_of(state); before.kind != PlantTrouble::Kind::none)
    return before;
  solver_->state = &state;
  return solver_->step(changes);
}

long ReferencePlant::evaluations() const {
  return solver_->calls;
}

}  // namespace isodyne::engine
