#pragma once
// The seam behind which the solvers of networks stand: circuits, power networks, paths. Nothing above it learns what a
// network is made of.
//
// A network belongs to a group and is stepped with it. At an instant its outputs are known as states are, and equations
// give its inputs; from there step() leads to the group's next instant. So it needs no place in the order of equations,
// and what depends on the same network comes one step later. What changes during a run lies in PlantState as numbers,
// of which a network asks for as many as it needs: a state is copied, stored and gone back to without the solver
// knowing. What a solver keeps beside that (factorised matrices) must not change what comes out, however the state came
// about.

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "isodyne/core/time.h"
#include "isodyne/engine/gates.h"
#include "isodyne/engine/state.h"
#include "isodyne/program/between.h"

namespace isodyne::engine {

/// What a step of a network has before it, and where it leaves its results.
struct NetworkStep {
  Time from{}, to{};                     ///< one instant of its group, and the next, or a later one
  std::span<const double> inputs;        ///< held throughout, but for the edges
  std::span<const NetworkEdge> edges;    ///< in the order of time
  std::span<const std::int32_t> wanted;  ///< the outputs that need a value, by their places
  std::span<double> state, outputs;
  std::span<GateEdges> made{};  ///< per output, if it makes gates: where its edges go
  /// Of many steps at once: inputs that have other values in each of them, by their places, and those values, one step
  /// after the other.
  std::span<const std::int32_t> moving{};
  std::span<const double> rows{};
  /// Of many steps at once: where the outputs of wanted_between() go as they are at each instant on the way, one row
  /// after the other. Empty: nobody looks.
  std::span<double> seen{};
};

/// What a network has been through since its start, for people who ask what it costs. Of copied states that went
/// their own ways it is the sum.
struct NetworkAccount {
  std::int64_t steps = 0;         ///< of its group
  std::int64_t eventful = 0;      ///< those of them in which something was switched, or began or ended by itself
  std::int64_t first_visits = 0;  ///< combinations that were met for the first time after the start, and made then
  std::int64_t forgotten = 0;     ///< combinations that made room for others
  double step_ns = 0;             ///< mean of a step, where steps were timed; else 0
  struct Combination {
    std::vector<std::string> on;  ///< what is on, and what conducts, in the order of the text
    std::int64_t steps = 0;
  };
  std::vector<Combination> visited;  ///< those that are remembered, by the number of steps that they were there
};

/// Something that was cut off and came to nothing at once: an output, and what it was.
struct NetworkLoss {
  Time at{};
  std::int32_t output = 0;
  double value = 0;
};

class NetworkSolver {
 public:
  virtual ~NetworkSolver() = default;

  /// Before start(): the outputs that steps will be asked for which end between two instants of the bench; at these
  /// instants all are wanted.
  virtual void wanted_between(std::span<const std::int32_t> outputs) { (void)outputs; }
  /// How many numbers its state has; always the same.
  virtual std::size_t state_size() const = 0;
  /// Its state and its outputs at the first instant, for these inputs; outputs come with the values that they were
  /// given for the start. False: there is no such state.
  virtual bool start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) = 0;
  /// After the start: makes ready what the steps will need, as far as it can be known. May allocate and take its time.
  virtual void prepare(std::span<const double> inputs) { (void)inputs; }
  /// Parameters, which stand behind the other inputs, have other values from this instant on. Makes anew what depends
  /// on them, which takes its time. False: it cannot go on with them.
  virtual bool parameters_changed(std::span<const double> inputs) {
    (void)inputs;
    return true;
  }
  /// Whether it may be asked to go over several steps of its group at once, where nobody looks in between. What comes
  /// out is what single steps would give, to the bit.
  virtual bool takes_many() const { return false; }
  /// On the stepping thread: never allocates, locks, throws or blocks. False: it cannot go on.
  virtual bool step(const NetworkStep& step) = 0;
  /// What was lost since this was last forgotten. On the stepping thread.
  virtual std::span<const NetworkLoss> losses() const { return {}; }
  virtual void forget_losses() {}
  /// After step() gave false over many steps: the instant from which it could not go on.
  virtual Time stuck_from() const { return {}; }
  /// After start() or step() gave false: why, in a line, with the element that is to blame. Not on the stepping thread.
  virtual std::string why_not() const = 0;
  /// Not on the stepping thread, and not while it steps.
  virtual NetworkAccount account() const { return {}; }
  /// How it stands, for people who look for what is wrong: a line each. Not on the stepping thread.
  virtual std::vector<std::string> describe(std::span<const double> state) const = 0;
};

/// Makes the solver of a network of a plant; null: it knows none for this kind.
using NetworkMaker =
    std::function<std::unique_ptr<NetworkSolver>(const program::Plant& program, const program::Network& network)>;

/// The networks of a plant, between their solvers and whoever executes the equations.
class Networks : public NetworkStepping {
 public:
  Networks(const program::Plant& program, const NetworkMaker& make);

  bool any() const { return !all_.empty() || gates_.any(); }
  /// Somebody looks at these between two instants of the bench too. Before the run.
  void look_at(std::span<const program::VarId> ids);
  /// What is seen of a network that goes at once: rows of numbers, one for each of its instants on the way.
  struct Seen {
    const double* rows = nullptr;
    std::size_t width = 0, count = 0;  ///< how many rows were made: less than there are where it could not go on
    Time begin{}, period{};            ///< the first row is a period after the beginning, an instant of the bench
  };
  /// Where a quantity is seen only there: which network, and its place in a row. After look_at().
  struct Place {
    std::int32_t network = program::kNone, place = 0;
  };
  Place seen_at(program::VarId id) const;
  /// Of its last way; valid until its next one.
  Seen seen(std::int32_t network) const;
  /// Room in a state that begins.
  void make_room(PlantState& state) const;
  /// From inputs that are solved at the first instant. Gives kNone, or the network that has no start.
  std::int32_t start(PlantState& state);

  /// After trouble between two instants of the bench.
  void catch_up(PlantState& state);
  /// After trouble with a network that went many steps at once: from which instant it could not go on. Until there all
  /// that was seen on the way is known; everything else is further.
  std::optional<Time> stuck_on_the_way() const { return stuck_on_the_way_; }

  std::int32_t step(std::int32_t group, Time from, std::span<double> values, NetworkState& state) override;
  void arrive(std::int32_t group, Time now, std::span<double> values, NetworkState& state) override;
  bool still() const override { return still_; }
  bool idle_wanted() const override { return idle_wanted_; }

  /// Whether all steps of a network up to the next instant of the bench are made at once: see takes_many().
  bool goes_at_once(std::int32_t network) const { return all_[static_cast<std::size_t>(network)].at_once(); }
  /// Of all networks what was lost, and forgets it: act(quantity, when, what it was).
  template <typename Act>
  void take_losses(const Act& act) {
    for (One& one : all_) {
      if (one.solver == nullptr || one.solver->losses().empty()) continue;
      for (const NetworkLoss& l : one.solver->losses())
        act(one.of->outputs[static_cast<std::size_t>(l.output)], l.at, l.value);
      one.solver->forget_losses();
    }
  }
  std::string why_not(std::int32_t network) const;
  /// From now on each step is timed, which costs some 50 ns of it.
  void time_steps() { timed_ = true; }
  NetworkAccount account(std::int32_t network) const;
  std::vector<std::string> describe(std::int32_t network, const NetworkState& state) const;

 private:
  struct One {
    const program::Network* of = nullptr;
    std::unique_ptr<NetworkSolver> solver;
    Time period{};
    std::size_t number = 0, size = 0, output = 0;  ///< its places among the numbers and outputs of all
    /// Inputs that are gates with edges, by their places.
    struct Input {
      std::int32_t place = 0, gate = 0;
    };
    std::vector<Input> gates;
    std::int32_t made = program::kNone;  ///< the first of the gates that it makes: all of its outputs
    bool many = false;                   ///< it may go over many steps: all edges are known at instants of the bench
    std::vector<std::int32_t> moving;    ///< then, inputs that change between two instants of the bench …
    std::vector<double> rows;            ///< … and what they were, one step after the other
    std::vector<program::VarId> moving_ids;
    std::size_t filled = 0;  ///< of rows
    void note_moving(const double* values) {
      double* const to = rows.data() + filled;
      for (std::size_t k = 0; k < moving_ids.size(); ++k) to[k] = values[moving_ids[k]];
      if (filled > 0) {
        for (const program::Glide& g : moving_glides) to[g.input] = (to - moving_ids.size())[g.end];
      }
      filled += moving_ids.size();
    }
    /// Inputs that between two instants of the bench are what they were to come to; and their places in `moving`.
    std::vector<program::Glide> glides, moving_glides;
    std::vector<double> came_to;  ///< per glide
    std::vector<double> inputs;
    std::size_t signals = 0;            ///< inputs that are no parameters: they come first
    std::vector<std::int32_t> all;      ///< places of outputs: of all …
    std::vector<std::int32_t> between;  ///< … and of those that somebody reads between two instants of the bench
    bool whole = true;                  ///< the step that was made ends at an instant of the bench: all have values
    int bad = -1;                       ///< the output that is no number
    Time bench{};                       ///< an instant of the bench, the last that was met
    std::int64_t spent_ns = 0;          ///< in its solver, where steps are timed
    std::span<const std::int32_t> wanted() const { return whole ? all : between; }
    /// All steps up to the next instant of the bench are made at once.
    bool at_once() const { return many && (between.empty() || seen_on_the_way); }
    bool seen_on_the_way = false;  ///< between two instants of the bench nobody but observers wants its outputs
    std::vector<double> seen;      ///< then, what they were: rows of `between`
    std::size_t seen_count = 0;
    Time seen_from{};
  };
  void find_moving(One& one) const;
  void find_glides();
  bool may_go_over_many(const One& one) const;
  bool solve(One& one, const NetworkStep& step) const;
  bool step_at_once(One& one, Time from, std::span<const double> values, std::vector<NetworkEdge>& edges,
                    NetworkState& state);
  bool go_all_the_way(One& one, Time from, Time to, std::vector<NetworkEdge>& edges, NetworkState& state);
  bool gather(One& one, std::span<const double> values, bool of_the_bench) const;
  std::span<double> numbers(const One& one, NetworkState& state) const {
    return {&state.numbers[one.number], one.size};
  }
  std::span<double> outputs(const One& one, NetworkState& state) const {
    return {&state.next[one.output], one.of->outputs.size()};
  }
  bool finite(One& one, std::span<const double> outputs) const;
  bool start(One& one, PlantState& state);
  bool step(One& one, Time from, std::span<const double> values, std::vector<NetworkEdge>& edges, NetworkState& state);
  bool of_bench(One& one, Time t) const {
    const Time since = t - one.bench;
    if (since > Time{} && since < program_.step) return false;  // in most cases: no division
    if (t.count() % program_.step.count() != 0) return false;
    one.bench = t;
    return true;
  }
  void see_on_the_way(const std::vector<bool>& needed, const std::vector<bool>& looked_at);
  bool finite_on_the_way(One& one) const;
  void find_rests(const std::vector<bool>& needed);
  bool nothing_between() const;
  void rest(std::size_t group, Time from, const NetworkState& state);
  void arrive(const One& one, std::span<double> values, NetworkState& state) const;
  void add_edges(const One& one, Time from, Time to, const NetworkState& state, std::vector<NetworkEdge>& edges) const;

  const program::Plant& program_;
  Gates gates_;
  std::vector<One> all_;
  /// Per group: those that make gates, and the others; their places in all_.
  std::vector<std::vector<std::int32_t>> makers_, others_;
  /// Steps of a group in which nothing has to be done: those that begin after `after` and before `until`.
  struct Rest {
    bool may = false;    ///< all of its networks go at once with what they know, and it has no gates of its own
    bool skims = false;  ///< all of its networks go at once, and nobody else asks for gates between
    Time after = Time::max(), until{}, period{};
    Time begin = Time::max(), end{};  ///< the step of the bench that was begun last
    /// Neither the first nor the last of its steps there.
    bool is_between(Time from, Time to) const { return from > begin && to < end; }
    bool holds(Time from) const { return from > after && from < until; }
  };
  std::vector<Rest> rests_;
  std::vector<bool> moving_;            ///< per variable: it may change between two instants of the bench
  std::vector<program::VarId> copied_;  ///< per variable: what it is a plain copy of
  std::optional<Time> stuck_on_the_way_;
  bool still_ = false, idle_wanted_ = false, timed_ = false;
};

}  // namespace isodyne::engine
