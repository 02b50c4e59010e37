#include "isodyne/judge/outline.h"

namespace isodyne::judge {

using Kind = program::FormulaNode::Kind;

namespace {

Bounds opposite(const Bounds& b) {
  return {~b.high, ~b.low, ~b.most, ~b.least};
}
Bounds both(const Bounds& a, const Bounds& b) {
  // Where one is large, the other is at least its low.
  const std::int64_t most = std::max(std::min(a.most, b.low), std::min(a.low, b.most));
  return {std::min(a.low, b.low), std::min(a.high, b.high), std::min(a.least, b.least), most};
}

/// Somewhere in a window is the opposite of nowhere in it.
bool somewhere(Kind kind) {
  return kind == Kind::within || kind == Kind::last;
}

}  // namespace

bool Outline::can(const program::Requirement& r) {
  return std::none_of(r.nodes.begin(), r.nodes.end(),
                      [](const program::FormulaNode& n) { return n.kind == Kind::until || n.kind == Kind::since; });
}

Outline::Outline(const program::Requirement& r) : trigger_(r.trigger_root), check_(r.check_root) {
  for (const program::FormulaNode& n : r.nodes) nodes_.emplace_back().node = n;
}

void Outline::take(Time begin, Time end, const std::vector<Bounds>& leaves) {
  if (first_ == 0 && spans_.empty()) begin_ = begin;
  spans_.push_back({begin, end});
  std::size_t leaf = 0;
  for (Node& n : nodes_) {
    switch (n.node.kind) {
      case Kind::lnot:
      case Kind::land:
      case Kind::lor:
        logic(n);
        break;
      case Kind::within:
      case Kind::stays:
        ahead(n);
        break;
      case Kind::held:
      case Kind::last:
        behind(n);
        break;
      default:
        n.said.push(leaves[leaf++]);
    }
  }
  forget();
}

bool Outline::next(Bounds& trigger, Bounds& check) {
  if (said(check_).empty() || (trigger_ != program::kNone && said(trigger_).empty())) return false;
  check = said(check_).front();
  said(check_).pop();
  trigger = {0, kMost, kMost, 0};
  if (trigger_ == program::kNone) return true;
  trigger = said(trigger_).front();
  said(trigger_).pop();
  return true;
}

void Outline::logic(Node& n) {
  Queue<Bounds>& a = said(n.node.a);
  if (n.node.kind == Kind::lnot) {
    for (; !a.empty(); a.pop()) n.said.push(opposite(a.front()));
    return;
  }
  Queue<Bounds>& b = said(n.node.b);
  for (; !a.empty() && !b.empty(); a.pop(), b.pop()) {
    const bool and_ = n.node.kind == Kind::land;
    n.said.push(and_ ? both(a.front(), b.front()) : opposite(both(opposite(a.front()), opposite(b.front()))));
  }
}

/// What `everywhere in the window` says of the block that is told of next.
Bounds Outline::folded(const Node& n) const {
  const Bounds& own = n.own.front();
  Bounds b;
  b.low = n.touching.fold.fold();
  b.least = n.inside.empty() ? own.least : std::min(own.least, n.inside.fold.fold());
  b.high = n.inside.empty() ? own.high : std::min(own.high, n.inside.fold.fold());
  b.most = b.low;
  return b;
}

void Outline::tell(Node& n, Bounds b) {
  n.said.push(somewhere(n.node.kind) ? opposite(b) : b);
  n.own.pop();
  ++n.told;
}

/// Windows [t, t + time].
void Outline::ahead(Node& n) {
  Queue<Bounds>& a = said(n.node.a);
  for (; !a.empty(); a.pop()) n.own.push(somewhere(n.node.kind) ? opposite(a.front()) : a.front());
  const std::int64_t there = n.told + static_cast<std::int64_t>(n.own.size());
  const auto own = [&](std::int64_t block) -> const Bounds& { return n.own.data()[block - n.told]; };
  while (n.told < there && span(there - 1).end >= span(n.told).end + n.node.time) {
    const Span block = span(n.told);
    while (n.touching.end < there && span(n.touching.end).begin <= block.end + n.node.time)
      n.touching.push(own(n.touching.end).low);
    while (!n.inside.empty() && n.inside.begin <= n.told) n.inside.pop();
    if (n.inside.empty()) n.inside.begin = n.inside.end = std::max(n.inside.end, n.told + 1);
    while (n.inside.end < there && span(n.inside.end).end <= block.begin + n.node.time)
      n.inside.push(own(n.inside.end).least);
    const Bounds b = folded(n);
    n.touching.pop();
    tell(n, b);
  }
}

/// Windows [t - time, t].
void Outline::behind(Node& n) {
  for (Queue<Bounds>& a = said(n.node.a); !a.empty(); a.pop()) {
    const Bounds own = somewhere(n.node.kind) ? opposite(a.front()) : a.front();
    const Span block = span(n.told);
    n.own.push(own);
    n.touching.push(own.low);
    while (span(n.touching.begin).end < block.begin - n.node.time) n.touching.pop();
    while (!n.inside.empty() && span(n.inside.begin).begin < block.end - n.node.time) n.inside.pop();
    Bounds b = folded(n);
    // Nobody knows what was before the run.
    if (n.node.kind == Kind::held && block.begin - begin_ < n.node.time) b = {kLeast, b.high, kLeast, kLeast};
    tell(n, b);
    n.inside.push(own.least);  // for the blocks to come
  }
}

void Outline::forget() {
  std::int64_t needed = first_ + static_cast<std::int64_t>(spans_.size());
  for (const Node& n : nodes_) {
    if (n.node.a == program::kNone || n.node.kind == Kind::lnot || n.node.b != program::kNone) continue;
    needed = std::min({needed, n.told, n.touching.begin, n.inside.empty() ? needed : n.inside.begin});
  }
  for (; first_ < needed; ++first_) spans_.pop_front();
}

}  // namespace isodyne::judge
