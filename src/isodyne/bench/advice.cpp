#include "isodyne/bench/advice.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>
#include <Eigen/Eigenvalues>

#include "isodyne/program/groups.h"

namespace isodyne::bench {

namespace {

using program::Method;

/// Keeps chosen signals at every instant.
struct Kept : observe::Observer {
  std::vector<program::VarId> signals;
  std::vector<Time> times;
  std::vector<std::vector<double>> values;  ///< per signal
  std::function<void(const observe::Image&)> also;

  void image(const observe::Image& image) override {
    times.push_back(image.at);
    for (std::size_t i = 0; i < signals.size(); ++i) values[i].push_back(image.variables[signals[i]]);
    if (also) also(image);
  }
  void begin(const AdviceWish& wish) {
    signals = wish.signals;
    times.clear();
    values.assign(signals.size(), {});
  }
};

/// Steps around that of the bench, smallest first; none larger than the shortest sampled period.
std::vector<Time> ladder(const program::Program& p) {
  Time most = p.step * 64;
  for (const program::Sensor& s : p.sensors) most = std::min(most, s.period);
  for (const program::Controller& c : p.controllers) most = std::min(most, c.period);
  for (const program::Sampler& s : p.samplers) most = std::min(most, s.period);
  std::set<Time> steps{p.step};
  for (const std::int64_t k : {2, 5, 10, 20, 50}) {
    if (p.step * k <= most) steps.insert(p.step * k);
  }
  for (const std::int64_t k : {2, 4}) {
    if (p.step.count() % k == 0) steps.insert(p.step / k);
  }
  return {steps.begin(), steps.end()};
}

/// Follows the eigenvalues of every part's own states along a run.
class Paces {
 public:
  explicit Paces(const program::Program& program) : program_(std::make_shared<program::Program>(program)) {
    // One group of everything, linearised: what the parts do to themselves is on its diagonal blocks.
    auto whole = std::make_shared<program::Program>(program);
    program::Group all;
    all.step = whole->step;
    for (std::size_t i = 0; i < whole->states.size(); ++i) all.states.push_back(static_cast<std::int32_t>(i));
    whole->groups = {all};
    for (program::Variable& v : whole->variables) v.group = 0;
    for (program::Sampler& s : whole->samplers) s.group = 0;
    for (program::WhenBlock& w : whole->events) w.group = 0;
    program::linearise(*whole, whole->groups.front());
    program_ = whole;
    plan_ = std::make_unique<engine::Plan>(*program_);
    interpreter_ = std::make_unique<engine::Interpreter>(program_, *plan_);
    const std::size_t n = program_->states.size();
    jacobian_.resize(n * n);
    drift_.resize(n);
    std::map<std::string, std::vector<std::size_t>> parts;
    for (std::size_t i = 0; i < n; ++i) {
      const std::string& name = program_->variable(program_->states[i].value).name;
      const std::size_t dot = name.rfind('.');
      parts[dot == std::string::npos ? "" : name.substr(0, dot)].push_back(i);
    }
    for (auto& [name, states] : parts) {
      PartPace pace;
      pace.part = name.empty() ? "the bench itself" : name;
      found.push_back(pace);
      states_.push_back(std::move(states));
    }
    state_ = interpreter_->start({});
  }

  void look(const observe::Image& image) {
    const std::size_t n = program_->states.size();
    if (n == 0 || n > 500) return;
    std::copy(image.variables, image.variables + program_->variables.size(), state_.values.begin());
    state_.now = image.at;
    interpreter_->slopes(0, state_, jacobian_.data(), drift_.data());
    for (std::size_t k = 0; k < found.size(); ++k) part(k, image.at);
  }

  std::vector<PartPace> found;

 private:
  void part(std::size_t k, Time at) {
    const std::vector<std::size_t>& states = states_[k];
    const std::size_t n = program_->states.size();
    const auto m = static_cast<Eigen::Index>(states.size());
    Eigen::MatrixXd a(m, m);
    for (Eigen::Index r = 0; r < m; ++r) {
      for (Eigen::Index c = 0; c < m; ++c)
        a(r, c) = jacobian_[states[static_cast<std::size_t>(r)] * n + states[static_cast<std::size_t>(c)]];
    }
    if (!a.allFinite()) return;
    const Eigen::VectorXcd values = Eigen::EigenSolver<Eigen::MatrixXd>(a, false).eigenvalues();
    PartPace& pace = found[k];
    for (const std::complex<double>& value : values) {
      if (std::abs(value) < 1e-12) continue;
      const double constant = 1 / std::abs(value);
      if (pace.shortest == 0 || constant < pace.shortest) {
        pace.shortest = constant;
        pace.at = at;
        pace.oscillates = std::abs(value.imag()) > std::abs(value.real());
      }
      pace.longest = std::max(pace.longest, constant);
    }
  }

  std::shared_ptr<const program::Program> program_;
  std::unique_ptr<engine::Plan> plan_;
  std::unique_ptr<engine::Interpreter> interpreter_;
  engine::PlantState state_;
  std::vector<double> jacobian_, drift_;
  std::vector<std::vector<std::size_t>> states_;
};

/// At every instant of either run: the other one is read between its instants as its recording would be, held or on a
/// straight line. An error that is there only between the instants that both have is an error too.
void compare(Trial& trial, const program::Program& program, const Kept& reference, const Kept& kept,
             const std::vector<double>& ranges, double tolerance) {
  const bool by_reference = reference.times.size() >= kept.times.size();
  const Kept &fine = by_reference ? reference : kept, &coarse = by_reference ? kept : reference;
  for (std::size_t s = 0; s < reference.signals.size(); ++s) {
    SignalError error;
    error.signal = reference.signals[s];
    const bool held = program.held(error.signal);
    double squares = 0;
    std::size_t count = 0, next = 0;
    for (std::size_t i = 0; i < fine.times.size(); ++i) {
      while (next < coarse.times.size() && coarse.times[next] <= fine.times[i]) ++next;
      if (next == 0) continue;
      if (next == coarse.times.size() && coarse.times.back() < fine.times[i]) break;
      double there = coarse.values[s][next - 1];
      if (!held && next < coarse.times.size()) {
        const double share = static_cast<double>((fine.times[i] - coarse.times[next - 1]).count()) /
                             static_cast<double>((coarse.times[next] - coarse.times[next - 1]).count());
        there += share * (coarse.values[s][next] - there);
      }
      const double d = std::abs(fine.values[s][i] - there);
      error.largest = std::isnan(d) ? INFINITY : std::max(error.largest, d);
      squares += d * d;
      ++count;
      if (coarse.times[next - 1] == fine.times[i] && ranges[s] > 0)
        trial.at_instants = std::max(trial.at_instants, d / ranges[s]);
    }
    error.rms = count == 0 ? 0 : std::sqrt(squares / static_cast<double>(count));
    error.share = ranges[s] > 0 ? error.largest / ranges[s] : error.largest > 0 ? 1 : 0;
    trial.worst = std::max(trial.worst, error.share);
    trial.errors.push_back(error);
  }
  trial.good = trial.worst <= tolerance;
}

/// The larger step, and of two at the same step the cheaper.
bool better(const Trial& a, const Trial& b) {
  return a.step > b.step || (a.step == b.step && a.cost_ns < b.cost_ns);
}

}  // namespace

std::optional<PartPace> quickest_part(const program::Program& program, const observe::Image& image) {
  Paces paces(program);
  paces.look(image);
  std::optional<PartPace> quickest;
  for (const PartPace& p : paces.found) {
    if (p.shortest > 0 && (!quickest || p.shortest < quickest->shortest)) quickest = p;
  }
  return quickest;
}

std::vector<program::VarId> usual_signals(const program::Program& p) {
  std::set<program::VarId> chosen;
  for (const program::Figure& f : p.figures) {
    for (const auto& panel : f.panels) {
      for (const program::VarId id : panel) {
        if (p.variable(id).type.kind == program::Type::Kind::real) chosen.insert(id);
      }
    }
  }
  if (chosen.empty()) {
    for (const program::State& s : p.states) chosen.insert(s.value);
  }
  return {chosen.begin(), chosen.end()};
}

Advice advise(const std::shared_ptr<const program::Program>& program, const AdviceWish& wish) {
  Advice advice;
  const std::atomic<bool> stop{false};
  const std::vector<Time> steps = ladder(*program);
  advice.compared_every = program->step;

  if (wish.progress && !wish.progress("reference", 0)) return advice;
  Kept reference;
  reference.begin(wish);
  Paces paces(*program);
  std::int64_t images = 0;
  reference.also = [&](const observe::Image& image) {
    if (images++ % 1000 == 0) paces.look(image);
  };
  RunPlan plan = wish.plan;
  plan.native.reset();
  plan.reference = true;
  const auto begin = std::chrono::steady_clock::now();
  Run run(program, plan, wish.make_port, reference);
  const RunResult result = run.execute(stop);
  advice.reference_seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
  advice.reference_evaluations = run.reference() == nullptr ? 0 : run.reference()->evaluations();
  if (!observe::as_asked(result.ending)) {
    advice.trouble = "the reference did not come to its end: " + result.explanation;
    return advice;
  }
  for (const auto& values : reference.values) {
    const auto [low, high] = std::minmax_element(values.begin(), values.end());
    advice.ranges.push_back(values.empty() ? 0 : *high - *low);
  }
  advice.paces = std::move(paces.found);
  std::erase_if(advice.paces, [](const PartPace& p) { return p.shortest == 0; });
  std::sort(advice.paces.begin(), advice.paces.end(),
            [](const PartPace& a, const PartPace& b) { return a.shortest < b.shortest; });

  const std::vector<Method> methods{Method::euler, Method::heun, Method::rk4, Method::implicit, Method::exact};
  double done = 1;
  const double all = 1 + static_cast<double>(methods.size() * steps.size());
  for (const Method method : methods) {
    std::optional<Trial> larger;
    for (auto step = steps.rbegin(); step != steps.rend(); ++step, ++done) {
      Trial trial;
      trial.method = method;
      trial.step = *step;
      const auto variant = program::retimed(*program, *step, method, trial.trouble);
      if (variant == nullptr) {
        if (method != Method::exact) advice.trials.push_back(std::move(trial));
        continue;
      }
      if (wish.progress &&
          !wish.progress(fmt::format("{} {}", program::method_word(method), format_span(*step)), done / all))
        return advice;
      Kept kept;
      kept.begin(wish);
      RunPlan own = wish.plan;
      own.wait_for_native = own.time_steps = true;
      Run one(variant, own, wish.make_port, kept);
      const RunResult ended = one.execute(stop);
      trial.native = one.native() != nullptr && one.native()->ready();
      if (!observe::as_asked(ended.ending)) {
        trial.trouble = ended.explanation;
      } else {
        compare(trial, *program, reference, kept, advice.ranges, wish.tolerance);
        // Of one step of the plant: several of them may make one of the bench.
        trial.cost_ns =
            one.median_step_ns() * static_cast<double>(step->count()) / static_cast<double>(variant->step.count());
        if (larger && larger->at_instants > 0 && trial.at_instants > 0)
          trial.order = std::log(larger->at_instants / trial.at_instants) /
                        std::log(static_cast<double>(larger->step.count()) / static_cast<double>(trial.step.count()));
        larger = trial;
      }
      advice.trials.push_back(trial);
    }
  }
  for (std::size_t i = 0; i < advice.trials.size(); ++i) {
    if (advice.trials[i].good && (!advice.recommended || better(advice.trials[i], advice.trials[*advice.recommended])))
      advice.recommended = i;
  }
  return advice;
}

}  // namespace isodyne::bench
