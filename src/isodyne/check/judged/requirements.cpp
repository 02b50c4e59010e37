#include "isodyne/check/judged/requirements.h"

#include <algorithm>
#include <cmath>
#include <tuple>

#include <fmt/format.h>

#include "isodyne/check/judged/formulas.h"
#include "isodyne/check/judged/measures.h"
#include "isodyne/check/stimulus/faults.h"
#include "isodyne/check/stimulus/scenarios.h"
#include "isodyne/core/text.h"
#include "isodyne/program/margin.h"

namespace isodyne::check {

namespace {

const Type kTruth{Type::Kind::boolean, {}, kNone};

}  // namespace

void Requirements::declare() {
  for (const lang::ConditionDecl& c : check_.document.conditions) {
    Variable v;
    v.role = Role::condition;
    v.type = kTruth;
    v.doc = c.doc;
    check_.define(check_.root, c.name, std::move(v));
  }
  for (const lang::FaultDecl& f : check_.document.faults) {
    Variable v;
    v.role = Role::fault;
    v.type = kTruth;
    v.doc = f.doc;
    check_.define(check_.root, f.name, std::move(v));
  }
  Measures(check_, x_).declare();
}

void Requirements::define() {
  for (const auto& c : check_.document.conditions) condition(c);
  Faults(check_, x_).define();
  Scenarios(check_, x_).define();
  Measures(check_, x_).define();
  x_.set_measures(true);
  for (const auto& r : check_.document.requirements) requirement(r);
  for (const auto& e : check_.document.expectations) expectation(e);
  x_.set_measures(false);
  // As they stand in the text: what is expected of faults beside the requirements that it belongs to.
  std::stable_sort(check_.program.requirements.begin(), check_.program.requirements.end(),
                   [](const Requirement& a, const Requirement& b) {
                     return std::tie(a.span.source, a.span.begin) < std::tie(b.span.source, b.span.begin);
                   });
  for (const auto& f : check_.document.figures) figure(f);
}

void Requirements::condition(const lang::ConditionDecl& c) {
  const NodeId value = x_.check_truth(*c.value, scope(), fmt::format("condition `{}`", c.name.text));
  const auto found = check_.root.variables.find(c.name.text);
  if (value == kNone || check_.program.variable(found->second).span.begin != c.name.span.begin) return;
  check_.program.equations.push_back({found->second, value, c.value->span});
}

std::optional<double> Requirements::start_of(VarId id) const {
  const auto start = check_.start_value.find(id);
  if (start == check_.start_value.end()) return std::nullopt;
  return fold(check_.program, start->second, [](VarId) { return std::nullopt; });
}

// ---- requirements and figures ---------------------------------------------------------------------------

void Requirements::requirement(const lang::RequirementDecl& r, const std::string& text) {
  Requirement requirement;
  requirement.name = r.name.text;
  requirement.doc = r.doc;
  requirement.source = r.source;
  requirement.id = r.id;
  requirement.by_review = r.by_review;
  requirement.level = r.level;
  for (const lang::Path& path : r.allocated) allocate(path, requirement);
  requirement.span = r.span;
  requirement.formula = text.empty() ? check_.program.sources->in_one_line(r.span) : text;
  for (const Requirement& other : check_.program.requirements) {
    if (other.name != r.name.text) continue;
    check_.error(Code::duplicate, r.name.span, fmt::format("requirement {} is defined twice", r.name.text))
        .notes.push_back({other.span, "the first is here"});
    return;
  }
  if (r.by_review) {
    requirement.check = x_.constant(1);
    requirement.trigger = x_.constant(0);
    check_.program.requirements.push_back(std::move(requirement));
    return;
  }
  Formulas formulas(check_, x_);
  if (!formulas.define(r, requirement)) return;
  const auto lines = [&](NodeId check) {
    const auto more = limit_lines(check_.program, check, [&](VarId id) { return start_of(id); });
    requirement.limits.insert(requirement.limits.end(), more.begin(), more.end());
  };
  if (requirement.check != kNone) lines(requirement.check);
  for (const FormulaNode& node : requirement.nodes) {
    if (node.kind == FormulaNode::Kind::truth) lines(node.value);
  }
  check_.program.requirements.push_back(std::move(requirement));
}

/// To a part or a controller, which is a place in the bench and no quantity.
void Requirements::allocate(const lang::Path& path, Requirement& requirement) {
  const Instance* at = &check_.root;
  for (const lang::PathStep& step : path.parts) {
    const auto key = check_.key(step, check_.root, nullptr);
    const auto found = key ? at->parts.find(*key) : at->parts.end();
    if (found == at->parts.end()) {
      std::vector<std::string> known;
      for (const auto& [name, part] : at->parts) known.push_back(name);
      return report_unknown_word(check_, {path.text(), path.span}, "part or controller", known);
    }
    at = found->second.get();
  }
  requirement.allocated.push_back(path.text());
}

namespace {
lang::ExprPtr made(lang::ExprKind kind, Span span, const char* word, lang::ExprPtr operand) {
  auto e = std::make_unique<lang::Expr>();
  e->kind = kind;
  e->span = span;
  e->word = word;
  e->height = operand->height + 1;
  e->args.push_back(std::move(operand));
  return e;
}
}  // namespace

/// One requirement for each thing that is or is not to be acted on: `whenever X becomes active then within T ACT`, or
/// `whenever X becomes active then not ACT stays for T`.
void Requirements::expectation(const lang::ExpectationDecl& e) {
  for (const lang::ExpectationDecl::Row& row : e.rows) {
    for (const lang::Path& on : row.on) {
      auto name = std::make_unique<lang::Expr>();
      name->kind = lang::ExprKind::name;
      name->span = on.span;
      name->word = on.text();
      name->path = on;
      lang::RequirementDecl r;
      r.name = {fmt::format("{}/{}", e.name.text, on.text()), on.span};
      r.source = e.source;
      r.doc = fmt::format("{} {}. {}", row.must ? "Acts on" : "Does not act on", on.text(), e.doc);
      r.form = lang::RequirementDecl::Form::whenever;
      r.trigger = made(lang::ExprKind::becomes_active, on.span, "becomes active", std::move(name));
      r.span = row.span;
      if (row.must) {
        r.check = lang::clone(*e.act);
        r.within = lang::clone(*row.within);
      } else {
        r.check = made(lang::ExprKind::invert, e.act->span, "not", lang::clone(*e.act));
        r.check = made(lang::ExprKind::over_time, e.act->span, "stays", std::move(r.check));
        r.check->args.push_back(lang::clone(*row.within));
      }
      const Sources& sources = *check_.program.sources;
      std::string act = sources.in_one_line(e.act->span);
      if (e.act->kind != lang::ExprKind::name) act = "(" + act + ")";
      const std::string within = sources.in_one_line(row.within->span);
      requirement(r, row.must
                         ? fmt::format("whenever {} becomes active then within {} {}", on.text(), within, act)
                         : fmt::format("whenever {} becomes active then not {} stays for {}", on.text(), act, within));
    }
  }
}

void Requirements::figure(const lang::FigureDecl& f) {
  Figure figure;
  figure.name = f.name.text;
  figure.title = f.title.empty() ? f.name.text : f.title;
  for (const auto& panel : f.panels) {
    std::vector<VarId> ids;
    for (const lang::Path& path : panel) {
      for (const VarId id : check_.resolve(check_.root, path).ids) {
        const Variable& v = check_.program.variable(id);
        const bool same =
            ids.empty() || check_.program.variable(ids.front()).type == v.type ||
            (check_.program.variable(ids.front()).type.kind == v.type.kind && v.type.kind == Type::Kind::choice);
        if (!same) {
          check_.error(Code::unit_mismatch, path.span,
                       fmt::format("a panel has one axis: `{}` is {}, the first signal is {}", path.text(),
                                   describe(check_.program, v.type),
                                   describe(check_.program, check_.program.variable(ids.front()).type)),
                       "give it a panel of its own");
          break;
        }
        ids.push_back(id);
      }
    }
    if (!ids.empty()) figure.panels.push_back(std::move(ids));
  }
  check_.program.figures.push_back(std::move(figure));
}

}  // namespace isodyne::check
