#include "isodyne/check/judged/formulas.h"

#include <algorithm>
#include <set>

#include <fmt/format.h>

#include "isodyne/program/margin.h"

namespace isodyne::check {

using Form = lang::RequirementDecl::Form;
using Kind = FormulaNode::Kind;

bool Formulas::over_time(const lang::Expr& e) const {
  return e.kind == lang::ExprKind::over_time ||
         std::any_of(e.args.begin(), e.args.end(), [&](const lang::ExprPtr& a) { return over_time(*a); });
}

bool Formulas::define(const lang::RequirementDecl& decl, Requirement& r) {
  what_ = fmt::format("requirement {}", decl.name.text);
  const bool timed = over_time(*decl.check) || (decl.trigger && over_time(*decl.trigger));
  return (timed ? define_over_time(decl, r) : define_at_once(decl, r)) && note_measures(decl, r);
}

/// The measures that are read, which must not be among operators over time: their values come now and then.
bool Formulas::note_measures(const lang::RequirementDecl& decl, Requirement& r) {
  std::set<VarId> read;
  const auto note = [&](NodeId node) {
    if (node == kNone) return;
    for (const VarId id : check_.program.reads(node)) read.insert(id);
  };
  note(r.trigger);
  note(r.check);
  for (const FormulaNode& n : r.nodes) note(n.value);
  for (std::size_t i = 0; i < check_.program.measures.size(); ++i) {
    if (read.contains(check_.program.measures[i].value)) r.measures.push_back(static_cast<std::int32_t>(i));
  }
  if (r.measures.empty() || (r.nodes.empty() && !r.within && r.form == Requirement::Form::always)) return true;
  check_.error(
      Code::wrong_kind, decl.span, fmt::format("{} speaks of a measure and of time", what_),
      "a measure has a value when its stretch is over: use `always` or `never`, and put the time into the measure");
  return false;
}

bool Formulas::define_at_once(const lang::RequirementDecl& decl, Requirement& r) {
  // `always (A implies B)` is put to the test only where A holds, and its margin is that of B.
  const bool implication =
      decl.form == Form::always && decl.check->kind == lang::ExprKind::binary && decl.check->word == "implies";
  const lang::Expr* trigger = implication ? decl.check->args[0].get() : decl.trigger.get();
  if (trigger != nullptr) r.trigger = x_.check_truth(*trigger, scope(), what_);
  r.check = x_.check_truth(implication ? *decl.check->args[1] : *decl.check, scope(), what_);
  if (decl.within) r.within = x_.check_span(*decl.within, scope(), "the time after `within`");
  if (r.check == kNone || (trigger != nullptr && r.trigger == kNone)) return false;
  if (decl.form == Form::never) r.check = x_.node(Op::lnot, r.check);
  if (decl.form == Form::eventually) r.form = Requirement::Form::eventually;
  if (r.within) {
    r.margin_unit = *parse_unit("s");
  } else {
    const Margin margin = margin_of(check_.program, r.check);
    r.margin = margin.node;
    r.margin_unit = margin.unit;
  }
  return true;
}

bool Formulas::define_over_time(const lang::RequirementDecl& decl, Requirement& r) {
  const lang::Expr& check = *decl.check;
  const bool implication = decl.form == Form::always && check.kind == lang::ExprKind::binary && check.word == "implies";
  const bool until = decl.form == Form::holds && check.args.size() == 2;
  const lang::Expr* trigger = implication || until ? check.args[0].get() : decl.trigger.get();
  if (trigger != nullptr && (r.trigger_root = formula(*trigger, r)) == kNone) return false;
  r.check_root = formula(implication || until ? *check.args[1] : check, r);
  if (r.check_root == kNone) return false;
  if (decl.within) {
    const auto time = x_.check_span(*decl.within, scope(), "the time after `within`");
    r.check_root = add(r, {Kind::within, r.check_root, kNone, kNone, kNone, false, time.value_or(Time{})});
  }
  if (decl.form == Form::never) r.check_root = add(r, {Kind::lnot, r.check_root});
  if (decl.form == Form::eventually) r.form = Requirement::Form::eventually;
  if (until) r.form = Requirement::Form::until;
  // `A until B within T` on its own is asked at the first instant only: as `whenever` the run begins.
  if (decl.form == Form::holds && !until) {
    FormulaNode first;
    first.value = x_.node(Op::le, x_.variable(kTime), x_.constant(0));
    r.trigger_root = add(r, first);
  }
  margins(r, until ? kNone : r.trigger_root);
  return true;
}

std::int32_t Formulas::add(Requirement& r, FormulaNode node) const {
  r.nodes.push_back(node);
  return static_cast<std::int32_t>(r.nodes.size() - 1);
}

std::int32_t Formulas::formula(const lang::Expr& e, Requirement& r) {
  if (e.kind == lang::ExprKind::over_time) {
    if (e.word == "rises" || e.word == "falls" || e.word == "changes") return edge(e, r);
    return in_time(e, r);
  }
  return over_time(e) ? logic(e, r) : truth(e, r);
}

std::int32_t Formulas::logic(const lang::Expr& e, Requirement& r) {
  const bool junction = e.kind == lang::ExprKind::binary && (e.word == "and" || e.word == "or" || e.word == "implies");
  if (!junction && e.kind != lang::ExprKind::invert) {
    check_.error(Code::wrong_kind, e.span, "what is said over time is true or false, and can only be joined by logic",
                 "`and`, `or`, `not`, `implies`");
    return kNone;
  }
  std::int32_t a = formula(*e.args[0], r);
  const std::int32_t b = junction ? formula(*e.args[1], r) : kNone;
  if (a == kNone || (junction && b == kNone)) return kNone;
  if (!junction) return add(r, {Kind::lnot, a});
  if (e.word == "implies") a = add(r, {Kind::lnot, a});
  return add(r, {e.word == "and" ? Kind::land : Kind::lor, a, b});
}

std::int32_t Formulas::truth(const lang::Expr& e, Requirement& r) {
  FormulaNode node;
  node.value = x_.check_truth(e, scope(), what_);
  return node.value == kNone ? kNone : add(r, node);
}

std::int32_t Formulas::edge(const lang::Expr& e, Requirement& r) {
  const lang::Expr& operand = *e.args[0];
  if (over_time(operand)) {
    check_.error(Code::wrong_kind, operand.span, fmt::format("what {} is a quantity, nothing over time", e.word));
    return kNone;
  }
  const Typed value = x_.check(operand, scope());
  if (!value.valid()) return kNone;
  const bool ordered = value.type.numeric() || value.type.kind == Type::Kind::boolean;
  if (value.type.size > 0 || (!ordered && e.word != "changes")) {
    check_.error(Code::type_mismatch, operand.span,
                 fmt::format("{} cannot be what {}", describe(check_.program, value.type), e.word),
                 value.type.size > 0 ? "say which element" : "a choice can only be what `changes`");
    return kNone;
  }
  FormulaNode node;
  node.kind = e.word == "rises" ? Kind::rises : e.word == "falls" ? Kind::falls : Kind::changes;
  node.value = value.node;
  node.number = value.type.numeric();
  const std::int32_t place = add(r, node);
  if (node.number) edge_units_[place] = value.shown;
  return place;
}

std::int32_t Formulas::in_time(const lang::Expr& e, Requirement& r) {
  const bool two = e.word == "until" || e.word == "since";
  FormulaNode node;
  node.kind = e.word == "within"  ? Kind::within
              : e.word == "stays" ? Kind::stays
              : e.word == "for"   ? Kind::held
              : e.word == "last"  ? Kind::last
              : e.word == "since" ? Kind::since
                                  : Kind::until;
  const std::size_t times = two ? 2 : 1;
  if (e.word == "until" && e.args.size() == times) {
    check_.error(Code::missing, e.span, "this `until` needs a time, because it is asked again and again",
                 "for example `A until B within 10 s`; without a time it stands alone: `requirement R { A until B }`");
    return kNone;
  }
  node.a = formula(*e.args[0], r);
  node.b = two ? formula(*e.args[1], r) : kNone;
  if (e.args.size() > times) {
    const auto time = x_.check_span(*e.args[times], scope(), "the time of this operator");
    if (!time) return kNone;
    node.time = *time;
  }
  if (node.a == kNone || (two && node.b == kNone)) return kNone;
  return add(r, node);
}

/// One unit for all that is compared, or shares of the limits. What only says when a requirement applies has no part in
/// that.
void Formulas::margins(Requirement& r, std::int32_t trigger_root) {
  const auto first =
      static_cast<std::size_t>(trigger_root == kNone || trigger_root > r.check_root ? 0 : trigger_root + 1);
  std::optional<Unit> unit;
  bool mixed = false;
  const auto meet = [&](const Unit& own) {
    mixed = mixed || (unit && unit->dimension != own.dimension);
    if (!unit) unit = own;
  };
  for (std::size_t i = first; i < r.nodes.size(); ++i) {
    FormulaNode& node = r.nodes[i];
    if (static_cast<std::int32_t>(i) == trigger_root) continue;
    if (const auto edge = edge_units_.find(static_cast<std::int32_t>(i)); edge != edge_units_.end()) meet(edge->second);
    if (node.kind != Kind::truth) continue;
    const Margin margin = margin_of(check_.program, node.value);
    node.margin = margin.node;
    if (margin.node != kNone) meet(margin.unit);
  }
  if (!unit) return;
  r.margin_unit = mixed ? unit_of_shares() : *unit;
  if (!mixed) return;
  for (std::size_t i = first; i < r.nodes.size(); ++i) {
    FormulaNode& node = r.nodes[i];
    if (node.kind == Kind::truth && node.margin != kNone) node.margin = share_of_limits(check_.program, node.value);
    if (node.number) node.number = false;  // a difference from instant to instant has no limit to be a share of
  }
}

}  // namespace isodyne::check
