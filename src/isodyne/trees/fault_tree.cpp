#include "isodyne/trees/fault_tree.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace isodyne::trees {

using program::TreeGate;
using program::TreeInput;

double probability_within(double rate, double seconds) {
  return -std::expm1(-rate * seconds);
}

FaultTree tree_of(const program::Program& p, const program::Hazard& h) {
  FaultTree tree;
  tree.name = h.name, tree.doc = h.doc;
  if (h.over_s > 0) tree.over_s = h.over_s;
  std::map<std::int32_t, std::int32_t> places;
  const auto input = [&](const TreeInput& in) {
    if (in.gate) return in;
    const auto [it, fresh] = places.try_emplace(in.index, static_cast<std::int32_t>(tree.events.size()));
    if (fresh) {
      const program::BasicEvent& e = at(p.basic_events, in.index);
      FaultTree::Event made{e.name, e.doc, e.probability, e.rate, in.index};
      if (e.rate && tree.over_s) made.probability = probability_within(*e.rate, *tree.over_s);
      tree.events.push_back(std::move(made));
    }
    return TreeInput{false, it->second};
  };
  for (const TreeGate& g : h.gates) {
    tree.gates.push_back(g);
    for (TreeInput& in : tree.gates.back().of) in = input(in);
  }
  tree.top = input(*h.top);
  return tree;
}

bool is_reached(const FaultTree& tree, const std::vector<bool>& happened) {
  std::vector<bool> gates;
  const auto value = [&](const TreeInput& in) {
    const auto i = static_cast<std::size_t>(in.index);
    return in.gate ? gates[i] : happened[i];
  };
  for (const TreeGate& g : tree.gates) {
    const auto n = static_cast<std::size_t>(std::count_if(g.of.begin(), g.of.end(), value));
    const bool any = g.kind == TreeGate::Kind::any, some = g.kind == TreeGate::Kind::at_least;
    gates.push_back(n >= (any ? 1 : some ? static_cast<std::size_t>(g.least) : g.of.size()));
  }
  return value(tree.top);
}

}  // namespace isodyne::trees
