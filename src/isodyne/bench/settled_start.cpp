#include "isodyne/bench/settled_start.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "isodyne/core/text.h"
#include "isodyne/engine/plan.h"
#include "isodyne/engine/running_plant.h"
#include "isodyne/program/nodes.h"

namespace isodyne::bench {

namespace {

using program::kNone;
using program::VarId;

constexpr Time kLongest = std::chrono::seconds(10);       ///< period
constexpr Time kShortest = std::chrono::milliseconds(1);  ///< below which several periods are taken together
constexpr Time kStill = std::chrono::milliseconds(10);    ///< where nothing moves
constexpr std::int64_t kInstants = 50'000;                ///< at which two periods are compared, at most
constexpr double kSame = 1e-9;                            ///< of the largest value, by which two are the same
constexpr int kRounds = 15;

/// Sensors do not sample before the start.
struct Holding : engine::SensorSampling {
  bool due(Time) const override { return false; }
  void sample(std::int32_t) override {}
};

/// What of a plant moves by itself, and how.
class Movement {
 public:
  explicit Movement(const program::Program& program) : p_(program) {
    for (const program::Assignment& e : p_.equations) equation_of_[e.target] = e.value;
    for (const program::State& s : p_.states) state_of_[s.value] = &s;
    for (const program::State& s : p_.states) {
      if (rests_on(s.derivative).nothing_moving()) steady_.push_back(&s);
    }
  }
  /// States that go on at a rate that stays as it is, such as the angle of a source.
  const std::vector<const program::State*>& steady() const { return steady_; }
  bool is_steady(const program::State& s) const {
    return std::find(steady_.begin(), steady_.end(), &s) != steady_.end();
  }

  struct RestsOn {
    bool time = false, networks = false;  ///< networks: or what is made of their past, or drawn
    std::set<const program::State*> states;
    bool nothing_moving() const { return !time && !networks && states.empty(); }
  };
  /// What a quantity follows from at an instant, in the end.
  RestsOn rests_on(VarId id) const {
    RestsOn on;
    std::set<VarId> seen;
    std::vector<VarId> todo{id};
    while (!todo.empty()) {
      const VarId next = todo.back();
      todo.pop_back();
      if (!seen.insert(next).second) continue;
      const auto equation = equation_of_.find(next);
      const auto state = state_of_.find(next);
      using program::Role;
      const Role role = p_.variable(next).role;
      if (next == program::kTime) {
        on.time = true;
      } else if (state != state_of_.end()) {
        on.states.insert(state->second);
      } else if (equation != equation_of_.end()) {
        for (const VarId read : p_.reads(equation->second)) todo.push_back(read);
      } else if (role == Role::network || role == Role::hidden) {
        on.networks = true;
      }
    }
    return on;
  }
  /// A state that moves by time alone, but not at a steady rate; null: there is none among these.
  const program::State* unsteady(const std::set<const program::State*>& states) const {
    for (const program::State* s : states) {
      const RestsOn on = rests_on(s->derivative);
      const bool by_itself =
          std::all_of(on.states.begin(), on.states.end(), [&](const auto* o) { return is_steady(*o); });
      if (!is_steady(*s) && !on.networks && by_itself) return s;
    }
    return nullptr;
  }

 private:
  const program::Program& p_;
  std::map<VarId, program::NodeId> equation_of_;
  std::map<VarId, const program::State*> state_of_;
  std::vector<const program::State*> steady_;
};

/// The plant before the start: networks, gates and what moves at a steady rate go on, and time is `shift` less than the
/// plant's own.
std::shared_ptr<program::Plant> before_the_start(const program::Program& program, const Movement& movement,
                                                 Time shift) {
  auto p = std::make_shared<program::Plant>(*engine::on_one_core(program));
  const program::NodeId nothing = program::number(*p, 0);
  for (const program::State& s : program.states) {
    for (program::Assignment& e : p->equations) {
      if (e.target == s.derivative && !movement.is_steady(s)) e.value = nothing;
    }
  }
  for (program::PeriodicTask& t : p->periodic_tasks) t.body.clear();
  for (program::WhenBlock& w : p->events) w.condition = nothing;
  for (program::StateMachine& m : p->machines) m.transitions.clear();
  if (shift.count() == 0) return p;

  const auto moved = static_cast<VarId>(p->variables.size());
  program::Variable v = p->variable(program::kTime);
  v.name = "time before the start";
  v.role = program::Role::equation;
  v.group = 0;  // the quickest
  p->variables.push_back(v);
  for (program::Node& n : p->nodes) {
    if (n.op == program::Op::variable && n.variable == program::kTime) n.variable = moved;
  }
  const program::NodeId now = program::reading(*p, program::kTime), by = program::number(*p, to_seconds(shift));
  p->equations.push_back({moved, program::operation(*p, program::Op::sub, now, by), {}});
  p->order.insert(p->order.begin(),
                  {program::Item::Kind::equation, static_cast<std::int32_t>(p->equations.size() - 1)});
  return p;
}

class Settling {
 public:
  Settling(const program::Program& program, const engine::NetworkMaker& networks,
           const std::vector<std::pair<VarId, double>>& start)
      : program_(program), networks_(networks), start_(start), movement_(program), quick_(program.step) {
    for (const program::Group& g : program.groups) quick_ = std::min(quick_, g.step);
    for (const program::Network& n : program.networks) {
      for (const VarId id : n.outputs) {
        if (program.startable(id)) states_.push_back(id);
      }
    }
  }

  Result<SettledStart> run() {
    if (auto failure = find_period()) return *failure;
    plant_.emplace(before_the_start(program_, movement_, made_.period), networks_);
    auto next = after_period(first_);
    if (!next) return next.failure();
    Eigen::VectorXd x = *next;  // so that it begins on the way to where it settles
    for (made_.rounds = 1; made_.rounds <= kRounds; ++made_.rounds) {
      next = after_period(x);
      if (!next) return next.failure();
      const Eigen::VectorXd by = *next - x;
      note_scales(x, *next);
      const double before = made_.residual;
      made_.residual = largest(by);
      const bool no_better = made_.rounds > 2 && made_.residual > before / 2;
      if (made_.residual <= kSame * 1e-2 || (made_.residual <= kSame && no_better)) return found(x);
      const auto step = newton(x, *next, by);
      if (!step) return step.failure();
      x += *step;
    }
    return failed(fmt::format("`{}` does not come again after {}: it is {} off in the {}th round", name(worst_),
                              format_span(made_.period),
                              program_.format(states_[static_cast<std::size_t>(worst_)], off_), kRounds));
  }

 private:
  static Failure failed(std::string why) { return Failure{"start settled", "", std::move(why)}; }
  const std::string& name(Eigen::Index i) const { return program_.variable(states_[static_cast<std::size_t>(i)]).name; }

  /// Inputs of networks at an instant before the start, with the networks as they start.
  std::vector<double> inputs_at(engine::RunningPlant& plant, engine::PlantState& state, Time t) const {
    state.now = t;
    for (const Moving& m : moving_) state[m.id] = m.at_start + m.rate * to_seconds(t);
    plant.solve(state);
    std::vector<double> all;
    for (const program::Network& n : program_.networks) {
      for (const VarId id : n.inputs) all.push_back(state[id]);
    }
    return all;
  }

  std::optional<Failure> find_period() {
    engine::RunningPlant plant(before_the_start(program_, movement_, {}), networks_);
    engine::PlantState state = plant.start(start_);
    plant.solve(state);
    if (state.network.stuck != kNone) return failed(plant.networks().why_not(state.network.stuck));
    first_.resize(static_cast<Eigen::Index>(states_.size()));
    for (std::size_t i = 0; i < states_.size(); ++i) first_[static_cast<Eigen::Index>(i)] = state[states_[i]];

    for (const program::State* s : movement_.steady())
      moving_.push_back({s->value, state[s->value], state[s->derivative]});

    std::vector<double> frequencies;
    for (const program::Network& n : program_.networks) {
      for (const program::Network::Element& e : n.elements) {
        for (const auto* list : {&e.inputs, &e.parameters}) {
          for (const program::Network::Quantity& q : *list) {
            if (q.name == "frequency") frequencies.push_back(state[q.id]);
          }
        }
      }
    }
    bool may_move = !frequencies.empty();
    for (const program::Network& n : program_.networks) {
      for (const VarId id : n.inputs) {
        const Movement::RestsOn on = movement_.rests_on(id);
        if (const program::State* s = movement_.unsteady(on.states))
          return failed(
              fmt::format("`{}` moves by itself, but at no steady rate, so nothing that follows from it comes "
                          "again",
                          program_.variable(s->value).name));
        note_held(on.states);
        may_move = may_move || on.time || std::any_of(on.states.begin(), on.states.end(), [&](const auto* s) {
                     return movement_.is_steady(*s) && state[s->derivative] != 0;
                   });
      }
    }
    if (!may_move) {
      made_.period = program_.step * std::max<std::int64_t>(1, kStill / program_.step);
      return std::nullopt;
    }
    return find_period(plant, state, frequencies);
  }

  /// States with equations of their own that networks read stay as they start; who reads the outcome has to know.
  void note_held(const std::set<const program::State*>& states) {
    for (const program::State* s : states) {
      const auto& held = made_.held;
      if (!movement_.is_steady(*s) && std::find(held.begin(), held.end(), s->value) == held.end())
        made_.held.push_back(s->value);
    }
  }

  /// An instant before the start, by its number: a step of the bench further back each, and somewhere between two.
  Time instant(std::int64_t number) const {
    return -(number * program_.step + number * 7 % (program_.step / quick_) * quick_);
  }

  /// The shortest time after which all inputs are what they were: at a few instants first, then at many; where two
  /// differ is one of the few from then on.
  std::optional<Failure> find_period(engine::RunningPlant& plant, engine::PlantState& state,
                                     const std::vector<double>& frequencies) {
    std::vector<Time> times;
    std::vector<std::vector<double>> there;
    std::vector<double> most;
    const auto look = [&](Time t) {
      times.push_back(t);
      there.push_back(inputs_at(plant, state, t));
      most.resize(there.back().size());
      for (std::size_t i = 0; i < most.size(); ++i) most[i] = std::max(most[i], std::abs(there.back()[i]));
    };
    for (const std::int64_t k : {0, 1, 3, 7, 18, 41, 97, 233, 547, 1291}) look(instant(k));
    std::string other;
    const auto differ = [&](const std::vector<double>& a, const std::vector<double>& b) {
      for (std::size_t i = 0; i < a.size(); ++i) {
        if (std::abs(a[i] - b[i]) > kSame * most[i]) return other = input_name(i), true;
      }
      return false;
    };
    for (Time t = program_.step; t <= kLongest; t += program_.step) {
      const bool modulators = std::all_of(frequencies.begin(), frequencies.end(), [&](double f) {
        const double periods = f * to_seconds(t);
        return std::abs(periods - std::round(periods)) <= 1e-9 * std::max(1.0, periods);
      });
      if (!modulators) continue;
      bool same = true;
      for (std::size_t j = 0; j < times.size() && same; ++j)
        same = !differ(inputs_at(plant, state, times[j] - t), there[j]);
      bool moves = !frequencies.empty();
      const std::int64_t many = std::min<std::int64_t>(kInstants, kLongest / program_.step);
      for (std::int64_t k = 0; k < many && same; ++k) {
        const std::vector<double> now = inputs_at(plant, state, instant(k));
        moves = moves || differ(now, there.front());
        same = !differ(inputs_at(plant, state, instant(k) - t), now);
        if (!same && jumps(plant, state, instant(k), most)) {  // then on both sides of it
          same = true;
          for (const Time beside : {instant(k) - quick_, instant(k) + quick_})
            same = same && !differ(inputs_at(plant, state, beside - t), inputs_at(plant, state, beside));
        }
        if (!same) look(instant(k));
      }
      if (!same) continue;
      made_.moves = moves;
      made_.period = t * std::max<std::int64_t>(1, ((moves ? kShortest : kStill) + t - Time{1}) / t);
      return std::nullopt;
    }
    return failed(
        fmt::format("{} with no period of whole steps of {} up to {}",
                    other.empty() ? "the modulators come again together" : fmt::format("`{}` comes again", other),
                    format_span(program_.step), format_span(kLongest)));
  }

  /// Whether an input jumps right there: on which side of it an instant is, is a matter of rounding.
  bool jumps(engine::RunningPlant& plant, engine::PlantState& state, Time t, const std::vector<double>& most) const {
    const std::vector<double> before = inputs_at(plant, state, t - Time{1}),
                              after = inputs_at(plant, state, t + Time{1});
    for (std::size_t i = 0; i < before.size(); ++i) {
      constexpr double kJump = 1e-3;  // far more than anything moves in 2 ns
      if (std::abs(after[i] - before[i]) > kJump * most[i]) return true;
    }
    return false;
  }

  std::string input_name(std::size_t i) const {
    for (const program::Network& n : program_.networks) {
      if (i < n.inputs.size()) return program_.variable(n.inputs[i]).name;
      i -= n.inputs.size();
    }
    return {};
  }

  /// P(x).
  Result<Eigen::VectorXd> after_period(const Eigen::VectorXd& x) {
    std::vector<std::pair<VarId, double>> begin = start_;
    for (const Moving& m : moving_) begin.emplace_back(m.id, m.at_start - m.rate * to_seconds(made_.period));
    for (std::size_t i = 0; i < states_.size(); ++i) begin.emplace_back(states_[i], x[static_cast<Eigen::Index>(i)]);
    engine::PlantState state = plant_->start(begin);
    plant_->solve(state);
    state.sensors = &holding_;
    if (state.network.stuck != kNone) return failed(plant_->networks().why_not(state.network.stuck));
    while (state.now < made_.period) {
      plant_->settle(state);
      const engine::PlantTrouble trouble = plant_->step(state);
      if (trouble.kind == engine::PlantTrouble::Kind::none) continue;
      return failed(fmt::format(
          "it cannot go on {} before the start{}", format_span(made_.period - state.now),
          trouble.kind == engine::PlantTrouble::Kind::network ? ": " + plant_->networks().why_not(trouble.index) : ""));
    }
    Eigen::VectorXd end(x.size());
    for (std::size_t i = 0; i < states_.size(); ++i) end[static_cast<Eigen::Index>(i)] = state[states_[i]];
    return end;
  }

  /// The largest value of each unit: what rounding is measured by.
  void note_scales(const Eigen::VectorXd& x, const Eigen::VectorXd& next) {
    std::map<std::string, double> of_unit;
    const auto unit = [&](std::size_t i) { return si_text(program_.variable(states_[i]).type.dimension); };
    for (std::size_t i = 0; i < states_.size(); ++i) {
      double& most = of_unit[unit(i)];
      const auto k = static_cast<Eigen::Index>(i);
      most = std::max({most, std::abs(x[k]), std::abs(next[k]), 1e-6});
    }
    scales_.resize(x.size());
    for (std::size_t i = 0; i < states_.size(); ++i) scales_[static_cast<Eigen::Index>(i)] = of_unit[unit(i)];
  }

  double largest(const Eigen::VectorXd& by) {
    const double share = by.cwiseAbs().cwiseQuotient(scales_).maxCoeff(&worst_);
    off_ = by[worst_];
    return share;
  }

  /// The step s with (dP/dx - 1) s = -by, in shares of the scales, by GMRES (Saad and Schultz, SIAM J. Sci. Stat.
  /// Comput. 7 (1986) 856). It moves x only in directions in which P has moved it: so inductors that meet in one node
  /// go on to carry currents that add up there. What decays within a period takes no room in it.
  Result<Eigen::VectorXd> newton(const Eigen::VectorXd& x, const Eigen::VectorXd& next, const Eigen::VectorXd& by) {
    // A direction that is left over of less than this is made of rounding, in which currents do not add up any more;
    // the next round begins closer.
    constexpr double kBeside = 1e-4, kNothing = 1e-4;
    const Eigen::Index most = x.size();
    const Eigen::VectorXd r = -by.cwiseQuotient(scales_);
    const double size = r.norm();
    Eigen::MatrixXd basis = Eigen::MatrixXd::Zero(most, most + 1), h = Eigen::MatrixXd::Zero(most + 1, most);
    basis.col(0) = r / size;
    Eigen::VectorXd y, rest;
    for (Eigen::Index k = 0; k < most; ++k) {
      const auto moved = after_period(x + kBeside * basis.col(k).cwiseProduct(scales_));
      if (!moved) return moved.failure();
      Eigen::VectorXd w = (*moved - next).cwiseQuotient(scales_) / kBeside - basis.col(k);
      for (int twice = 0; twice < 2; ++twice) {
        for (Eigen::Index i = 0; i <= k; ++i) {
          const double along = basis.col(i).dot(w);
          h(i, k) += along;
          w -= along * basis.col(i);
        }
      }
      h(k + 1, k) = w.norm();
      Eigen::VectorXd wanted = Eigen::VectorXd::Zero(k + 2);
      wanted[0] = size;
      const auto used = h.topLeftCorner(k + 2, k + 1);
      y = answer_to(used, wanted);
      rest = basis.leftCols(k + 2) * (wanted - used * y);
      if (rest.norm() <= 1e-6 * size) return step_of(basis, y);
      if (h(k + 1, k) <= kNothing) break;
      basis.col(k + 1) = w / h(k + 1, k);
    }
    if (rest.cwiseAbs().maxCoeff() <= 0.1 * r.cwiseAbs().maxCoeff()) return step_of(basis, y);
    Eigen::Index which = 0;
    rest.cwiseAbs().maxCoeff(&which);
    return failed(
        fmt::format("`{}` never settles: it moves on by {} every {}, and nothing brings it back", name(which),
                    program_.format(states_[static_cast<std::size_t>(which)], std::abs(rest[which]) * scales_[which]),
                    format_span(made_.period)));
  }

  /// Least squares; what hardly moves when it is pushed is no answer to anything.
  static Eigen::VectorXd answer_to(const Eigen::MatrixXd& a, const Eigen::VectorXd& wanted) {
    constexpr double kUnmoved = 1e-7;
    const Eigen::JacobiSVD<Eigen::MatrixXd> svd(a, Eigen::ComputeThinU | Eigen::ComputeThinV);
    Eigen::VectorXd y = Eigen::VectorXd::Zero(a.cols());
    for (Eigen::Index k = 0; k < svd.singularValues().size(); ++k) {
      if (svd.singularValues()[k] > kUnmoved)
        y += svd.matrixU().col(k).dot(wanted) / svd.singularValues()[k] * svd.matrixV().col(k);
    }
    return y;
  }

  Eigen::VectorXd step_of(const Eigen::MatrixXd& basis, const Eigen::VectorXd& y) const {
    return (basis.leftCols(y.size()) * y).cwiseProduct(scales_);
  }

  SettledStart found(const Eigen::VectorXd& x) {
    for (std::size_t i = 0; i < states_.size(); ++i)
      made_.values.emplace_back(states_[i], x[static_cast<Eigen::Index>(i)]);
    return made_;
  }

  const program::Program& program_;
  const engine::NetworkMaker& networks_;
  const std::vector<std::pair<VarId, double>>& start_;
  Movement movement_;
  Time quick_;  ///< the shortest step
  struct Moving {
    VarId id = kNone;
    double at_start = 0, rate = 0;
  };
  std::vector<Moving> moving_;
  std::vector<VarId> states_;
  std::optional<engine::RunningPlant> plant_;
  Holding holding_;
  Eigen::VectorXd first_, scales_;
  Eigen::Index worst_ = 0;
  double off_ = 0;
  SettledStart made_;
};

}  // namespace

Result<SettledStart> settled_start(const program::Program& program, const engine::NetworkMaker& networks,
                                   const std::vector<std::pair<VarId, double>>& start) {
  return Settling(program, networks, start).run();
}

}  // namespace isodyne::bench
