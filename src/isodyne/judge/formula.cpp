#include "isodyne/judge/formula.h"

#include <algorithm>
#include <limits>

namespace isodyne::judge {

using Kind = model::FormulaNode::Kind;

namespace {

constexpr double kFar = std::numeric_limits<double>::infinity();
constexpr Value kTrue{kFar, kFar, true, true}, kFalse{-kFar, -kFar, false, false};

Value exactly(double distance, bool holds) {
  return {distance, distance, holds, holds};
}
Value opposite(const Value& v) {
  return {-v.high, -v.low, !v.possible, !v.certain};
}
Value least(const Value& a, const Value& b) {
  return {std::min(a.low, b.low), std::min(a.high, b.high), a.certain && b.certain, a.possible && b.possible};
}
Value greatest(const Value& a, const Value& b) {
  return {std::max(a.low, b.low), std::max(a.high, b.high), a.certain || b.certain, a.possible || b.possible};
}

}  // namespace

Value Formula::Least::operator()(const Value& a, const Value& b) const {
  return least(a, b);
}
Value Formula::Greatest::operator()(const Value& a, const Value& b) const {
  return greatest(a, b);
}
Formula::Stretch Formula::Join::operator()(const Stretch& first, const Stretch& then) const {
  return {least(first.all, then.all), greatest(first.reached, least(first.all, then.reached))};
}

void Formula::collect(const model::Requirement& r, std::vector<model::NodeId>& expressions) {
  for (const model::FormulaNode& n : r.nodes) expressions.insert(expressions.end(), {n.value, n.margin});
}

Formula::Formula(const model::Requirement& r, std::size_t first)
    : trigger_(r.trigger_root), check_(r.check_root), first_(first) {
  for (const model::FormulaNode& n : r.nodes) {
    Node node{n, Truth{}, {}};
    switch (n.kind) {
      case Kind::truth:
        break;
      case Kind::rises:
      case Kind::falls:
      case Kind::changes:
        node.memory = Edge{};
        break;
      case Kind::lnot:
      case Kind::land:
      case Kind::lor:
        node.memory = Logic{};
        break;
      case Kind::within:
        node.memory = Ahead<Value, Greatest>{};
        break;
      case Kind::stays:
        node.memory = Ahead<Value, Least>{};
        break;
      case Kind::until:
        node.memory = Ahead<Stretch, Join>{};
        break;
      case Kind::held:
        node.memory = Behind<Least>{};
        break;
      case Kind::last:
        node.memory = Behind<Greatest>{};
        break;
      case Kind::since:
        node.memory = Since{};
        break;
    }
    nodes_.push_back(std::move(node));
  }
}

void Formula::look(Node& n, std::size_t expression, Time at, const engine::Evaluator& expressions) {
  const double value = expressions.value(expression);
  auto* edge = std::get_if<Edge>(&n.memory);
  if (edge == nullptr) {
    const bool holds = value != 0;
    const double distance = n.node.margin != model::kNone ? expressions.value(expression + 1) : holds ? kFar : -kFar;
    n.said.push({at, exactly(distance, holds)});
    return;
  }
  const double more = edge->begun ? value - edge->before : 0;
  const bool holds = n.node.kind == Kind::rises ? more > 0 : n.node.kind == Kind::falls ? more < 0 : more != 0;
  const double distance = n.node.kind == Kind::rises ? more : n.node.kind == Kind::falls ? -more : std::abs(more);
  edge->begun = true;
  edge->before = value;
  n.said.push({at, exactly(n.node.number ? distance : holds ? kFar : -kFar, holds)});
}

bool Formula::operands(const Node& n) const {
  const auto ready = [&](std::int32_t place) {
    return place == model::kNone || !nodes_[static_cast<std::size_t>(place)].said.empty();
  };
  return ready(n.node.a) && ready(n.node.b);
}

Sample Formula::operand(std::int32_t place) {
  Node& n = nodes_[static_cast<std::size_t>(place)];
  const Sample s = n.said.front();
  n.said.pop();
  return s;
}

void Formula::take_logic(Node& n) {
  while (operands(n)) {
    const Sample a = operand(n.node.a);
    Value v = a.value;
    if (n.node.kind == Kind::lnot) {
      v = opposite(v);
    } else {
      const Value b = operand(n.node.b).value;
      v = n.node.kind == Kind::land ? least(v, b) : greatest(v, b);
    }
    n.said.push({a.at, v});
  }
}

namespace {
Value result(const Value& v) {
  return v;
}
template <typename Stretch>
Value result(const Stretch& s) {
  return s.reached;
}
}  // namespace

/// A window is whole when an instant has come that lies at its end or beyond.
template <typename Element, typename Operation>
void Formula::take_ahead(Node& n, Ahead<Element, Operation>& m) {
  const auto say = [&] {
    n.said.push({m.waiting.front(), result(m.window.fold())});
    m.waiting.pop();
    m.window.pop();
  };
  while (operands(n)) {
    const Sample a = operand(n.node.a);
    while (!m.waiting.empty() && m.waiting.front() + n.node.time < a.at) say();
    m.waiting.push(a.at);
    if constexpr (std::is_same_v<Element, Stretch>) {
      m.window.push({a.value, operand(n.node.b).value});
    } else {
      m.window.push(a.value);
    }
    if (m.waiting.front() + n.node.time == a.at) say();
  }
}

/// What is not there can hold, or not.
template <typename Element, typename Operation>
void Formula::finish_ahead(Node& n, Ahead<Element, Operation>& m) {
  while (!m.waiting.empty()) {
    const Element seen = m.window.fold();
    const Value unknown{-kFar, kFar, false, true};
    Value v;
    if constexpr (std::is_same_v<Element, Stretch>) {
      v = greatest(seen.reached, least(seen.all, unknown));
    } else {
      v = Operation{}(seen, unknown);
    }
    n.said.push({m.waiting.front(), v});
    m.waiting.pop();
    m.window.pop();
  }
}

template <typename Operation>
void Formula::take_behind(Node& n, Behind<Operation>& m) {
  while (operands(n)) {
    const Sample a = operand(n.node.a);
    if (!m.begun) m.begin = a.at;
    m.begun = true;
    m.window.push(a.value);
    m.times.push(a.at);
    while (m.times.front() < a.at - n.node.time) {
      m.times.pop();
      m.window.pop();
    }
    // Nobody knows what was before the run.
    const bool young = n.node.kind == Kind::held && a.at - m.begin < n.node.time;
    n.said.push({a.at, young ? kFalse : m.window.fold()});
  }
}

void Formula::take_since(Node& n, Since& m) {
  while (operands(n)) {
    const Sample a = operand(n.node.a);
    const Value b = operand(n.node.b).value;
    m.before = m.begun ? greatest(b, least(a.value, m.before)) : b;
    m.begun = true;
    n.said.push({a.at, m.before});
  }
}

void Formula::take(Node& n) {
  std::visit(
      [&](auto& memory) {
        using Memory = std::decay_t<decltype(memory)>;
        if constexpr (std::is_same_v<Memory, Logic>) {
          take_logic(n);
        } else if constexpr (std::is_same_v<Memory, Since>) {
          take_since(n, memory);
        } else if constexpr (std::is_same_v<Memory, Behind<Least>> || std::is_same_v<Memory, Behind<Greatest>>) {
          take_behind(n, memory);
        } else if constexpr (!std::is_same_v<Memory, Truth> && !std::is_same_v<Memory, Edge>) {
          take_ahead(n, memory);
        }
      },
      n.memory);
}

void Formula::image(Time at, const engine::Evaluator& expressions) {
  for (std::size_t i = 0; i < nodes_.size(); ++i) {
    Node& n = nodes_[i];
    if (std::holds_alternative<Truth>(n.memory) || std::holds_alternative<Edge>(n.memory)) {
      look(n, first_ + 2 * i, at, expressions);
    } else {
      take(n);
    }
  }
}

void Formula::finish() {
  for (Node& n : nodes_) {
    take(n);
    std::visit(
        [&](auto& memory) {
          if constexpr (requires { memory.waiting; }) finish_ahead(n, memory);
        },
        n.memory);
  }
}

bool Formula::next(Time& at, Value& trigger, Value& check) {
  const auto& said = [&](std::int32_t place) -> Queue<Sample>& { return nodes_[static_cast<std::size_t>(place)].said; };
  if (said(check_).empty() || (trigger_ != model::kNone && said(trigger_).empty())) return false;
  const Sample c = operand(check_);
  at = c.at;
  check = c.value;
  trigger = trigger_ == model::kNone ? kTrue : operand(trigger_).value;
  return true;
}

}  // namespace isodyne::judge
