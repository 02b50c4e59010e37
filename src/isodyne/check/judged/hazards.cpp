#include "isodyne/check/judged/hazards.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {
constexpr std::size_t kMostGates = 100'000;
constexpr int kMostDeep = 1000;  // gates that lead to each other by their names
constexpr std::int32_t kBeingLookedAt = kNone;
}  // namespace

void Hazards::define() {
  for (const lang::BasicEventDecl& e : check_.document.basic_events) event(e);
  for (const lang::HazardDecl& h : check_.document.hazards) hazard(h);
}

std::optional<double> Hazards::number(const lang::Expr& e, const char* unit, const char* what) {
  const NodeId node =
      x_.check_as(e, {&check_.root, nullptr}, {Type::Kind::real, parse_unit(unit)->dimension, kNone}, what);
  return node == kNone ? std::nullopt : check_.constant(node, e.span, what);
}

void Hazards::event(const lang::BasicEventDecl& e) {
  const auto [first, fresh] =
      events_.try_emplace(e.name.text, static_cast<std::int32_t>(check_.program.basic_events.size()));
  if (!fresh) {
    check_.error(Code::duplicate, e.name.span, fmt::format("basic event `{}` is defined twice", e.name.text))
        .notes.push_back({at(check_.program.basic_events, first->second).span, "the first is here"});
    return;
  }
  BasicEvent made;
  made.name = e.name.text, made.doc = e.doc, made.span = e.name.span;
  if (e.rate && e.probability)
    check_.error(Code::unexpected, e.probability->span, "an event has a rate or a probability, not both");
  if (e.rate) made.rate = number(*e.rate, "1/s", "the rate of an event");
  if (made.rate && !(*made.rate >= 0))
    check_.error(Code::out_of_limits, e.rate->span, "the rate of an event is not below 0");
  if (e.probability) made.probability = number(*e.probability, "1", "the probability of an event");
  if (made.probability && !(*made.probability >= 0 && *made.probability <= 1))
    check_.error(Code::out_of_limits, e.probability->span, "a probability is 0 to 1");
  if (e.faults.size() > 1)
    check_.error(Code::unexpected, e.faults[1].span, "a basic event is one fault",
                 "make an event of each, and join them by a gate");
  if (!e.faults.empty()) made.fault = named_.fault(e.faults[0]).value_or(kNone);
  check_.program.basic_events.push_back(std::move(made));
}

void Hazards::hazard(const lang::HazardDecl& h) {
  if (named_.twice(h, check_.document.hazards, "hazard")) return;
  Hazard made;
  made.name = h.name.text, made.doc = h.doc, made.level = h.level, made.source = h.source, made.span = h.name.span;
  made.broken = named_.requirements(h.broken);
  made.requirements = named_.requirements(h.requirements);
  for (const lang::Name& name : h.scenarios) {
    if (const auto s = named_.scenario(name)) made.scenarios.push_back(*s);
  }
  for (const std::int32_t r : made.broken) {
    if (at(check_.program.requirements, r).by_review)
      check_.error(Code::wrong_kind, h.name.span,
                   fmt::format("{} is judged by review, so no run shows whether the hazard is reached",
                               at(check_.program.requirements, r).name));
  }
  if (h.over) made.over_s = number(*h.over, "s", "the time of a hazard").value_or(0);
  if (h.over && made.over_s < 0) check_.error(Code::out_of_limits, h.over->span, "a time is not below 0");
  Tree tree{made, {}, {}, 0};
  for (const lang::HazardDecl::Gate& g : h.gates) {
    const auto [first, fresh] = tree.decls.try_emplace(g.name.text, &g);
    if (!fresh)
      check_.error(Code::duplicate, g.name.span, fmt::format("gate `{}` is defined twice", g.name.text))
          .notes.push_back({first->second->name.span, "the first is here"});
    if (const auto event = events_.find(g.name.text); event != events_.end())
      check_.error(Code::duplicate, g.name.span, fmt::format("`{}` is a basic event already", g.name.text))
          .notes.push_back({at(check_.program.basic_events, event->second).span, "it is defined here"});
  }
  for (const lang::HazardDecl::Gate& g : h.gates) (void)named_input(tree, g.name);
  if (h.top) made.top = input(tree, *h.top, nullptr);
  if (!h.top && !h.gates.empty())
    check_.error(Code::missing, h.name.span, fmt::format("hazard `{}` has gates and no top", h.name.text),
                 fmt::format("top = {}", h.gates.back().name.text));
  check_.program.hazards.push_back(std::move(made));
}

std::optional<TreeInput> Hazards::named_input(Tree& tree, const lang::Name& name) {
  const auto known = tree.gates.find(name.text);
  if (known != tree.gates.end() && known->second != kBeingLookedAt) return TreeInput{true, known->second};
  if (known != tree.gates.end()) {
    check_.error(Code::recursion, name.span, fmt::format("gate `{}` takes itself, by way of others", name.text),
                 "what leads to a gate stands below it");
    return std::nullopt;
  }
  if (const auto gate = tree.decls.find(name.text); gate != tree.decls.end()) {
    if (tree.deep >= kMostDeep) {
      check_.error(Code::too_deep, name.span, fmt::format("gates lead to each other at most {} deep", kMostDeep));
      return std::nullopt;
    }
    tree.gates[name.text] = kBeingLookedAt;
    ++tree.deep;
    const auto made = input(tree, gate->second->formula, gate->second);
    --tree.deep;
    return made;
  }
  if (const auto event = events_.find(name.text); event != events_.end()) return TreeInput{false, event->second};
  std::vector<std::string> words;
  for (const auto& [word, g] : tree.decls) words.push_back(word);
  for (const auto& [word, e] : events_) words.push_back(word);
  report_unknown_word(check_, name, "gate or basic event", words);
  return std::nullopt;
}

std::optional<TreeInput> Hazards::input(Tree& tree, const lang::TreeFormula& f, const lang::HazardDecl::Gate* named) {
  using FormulaKind = lang::TreeFormula::Kind;
  std::optional<TreeInput> made;
  if (f.kind == FormulaKind::name && named == nullptr) return named_input(tree, f.name);
  TreeGate gate;
  if (named != nullptr) gate.name = named->name.text, gate.doc = named->doc;
  gate.least = f.least;
  gate.kind = f.kind == FormulaKind::all        ? TreeGate::Kind::all
              : f.kind == FormulaKind::at_least ? TreeGate::Kind::at_least
              : f.kind == FormulaKind::given    ? TreeGate::Kind::inhibit
                                         : TreeGate::Kind::any;
  bool good = true;
  std::set<std::pair<bool, std::int32_t>> taken;
  const auto take = [&](const std::optional<TreeInput>& one, Span span) {
    if (!one) return void(good = false);
    if (!taken.insert({one->gate, one->index}).second) {
      check_.error(Code::duplicate, span, "this gate takes the same twice");
      good = false;
    }
    gate.of.push_back(*one);
  };
  if (f.kind == FormulaKind::name) take(named_input(tree, f.name), f.span);
  for (const lang::TreeFormula& one : f.of) take(input(tree, one, nullptr), one.span);
  if (good && tree.made.gates.size() >= kMostGates) {
    check_.error(Code::too_large, f.span, fmt::format("a tree has at most {} gates", kMostGates));
    good = false;
  }
  if (good) {
    made = TreeInput{true, static_cast<std::int32_t>(tree.made.gates.size())};
    tree.made.gates.push_back(std::move(gate));
    if (named != nullptr) tree.gates[named->name.text] = made->index;
  } else if (named != nullptr) {
    tree.gates.erase(named->name.text);
  }
  return made;
}

}  // namespace isodyne::check
