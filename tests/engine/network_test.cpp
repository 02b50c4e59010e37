// The seam of networks, with a kind of our own in a few lines: a capacitor that a current charges.

#include <algorithm>
#include <cmath>

#include <catch2/catch.hpp>

#include "isodyne/engine/native.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;
using namespace std::chrono_literals;

namespace {

constexpr double kCapacitance = 2e-6;

/// v' = i / C by Euler's method; an edge of its second input empties it at once.
class Toy : public engine::NetworkSolver {
 public:
  std::size_t state_size() const override { return 1; }
  bool start(std::span<const double> inputs, std::span<double> state, std::span<double> outputs) override {
    state[0] = 1;
    outputs[0] = state[0];
    why_ = inputs[0] > 100 ? "too much at the start" : "";
    return why_.empty();
  }
  bool step(const engine::NetworkStep& s) override {
    const auto inputs = s.inputs;
    const auto state = s.state;
    Time at = s.from;
    for (const engine::NetworkEdge& e : s.edges) {
      state[0] += to_seconds(e.at - at) * (inputs[0] / kCapacitance);
      if (e.input == 1 && e.to) state[0] = 0;
      at = e.at;
    }
    state[0] += to_seconds(s.to - at) * (inputs[0] / kCapacitance);
    s.outputs[0] = state[0];
    return state[0] < 1000;
  }
  std::string why_not() const override { return why_.empty() ? "the capacitor is at over 1000 V" : why_; }
  std::vector<std::string> describe(std::span<const double> state) const override {
    return {"cap.v = " + std::to_string(static_cast<int>(state[0]))};
  }

 private:
  std::string why_;
};

std::unique_ptr<engine::NetworkSolver> toy(const program::Plant&, const program::Network& n) {
  return n.kind == "toy" ? std::make_unique<Toy>() : nullptr;
}

/// A load on it, which draws what an equation says, stepped by the same method; beside it the same as an equation.
std::string around(const std::string& part) {
  return "model Load {\n  input v : V = 0 V\n  input empty : bool = false\n  input more : A = 0 A\n"
         "  output i : A\n  i = more - v / 100 ohm\n"
         "  output state same : V = 1 V\n  same' = (more - same / 100 ohm) / 2 uF\n}\n"
         "bench B { step 50 us  method euler\n  input more : A = 5 mA\n  part load : Load " +
         part +
         "\n  load.more = more\n  record load.*, more every 50 us\n}\n"
         "scenario s {\n  hold 1 ms\n  set more = 1 A\n  hold 1 ms\n}\n";
}

std::shared_ptr<const program::Program> with_network(const std::string& text, const char* kind = "toy") {
  auto p = std::make_shared<program::Program>(*program_of(text));
  program::Network n;
  n.kind = kind;
  n.nodes = {"load.top"};
  auto& capacitor = n.elements.emplace_back();
  capacitor.model = "Capacitor";
  capacitor.path = "cap";
  capacitor.nodes = {0};
  n.inputs = {p->find("load.i"), p->find("load.empty")};
  n.outputs = {p->find("load.v")};
  n.group = p->variable(n.outputs[0]).group;
  p->networks.push_back(n);
  return p;
}

struct Kept : observe::Observer {
  explicit Kept(const program::Program& p) : v(p.find("load.v")), same(p.find("load.same")) {}
  void image(const observe::Image& image) override { all.emplace_back(image.variables[v], image.variables[same]); }
  program::VarId v, same;
  std::vector<std::pair<double, double>> all;
};

bench::RunResult run_of(const std::shared_ptr<const program::Program>& p, Kept& kept,
                        const std::function<void(bench::RunPlan&)>& change = {}) {
  bench::RunPlan plan;
  plan.scenario = 0;
  plan.networks = toy;
  if (change) change(plan);
  bench::Run run(p, plan, {}, kept);
  const std::atomic<bool> go_on{false};
  return run.execute(go_on);
}

}  // namespace

TEST_CASE("A kind of network that nobody knew is stepped as the equation that it stands for, to the bit") {
  for (const char* part : {"", "step 5 us  method euler", "step 5 us  method euler  on core 1"}) {
    const auto p = with_network(around(part));
    for (const int way : {0, 1, 2}) {
      INFO(part << ", way " << way);
      Kept kept(*p);
      const auto result = run_of(p, kept, [&](bench::RunPlan& plan) {
        if (way == 1) plan.native = engine::NativeSettings::usual(), plan.wait_for_native = true;
        if (way == 2) plan.cores = 2;
      });
      CHECK(result.ending == observe::Ending::completed);
      REQUIRE(kept.all.size() == 41);
      for (const auto& [v, same] : kept.all) CHECK(v == same);
      CHECK(kept.all[0].first == 1);
      CHECK(kept.all.back().first > 90);
    }
  }
}

TEST_CASE("A copied state goes on with its networks, whatever its solver did meanwhile") {
  const auto p = with_network(around("step 5 us  method euler"));
  engine::RunningPlant plant(p, toy);
  engine::PlantState state = plant.start({});
  plant.solve(state);
  const auto steps = [&](engine::PlantState& s, int count) {
    for (int i = 0; i < count; ++i) {
      plant.settle(s);
      REQUIRE(plant.step(s).kind == engine::PlantTrouble::Kind::none);
    }
    plant.settle(s);
    return s[p->find("load.v")];
  };
  steps(state, 10);
  engine::PlantState copy = state;
  const double once = steps(state, 20);
  CHECK(steps(copy, 20) == once);
  CHECK(once != steps(state, 1));
}

TEST_CASE("Edges within a step reach a network with their instants, and once") {
  const auto p = with_network(around(""));
  engine::RunningPlant plant(p, toy);
  engine::PlantState state = plant.start({});
  plant.solve(state);
  plant.settle(state);
  state.network.edges[0] = {{1, Time{20'000}, true}};
  REQUIRE(plant.step(state).kind == engine::PlantTrouble::Kind::none);
  const double i = 5e-3 - 1.0 / 100;
  CHECK(state[p->find("load.v")] == Approx(30e-6 * i / kCapacitance));
  CHECK(state.network.edges[0].empty());
}

TEST_CASE("A network that cannot go on ends the run with its name, its reason and how it stands") {
  // 1 A into 2 uF: 1000 V after 2 ms and a little.
  const std::string text = "scenario s {\n  hold 1 ms\n  set more = 1000 A\n  hold 50 ms\n}\n";
  std::string bench = around("step 5 us  method euler");
  bench.erase(bench.find("scenario s"));
  const auto p = with_network(bench + text);
  for (const bool native : {false, true}) {
    Kept kept(*p);
    const auto result = run_of(p, kept, [&](bench::RunPlan& plan) {
      if (native) plan.native = engine::NativeSettings::usual(), plan.wait_for_native = true;
    });
    CHECK(result.ending == observe::Ending::diverged);
    CHECK(has(result.explanation, "the network of load.top cannot go on at 0.00"));
    CHECK(has(result.explanation, "the capacitor is at over 1000 V"));
    REQUIRE(result.details.size() == 1);
    CHECK(has(result.details[0], "cap.v = "));
  }
  Kept kept(*p);
  const auto start = run_of(p, kept, [&](bench::RunPlan& plan) { plan.overrides = {{p->find("more"), 200.0}}; });
  CHECK(has(start.explanation, "cannot go on at 0 s: too much at the start"));
  const auto unknown = with_network(around(""), "magnetic");
  const auto nobody = run_of(unknown, kept);
  CHECK(has(nobody.explanation, "nothing here solves networks of the kind `magnetic`"));
  bench::RunPlan reference;
  reference.scenario = 0;
  reference.reference = true;
  CHECK(bench::trouble_with(*p, reference));
}
