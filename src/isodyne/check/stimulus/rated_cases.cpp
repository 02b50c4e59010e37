#include "isodyne/check/stimulus/rated_cases.h"

#include <functional>

#include <fmt/format.h>

#include "isodyne/check/plant/flatten.h"
#include "isodyne/check/plant/groups.h"
#include "isodyne/check/plant/networks.h"
#include "isodyne/check/plant/sort.h"
#include "isodyne/check/plant/table_loader.h"
#include "isodyne/core/text.h"
#include "isodyne/program/numbering.h"

namespace isodyne::check {

namespace {

constexpr const char* kPart = "it";

lang::ExprPtr number(double value, const std::string& unit, Span span) {
  auto e = std::make_unique<lang::Expr>();
  e->kind = lang::ExprKind::number;
  e->value = value;
  e->word = unit;
  e->span = span;
  return e;
}

/// A value in SI as it can be written in a text.
lang::ExprPtr literal(const Program& program, const Variable& v, double value, Span span) {
  if (v.type.kind == Type::Kind::boolean) {
    lang::ExprPtr e = number(value != 0 ? 1 : 0, "", span);
    e->kind = lang::ExprKind::boolean;
    return e;
  }
  if (v.type.kind == Type::Kind::choice) {
    const auto& labels = program.choices[static_cast<std::size_t>(v.type.choice)].labels;
    auto e = std::make_unique<lang::Expr>();
    e->kind = lang::ExprKind::name;
    e->word = labels[static_cast<std::size_t>(value)];
    e->path = lang::Path(lang::Name{e->word, span});
    e->span = span;
    return e;
  }
  if (v.type.absolute) return number(value - 273.15, "degC", span);
  const bool plain = v.type.kind == Type::Kind::integer || v.type.dimension.none();
  return number(value, plain ? "" : si_text(v.type.dimension), span);
}

class Maker {
 public:
  Maker(const lang::Document& document, Loaded& loaded, const Check* bench)
      : document_(document), loaded_(loaded), bench_(bench) {}

  std::vector<RatedCase> run() {
    if (bench_ != nullptr) {
      for (const lang::RatedDecl& r : bench_->root.decl->rated) part_of_bench(r);
      parts(bench_->root);
    } else {
      for (const lang::ModelDecl& m : document_.models) {
        for (const lang::RatedDecl& r : m.rated) {
          if (!of_library(r)) one(m, r, nullptr);
        }
      }
    }
    return std::move(cases_);
  }

 private:
  /// The library's blocks are about its usual parameters: they are checked with the library.
  bool of_library(const lang::RatedDecl& r) const {
    return loaded_.relative[static_cast<std::size_t>(r.span.source)].starts_with(kLibraryMark);
  }

  void part_of_bench(const lang::RatedDecl& r) {
    const Instance* at = &bench_->root;
    for (const lang::PathStep& step : r.part->parts) {
      const std::string key = step.index && step.index->kind == lang::ExprKind::number
                                  ? fmt::format("{}[{:.0f}]", step.text, step.index->value)
                                  : step.text;
      const auto found = at->parts.find(key);
      if (found == at->parts.end() || found->second->decl == nullptr) {
        const auto meant = did_you_mean(key, names_in(*at));
        loaded_.diagnostics.error(Code::unknown_name, step.span, fmt::format("there is no part called `{}`", key),
                                  meant.value_or(""));
        return;
      }
      at = found->second.get();
    }
    one(*at->decl, r, at);
  }

  void parts(const Instance& instance) {
    for (const auto& [name, part] : instance.parts) {
      if (part->decl == nullptr) continue;
      for (const lang::RatedDecl& r : part->decl->rated) {
        if (!of_library(r)) one(*part->decl, r, part.get());
      }
      parts(*part);
    }
  }

  /// bench rated { step … ; part it : Model(…) ; it.input = … }
  lang::BenchDecl bench_of(const lang::ModelDecl& m, const lang::RatedDecl& r, const Instance* part) {
    lang::BenchDecl b;
    b.name = {"rated", r.span};
    b.step = r.step ? lang::clone(*r.step) : number(1, "ms", r.span);
    // The values under the conditions are written with the model's own units.
    for (const lang::UnitDecl& u : m.units) {
      lang::UnitDecl same{u.name, u.usual, u.doc};
      if (part != nullptr) same.usual.text = part->units.at(u.name.text).text;
      b.units.push_back(std::move(same));
    }
    lang::PartDecl p;
    p.name = {kPart, r.span};
    p.model = m.name;
    if (part != nullptr) {
      unit_arguments(p, *part, r.span);
      table_arguments(p, *part, r.span);
      value_arguments(p, *part, r.span);
    }
    std::set<std::string> inputs;
    for (const lang::RatedDecl::Given& g : r.given) {
      const bool input = is_input(m, g.target.parts[0].text) && g.target.parts.size() == 1;
      if (input) {
        lang::Equation e;
        e.target = g.target;
        e.target.parts.insert(e.target.parts.begin(), {kPart, g.target.span, nullptr, false});
        e.value = lang::clone(*g.value);
        b.equations.push_back(std::move(e));
        continue;
      }
      std::erase_if(p.args, [&](const lang::PartDecl::Arg& a) { return a.target.text() == g.target.text(); });
      lang::PartDecl::Arg arg;
      arg.target = g.target;
      arg.value = lang::clone(*g.value);
      p.args.push_back(std::move(arg));
    }
    b.parts.push_back(std::move(p));
    return b;
  }

  static bool is_input(const lang::ModelDecl& m, const std::string& name) {
    return std::any_of(m.variables.begin(), m.variables.end(),
                       [&](const lang::VarDecl& v) { return v.kind == lang::VarKind::input && v.name.text == name; });
  }

  void unit_arguments(lang::PartDecl& p, const Instance& part, Span span) const {
    for (const auto& [name, unit] : part.units) {
      lang::PartDecl::Arg arg;
      arg.target = lang::Path(lang::Name{name, span});
      arg.unit = lang::TypeRef{unit.text, span, nullptr};
      p.args.push_back(std::move(arg));
    }
  }

  void table_arguments(lang::PartDecl& p, const Instance& part, Span span) const {
    for (const auto& [name, table] : part.tables) {
      if (table == nullptr) continue;
      lang::PartDecl::Arg arg;
      arg.target = lang::Path(lang::Name{name, span});
      arg.value = std::make_unique<lang::Expr>();
      arg.value->kind = lang::ExprKind::name;
      arg.value->span = span;
      arg.value->path = lang::Path(lang::Name{table->name.text, span});
      p.args.push_back(std::move(arg));
    }
  }

  /// The parameters that this part has in the bench.
  void value_arguments(lang::PartDecl& p, const Instance& part, Span span) const {
    const Program& program = bench_->program;
    for (const auto& v : part.members.variables) {
      const bool param = v.decl->kind == lang::VarKind::param || v.decl->kind == lang::VarKind::fixed_param;
      if (!param) continue;
      const auto vector = part.vectors.find(v.decl->name.text);
      const VarId first = vector != part.vectors.end() ? vector->second.first : part.variables.at(v.decl->name.text);
      const int size = vector != part.vectors.end() ? vector->second.size : 0;
      lang::PartDecl::Arg arg;
      arg.target = lang::Path(lang::Name{v.decl->name.text, span});
      auto list = std::make_unique<lang::Expr>();
      list->kind = lang::ExprKind::list;
      list->span = span;
      bool known = true;
      for (int i = 0; i < std::max(1, size); ++i) {
        const auto value = bench_->first_value(first + i);
        known = known && value;
        if (value) list->args.push_back(literal(program, program.variable(first + i), *value, span));
      }
      if (!known) continue;
      arg.value = size > 0 ? std::move(list) : std::move(list->args.front());
      p.args.push_back(std::move(arg));
    }
  }

  void one(const lang::ModelDecl& m, const lang::RatedDecl& r, const Instance* part) {
    if (has_terminals(m)) {
      loaded_.diagnostics.error(
          Code::wrong_kind, r.span,
          fmt::format("`{}` has terminals, and nothing lies at them in a rated case", m.name.text),
          "write a bench with what it is to be joined with, and a requirement");
      return;
    }
    const lang::BenchDecl bench = bench_of(m, r, part);
    auto program = std::make_shared<Program>();
    program->sources = loaded_.sources;
    program->name = "rated";
    Check check(*program, loaded_.diagnostics, document_);
    declare_file_level(check);
    Expressions expressions(check);
    load_tables(check, expressions);
    Flattener flattener(check, expressions);
    flattener.declare(bench);
    flattener.define();
    flattener.check_complete();
    RatedCase made;
    made.part = part != nullptr ? part->prefix.substr(0, part->prefix.size() - 1) : "";
    made.model = m.name.text;
    made.source = r.source;
    made.doc = r.doc;
    const ExprScope top{&check.root, nullptr, nullptr};
    program->step = expressions.check_span(*bench.step, top, "the step").value_or(Time{});
    if (program->step.count() == 0) check.error(Code::bad_period, bench.step->span, "the step must be at least 1 ns");
    program->recorded.front().period = program->step;
    resolve_groups(check, std::nullopt);
    if (r.after) made.after = expressions.check_span(*r.after, top, "the time after `after`");
    const auto it = check.root.parts.find(kPart);
    if (it == check.root.parts.end()) return;
    for (const lang::RatedDecl::Expect& e : r.expected) expect(check, expressions, *it->second, e, made);
    if (r.expected.empty())
      check.error(Code::missing, r.span, "this block expects nothing", "add `expect quantity = value within 2 %`");
    if (loaded_.diagnostics.has_errors()) return;
    sort_program(check);
    number_variables(*program);
    made.program = std::move(program);
    if (!loaded_.diagnostics.has_errors()) cases_.push_back(std::move(made));
  }

  void expect(Check& check, Expressions& x, const Instance& it, const lang::RatedDecl::Expect& e, RatedCase& made) {
    const ExprScope scope{&it, nullptr, nullptr};
    RatedCase::Expect expect;
    const Typed value = x.check(*e.quantity, scope);
    if (!value.valid()) return;
    if (value.type.kind != Type::Kind::real || value.type.size > 0) {
      check.error(Code::type_mismatch, e.quantity->span, "an expected value is a single real quantity");
      return;
    }
    expect.value = value.node;
    expect.type = value.type;
    expect.expected = x.check_as(*e.value, scope, value.type, "the expected value");
    const bool literal = e.value->kind == lang::ExprKind::number && !e.value->word.empty();
    expect.unit = literal ? x.check(*e.value, scope).shown : value.shown;
    const bool percent = e.tolerance->kind == lang::ExprKind::number && e.tolerance->word == "%";
    expect.relative = percent;
    Type tolerance = value.type;
    tolerance.absolute = false;
    if (percent) tolerance = {Type::Kind::real, {}, kNone};
    expect.tolerance = x.check_as(*e.tolerance, scope, tolerance, "the tolerance");
    expect.quantity = loaded_.sources->in_one_line(e.quantity->span);
    expect.span = e.span;
    made.expected.push_back(std::move(expect));
  }

  const lang::Document& document_;
  Loaded& loaded_;
  const Check* bench_;
  std::vector<RatedCase> cases_;
};

}  // namespace

std::vector<RatedCase> rated_cases(const lang::Document& document, Loaded& loaded, const Check* bench) {
  return Maker(document, loaded, bench).run();
}

}  // namespace isodyne::check
