#include "isodyne/engine/network.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace isodyne::engine {

using program::kNone;

Networks::Networks(const program::Program& program, const NetworkMaker& make) : program_(program) {
  std::size_t number = 0, output = 0;
  for (const program::Network& n : program.networks) {
    One one;
    one.of = &n;
    if (make) one.solver = make(program, n);
    one.period = program::at(program.groups, n.group).step;
    one.number = number;
    one.output = output;
    one.size = one.solver == nullptr ? 0 : one.solver->state_size();
    one.inputs.resize(n.inputs.size());
    number += one.size;
    output += n.outputs.size();
    all_.push_back(std::move(one));
  }
}

void Networks::make_room(PlantState& state) const {
  NetworkState& n = state.network;
  n.edges.resize(all_.size());
  for (auto& list : n.edges) list.reserve(NetworkState::kMostEdges);
  std::size_t numbers = 1, outputs = 1;  // one that nobody uses, so that there is a first
  for (const One& one : all_) {
    numbers += one.size;
    outputs += one.of->outputs.size();
  }
  n.numbers.assign(numbers, 0);
  n.next.assign(outputs, 0);
}

void Networks::gather(One& one, std::span<const double> values) const {
  for (std::size_t i = 0; i < one.inputs.size(); ++i)
    one.inputs[i] = values[static_cast<std::size_t>(one.of->inputs[i])];
}

bool Networks::finite(One& one, std::span<const double> outputs) const {
  for (std::size_t i = 0; i < outputs.size(); ++i) {
    if (std::isfinite(outputs[i])) continue;
    one.bad = static_cast<int>(i);
    return false;
  }
  return true;
}

std::int32_t Networks::start(PlantState& state) {
  for (std::size_t i = 0; i < all_.size(); ++i) {
    One& one = all_[i];
    const auto out = outputs(one, state.network);
    gather(one, state.values);
    if (one.solver == nullptr || !one.solver->start(one.inputs, numbers(one, state.network), out) || !finite(one, out))
      return static_cast<std::int32_t>(i);
    one.solver->prepare(one.inputs);
  }
  for (const program::Network& n : program_.networks) arrive(n.group, state.values, state.network);
  return kNone;
}

std::int32_t Networks::step(std::int32_t group, Time from, std::span<double> values, NetworkState& state) {
  for (std::size_t i = 0; i < all_.size(); ++i) {
    One& one = all_[i];
    if (one.of->group != group) continue;
    const auto out = outputs(one, state);
    gather(one, values);
    auto& edges = state.edges[i];
    const bool good =
        one.solver->step(from, from + one.period, one.inputs, edges, numbers(one, state), out) && finite(one, out);
    edges.clear();
    if (!good) return static_cast<std::int32_t>(i);
  }
  return kNone;
}

void Networks::arrive(std::int32_t group, std::span<double> values, NetworkState& state) {
  for (const One& one : all_) {
    if (one.of->group != group) continue;
    const auto out = outputs(one, state);
    for (std::size_t i = 0; i < out.size(); ++i) values[static_cast<std::size_t>(one.of->outputs[i])] = out[i];
  }
}

std::string Networks::why_not(std::int32_t network) const {
  const One& one = all_[static_cast<std::size_t>(network)];
  if (one.solver == nullptr) return fmt::format("nothing here solves networks of the kind `{}`", one.of->kind);
  if (one.bad < 0) return one.solver->why_not();
  const program::VarId id = one.of->outputs[static_cast<std::size_t>(one.bad)];
  return fmt::format("it gives no number for `{}`", program_.variable(id).name);
}

std::vector<std::string> Networks::describe(std::int32_t network, const NetworkState& state) const {
  const One& one = all_[static_cast<std::size_t>(network)];
  if (one.solver == nullptr) return {};
  return one.solver->describe({&state.numbers[one.number], one.size});
}

}  // namespace isodyne::engine
