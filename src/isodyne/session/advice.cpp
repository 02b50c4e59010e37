#include "isodyne/session/advice.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/program/groups.h"

namespace isodyne::session {

namespace {

using program::Method;

/// Keeps chosen signals at every instant.
struct Kept : RunWatcher {
  std::vector<program::VarId> signals;
  std::vector<Time> times;
  std::vector<std::vector<double>> values;  ///< per signal
  std::function<void(const observe::Image&)> also;
  bool native = false;
  long evaluations = 0;  ///< of the reference
  double median_step_ns = 0;

  void image(const observe::Image& image) override {
    times.push_back(image.at);
    for (std::size_t i = 0; i < signals.size(); ++i) values[i].push_back(image.variables[signals[i]]);
    if (also) also(image);
  }
  void ended(const bench::Run& run, bench::RunResult&) override {
    native = run.native() != nullptr && run.native()->ready();
    evaluations = run.reference() == nullptr ? 0 : run.reference()->evaluations();
    median_step_ns = run.median_step_ns();
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
  for (const program::PeriodicTask& s : p.periodic_tasks) most = std::min(most, s.period);
  std::set<Time> steps{p.step};
  for (const std::int64_t k : {2, 5, 10, 20, 50}) {
    if (p.step * k <= most) steps.insert(p.step * k);
  }
  for (const std::int64_t k : {2, 4}) {
    if (p.step.count() % k == 0) steps.insert(p.step / k);
  }
  return {steps.begin(), steps.end()};
}

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

namespace {

/// One asking for advice: the yardstick, then every step and method against it.
class Asking {
 public:
  explicit Asking(const AdviceWish& wish) : wish_(wish), program_(*wish.request.bench->program) {
    advice_.compared_every = program_.step;
  }

  Advice answer() {
    if (!shown("reference", 0) || !run_reference()) return std::move(advice_);
    const std::vector<Method> methods{Method::euler, Method::heun, Method::rk4, Method::implicit, Method::exact};
    const std::vector<Time> steps = ladder(program_);
    const double all = 1 + static_cast<double>(methods.size() * steps.size());
    double done = 1;
    for (const Method method : methods) {
      std::optional<Trial> larger;
      for (auto step = steps.rbegin(); step != steps.rend(); ++step, ++done) {
        if (!try_one(method, *step, done / all, larger)) return std::move(advice_);
      }
    }
    recommend();
    return std::move(advice_);
  }

 private:
  bool shown(const std::string& what, double share) const { return !wish_.progress || wish_.progress(what, share); }

  bool run_reference() {
    reference_.begin(wish_);
    bench::Paces paces(program_);
    std::int64_t images = 0;
    reference_.also = [&](const observe::Image& image) {
      if (images++ % 1000 == 0) paces.look(image);
    };
    RunRequest yardstick = wish_.request;
    yardstick.plan.native.reset();
    yardstick.plan.reference = true;
    if (const auto trouble = bench::trouble_with(program_, yardstick.plan)) {
      advice_.trouble = trouble->text();
      return false;
    }
    const auto begin = std::chrono::steady_clock::now();
    const RunOutcome outcome = run_here(yardstick, {&reference_});
    advice_.reference_seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    advice_.reference_evaluations = reference_.evaluations;
    if (!observe::as_asked(outcome.ending)) {
      advice_.trouble = "the reference did not come to its end: " + outcome.why();
      return false;
    }
    for (const auto& values : reference_.values) {
      const auto [low, high] = std::minmax_element(values.begin(), values.end());
      advice_.ranges.push_back(values.empty() ? 0 : *high - *low);
    }
    advice_.paces = std::move(paces.found);
    std::erase_if(advice_.paces, [](const bench::PartPace& p) { return p.shortest == 0; });
    std::sort(advice_.paces.begin(), advice_.paces.end(),
              [](const bench::PartPace& a, const bench::PartPace& b) { return a.shortest < b.shortest; });
    return true;
  }

  /// False: somebody has had enough. `larger`: the next larger step of the method that came to its end.
  bool try_one(Method method, Time step, double share, std::optional<Trial>& larger) {
    Trial trial;
    trial.method = method;
    trial.step = step;
    const auto variant = program::retimed(program_, step, method, trial.trouble);
    if (variant == nullptr) {
      if (method != Method::exact) advice_.trials.push_back(std::move(trial));
      return true;
    }
    if (!shown(fmt::format("{} {}", program::method_word(method), format_span(step)), share)) return false;
    Kept kept;
    kept.begin(wish_);
    RunRequest own = wish_.request;
    auto of_variant = std::make_shared<Bench>(*own.bench);
    of_variant->program = variant;
    own.bench = std::move(of_variant);
    own.plan.wait_for_native = own.plan.time_steps = true;
    const RunOutcome ended = run_here(own, {&kept});
    trial.native = kept.native;
    if (observe::as_asked(ended.ending)) {
      compare(trial, program_, reference_, kept, advice_.ranges, wish_.tolerance);
      // Of one step of the plant: several of them may make one of the bench.
      trial.cost_ns =
          kept.median_step_ns * static_cast<double>(step.count()) / static_cast<double>(variant->step.count());
      if (larger && larger->at_instants > 0 && trial.at_instants > 0)
        trial.order = std::log(larger->at_instants / trial.at_instants) /
                      std::log(static_cast<double>(larger->step.count()) / static_cast<double>(step.count()));
      larger = trial;
    } else {
      trial.trouble = ended.why();
    }
    advice_.trials.push_back(std::move(trial));
    return true;
  }

  void recommend() {
    for (std::size_t i = 0; i < advice_.trials.size(); ++i) {
      const Trial& trial = advice_.trials[i];
      if (trial.good && (!advice_.recommended || better(trial, advice_.trials[*advice_.recommended])))
        advice_.recommended = i;
    }
  }

  const AdviceWish& wish_;
  const program::Program& program_;
  Kept reference_;
  Advice advice_;
};

}  // namespace

Advice advise(const AdviceWish& wish) {
  return Asking(wish).answer();
}

}  // namespace isodyne::session
