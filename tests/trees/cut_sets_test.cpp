// Fault trees: cut sets and probabilities against published values, closed forms, and a naive version.

#include <algorithm>
#include <cmath>
#include <set>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/core/random.h"
#include "isodyne/trees/cut_sets.h"

using namespace isodyne;
using program::TreeGate;
using program::TreeInput;
using trees::CutSets;
using trees::FaultTree;
using Kind = TreeGate::Kind;

namespace {

/// Puts a tree together by names.
struct TreeMaker {
  FaultTree tree;
  TreeInput event(const std::string& name, std::optional<double> p = {}) {
    for (std::size_t i = 0; i < tree.events.size(); ++i) {
      if (tree.events[i].name == name) return {false, static_cast<std::int32_t>(i)};
    }
    tree.events.push_back({name, "", p, {}, program::kNone});
    return {false, static_cast<std::int32_t>(tree.events.size()) - 1};
  }
  TreeInput gate(Kind kind, std::vector<TreeInput> of, int least = 0) {
    tree.gates.push_back({"", "", kind, least, std::move(of)});
    return tree.top = {true, static_cast<std::int32_t>(tree.gates.size()) - 1};
  }
};

using Sets = std::set<std::set<std::int32_t>>;

/// Of all ways in which the events can have happened, those that reach the top and have none within them that does.
Sets naive_cut_sets(const FaultTree& tree) {
  const std::size_t n = tree.events.size();
  Sets found;
  for (std::size_t size = 0; size <= n; ++size) {
    for (std::size_t bits = 0; bits < (std::size_t{1} << n); ++bits) {
      std::set<std::int32_t> one;
      std::vector<bool> happened(n);
      for (std::size_t e = 0; e < n; ++e) {
        if (((bits >> e) & 1) == 0) continue;
        one.insert(static_cast<std::int32_t>(e)), happened[e] = true;
      }
      if (one.size() != size || !trees::is_reached(tree, happened)) continue;
      const bool minimal = std::none_of(found.begin(), found.end(), [&](const auto& f) {
        return std::includes(one.begin(), one.end(), f.begin(), f.end());
      });
      if (minimal) found.insert(one);
    }
  }
  return found;
}

/// The sum over all ways, with an event that has happened, or has not, for certain.
double naive_probability(const FaultTree& tree, std::int32_t given = -1, bool happened_given = false) {
  const std::size_t n = tree.events.size();
  double sum = 0;
  for (std::size_t bits = 0; bits < (std::size_t{1} << n); ++bits) {
    double p = 1;
    std::vector<bool> happened(n);
    for (std::size_t e = 0; e < n; ++e) {
      happened[e] = ((bits >> e) & 1) != 0;
      const double own = static_cast<std::int32_t>(e) == given ? (happened_given ? 1 : 0) : *tree.events[e].probability;
      p *= happened[e] ? own : 1 - own;
    }
    if (p > 0 && trees::is_reached(tree, happened)) sum += p;
  }
  return sum;
}

Sets all_of(const CutSets& sets, std::size_t most) {
  Sets found;
  for (const trees::CutSet& c : sets.up_to(1000, most)) found.insert({c.events.begin(), c.events.end()});
  return found;
}

/// With gates of every kind, and events and gates that are taken several times.
FaultTree random_tree(RandomStream& random, std::size_t events, std::size_t gates) {
  TreeMaker m;
  for (std::size_t e = 0; e < events; ++e) m.event(fmt::format("e{}", e), std::pow(10.0, -3 * random.uniform()));
  for (std::size_t g = 0; g < gates; ++g) {
    const auto below = [&] {
      const bool gate = g > 0 && random.uniform() < 0.5;
      const double n = static_cast<double>(gate ? g : events);
      return TreeInput{gate, static_cast<std::int32_t>(random.uniform() * n)};
    };
    std::vector<TreeInput> of;
    const std::size_t inputs = 2 + static_cast<std::size_t>(random.uniform() * 3);
    while (of.size() < inputs) {
      const TreeInput in = below();
      if (std::find(of.begin(), of.end(), in) == of.end() || random.uniform() < 0.1) of.push_back(in);
    }
    const double kind = random.uniform();
    m.gate(kind < 0.35   ? Kind::all
           : kind < 0.75 ? Kind::any
           : kind < 0.85 ? Kind::inhibit
                         : Kind::at_least,
           of, 1 + static_cast<int>(random.uniform() * static_cast<double>(of.size())));
  }
  return std::move(m.tree);
}

}  // namespace

TEST_CASE(
    "The pressure tank of the Fault Tree Handbook has the cut sets and the probability that are published there") {
  // NUREG-0492 (1981), chapter VIII: five cut sets, 3.4e-5.
  TreeMaker m;
  const auto k1_r = m.gate(Kind::any, {m.event("K1", 3e-5), m.event("R", 1e-4)});
  const auto s1 = m.gate(Kind::any, {m.event("S1", 3e-5), k1_r});
  const auto both = m.gate(Kind::all, {m.event("S", 1e-4), s1});
  const auto k2 = m.gate(Kind::any, {m.event("K2", 3e-5), both});
  m.gate(Kind::any, {m.event("T", 5e-6), k2});
  const auto sets = CutSets::of(m.tree);
  REQUIRE(sets);
  CHECK(sets->count() == 5);
  CHECK(sets->by_order()[1] == 2);
  CHECK(sets->by_order()[2] == 3);
  CHECK(*sets->rare_event_bound() == Approx(3e-5 + 5e-6 + 3e-9 + 1e-8 + 3e-9).epsilon(1e-12));
  CHECK(*sets->probability() == Approx(3.5e-5).epsilon(0.01));
  const auto first = sets->first(2);
  REQUIRE(first.size() == 2);
  CHECK(m.tree.events[static_cast<std::size_t>(first[0].events.at(0))].name == "K2");
  CHECK(m.tree.events[static_cast<std::size_t>(first[1].events.at(0))].name == "T");
}

TEST_CASE("Random trees come to what looking at every way says: cut sets, probability and importance") {
  RandomStream random(25, "trees");
  for (int trial = 0; trial < 300; ++trial) {
    const FaultTree tree =
        random_tree(random, 3 + static_cast<std::size_t>(trial) % 8, 1 + static_cast<std::size_t>(trial) % 11);
    INFO("trial " << trial);
    const auto sets = CutSets::of(tree);
    REQUIRE(sets);
    const Sets naive = naive_cut_sets(tree);
    CHECK(sets->count() == static_cast<double>(naive.size()));
    CHECK(all_of(*sets, 10'000) == naive);
    const double top = naive_probability(tree);
    CHECK(*sets->probability() == Approx(top).epsilon(1e-12).margin(1e-300));
    double bound = 0;
    std::vector<double> with(tree.events.size());
    for (const auto& set : naive) {
      double p = 1;
      for (const std::int32_t e : set) p *= *tree.events[static_cast<std::size_t>(e)].probability;
      bound += p;
      for (const std::int32_t e : set) with[static_cast<std::size_t>(e)] += p;
    }
    CHECK(*sets->rare_event_bound() == Approx(bound).epsilon(1e-12));
    CHECK(bound >= top * (1 - 1e-12));
    for (std::size_t e = 0; e < tree.events.size(); ++e) {
      const auto id = static_cast<std::int32_t>(e);
      const double yes = naive_probability(tree, id, true), no = naive_probability(tree, id, false);
      const trees::Importance& i = sets->importance().at(e);
      CHECK(i.birnbaum == Approx(yes - no).epsilon(1e-9).margin(1e-14));
      CHECK(i.criticality == Approx((yes - no) * *tree.events[e].probability / top).epsilon(1e-9).margin(1e-14));
      CHECK(i.fussell_vesely == Approx(with[e] / bound).epsilon(1e-9).margin(1e-14));
      CHECK(i.achievement == Approx(yes / top).epsilon(1e-9));
      if (no > 1e-9 * top) CHECK(i.reduction == Approx(top / no).epsilon(1e-6));
      if (no == 0) CHECK(std::isinf(i.reduction));
    }
    // The most probable ones, whatever their number.
    std::vector<double> products;
    for (const auto& set : naive) {
      products.push_back(1);
      for (const std::int32_t e : set) products.back() *= *tree.events[static_cast<std::size_t>(e)].probability;
    }
    std::sort(products.rbegin(), products.rend());
    const auto first = sets->first(3);
    REQUIRE(first.size() == std::min<std::size_t>(3, naive.size()));
    for (std::size_t i = 0; i < first.size(); ++i) CHECK(*first[i].probability == Approx(products[i]).epsilon(1e-12));
  }
}

TEST_CASE("So many of so many, large products and long chains have the numbers of their closed forms") {
  SECTION("k of n") {
    TreeMaker m;
    std::vector<TreeInput> of;
    for (int i = 0; i < 30; ++i) of.push_back(m.event(fmt::format("e{}", i), 0.1));
    m.gate(Kind::at_least, of, 5);
    const auto sets = CutSets::of(m.tree);
    REQUIRE(sets);
    CHECK(sets->count() == 142506);
    CHECK(sets->by_order()[5] == 142506);
    double p = 0;  // binomial
    for (int k = 5; k <= 30; ++k)
      p += std::exp(std::lgamma(31) - std::lgamma(k + 1) - std::lgamma(31 - k)) * std::pow(0.1, k) *
           std::pow(0.9, 30 - k);
    CHECK(*sets->probability() == Approx(p).epsilon(1e-12));
    CHECK(*sets->rare_event_bound() == Approx(142506 * 1e-5).epsilon(1e-12));
    CHECK(sets->up_to(4, 10).empty());
    CHECK(sets->up_to(5, 10).size() == 10);
  }
  SECTION("more than can be counted one by one") {
    TreeMaker m;
    std::vector<TreeInput> all;
    for (int g = 0; g < 20; ++g) {
      std::vector<TreeInput> of;
      for (int i = 0; i < 10; ++i) of.push_back(m.event(fmt::format("e{}_{}", g, i), 0.01));
      all.push_back(m.gate(Kind::any, of));
    }
    m.gate(Kind::all, all);
    const auto sets = CutSets::of(m.tree);
    REQUIRE(sets);
    CHECK(sets->count() == Approx(1e20));
    CHECK(trees::count_text(sets->count()) == "about 1e+20");
    CHECK(trees::count_text(9007199254740991) == "9007199254740991");
    CHECK(sets->by_order()[CutSets::kOrders - 1] == Approx(1e20));
    CHECK(*sets->probability() == Approx(std::pow(1 - std::pow(0.99, 10), 20)).epsilon(1e-12));
    CHECK(sets->first(7).size() == 7);
  }
  SECTION("as deep as a hundred thousand") {
    TreeMaker m;
    TreeInput chain = m.event("e0", 1e-7);
    constexpr int kDeep = 100'000;
    m.tree.events.reserve(kDeep);
    for (int i = 1; i < kDeep; ++i) {
      m.tree.events.push_back({fmt::format("e{}", i), "", 1e-7, {}, program::kNone});
      chain = m.gate(Kind::any, {{false, i}, chain});
    }
    const auto sets = CutSets::of(m.tree);
    REQUIRE(sets);
    CHECK(sets->count() == kDeep);
    CHECK(*sets->probability() == Approx(-std::expm1(kDeep * std::log1p(-1e-7))).epsilon(1e-9));
    CHECK(sets->up_to(1, 1'000'000).size() == kDeep);
  }
}

TEST_CASE("A tree whose diagram grows beyond all measure is refused, and one without probabilities has cut sets") {
  TreeMaker m;
  // Each event of a column meets each of another: no order of the events keeps the diagram small.
  std::vector<TreeInput> all;
  for (int g = 0; g < 40; ++g) {
    std::vector<TreeInput> of;
    for (int i = 0; i < 6; ++i) of.push_back(m.event(fmt::format("e{}", (g * 7 + i * i * 5) % 41)));
    all.push_back(m.gate(Kind::all, of));
  }
  m.gate(Kind::at_least, all, 9);
  const auto refused = CutSets::of(m.tree, 1000);
  REQUIRE_FALSE(refused);
  CHECK(refused.failure().text().find("more than 1000 nodes, in each of 3 orders") != std::string::npos);

  TreeMaker k;
  const auto a = k.event("a"), b = k.event("b", 0.1), c = k.event("c", 0.5), d = k.event("d", 0.5);
  const auto both = k.gate(Kind::all, {a, b});
  k.gate(Kind::any, {both, c, k.gate(Kind::all, {c, d})});
  const auto sets = CutSets::of(k.tree);
  REQUIRE(sets);
  CHECK(sets->count() == 2);
  CHECK_FALSE(sets->probability());
  CHECK_FALSE(sets->rare_event_bound());
  CHECK(sets->importance().empty());
  CHECK(sets->without_probability() == std::vector<std::int32_t>{a.index});
  CHECK(sets->in_none() == std::vector<std::int32_t>{d.index});
  const auto first = sets->first(10);
  REQUIRE(first.size() == 2);
  CHECK(first[0].events == std::vector<std::int32_t>{c.index});  // the fewest events first
  CHECK(*first[0].probability == 0.5);
  CHECK_FALSE(first[1].probability);
}
