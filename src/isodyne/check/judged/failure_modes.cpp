#include "isodyne/check/judged/failure_modes.h"

#include <algorithm>
#include <functional>

#include <fmt/format.h>

#include "isodyne/check/plant/flatten.h"
#include "isodyne/check/plant/groups.h"
#include "isodyne/check/plant/sort.h"
#include "isodyne/check/plant/table_loader.h"
#include "isodyne/core/text.h"
#include "isodyne/program/numbering.h"

namespace isodyne::check {

namespace {

using lang::FailureModesDecl;

constexpr const char* kOwn[] = {"row", "fault", "scenario", "requirement", "noticed"};

/// The columns with values as a bench of their own: `param` what people write, `let` what follows from it.
class Columns {
 public:
  Columns(Check& bench, const FailureModesDecl& f)
      : bench_(bench),
        f_(f),
        program_(std::make_shared<Program>()),
        check_(*program_, own_, bench.document),
        expressions_(check_) {}

  void make(FailureModes& made) {
    const bool known = define();
    for (std::size_t i = 0; known && i < made.rows.size(); ++i) cells(made.rows[i]);
    if (!own_.has_errors()) {
      number_variables(*program_);  // what was known by number is known by name from here on
      for (const lang::VarDecl& v : f_.columns.variables) made.typed.push_back(column(v));
    }
    for (const Diagnostic& d : own_.list()) {
      if (d.severity == Severity::error) bench_.diagnostics.error(d.code, d.span, d.message, d.advice).notes = d.notes;
    }
    if (!made.typed.empty()) made.columns = program_;
  }

 private:
  /// After a mistake in the columns nothing in rows is looked at.
  bool define() {
    program_->sources = bench_.program.sources;
    program_->name = f_.name.text;
    declare_file_level(check_);
    load_tables(check_, expressions_);
    lang::BenchDecl b;
    b.name = f_.name;
    for (const lang::VarDecl& v : f_.columns.variables) b.variables.push_back(quantity(v));
    if (own_.has_errors()) return false;
    Flattener flattener(check_, expressions_);
    flattener.declare(b);
    flattener.define();
    flattener.check_complete();
    if (own_.has_errors()) return false;
    program_->step = std::chrono::seconds(1);
    program_->recorded.front().period = program_->step;
    resolve_groups(check_, std::nullopt);
    sort_program(check_);
    return !own_.has_errors();
  }

  lang::VarDecl quantity(const lang::VarDecl& v) {
    lang::VarDecl q;
    q.kind = v.kind, q.name = v.name, q.type = v.type, q.doc = v.doc;
    if (std::find(std::begin(kOwn), std::end(kOwn), v.name.text) != std::end(kOwn))
      check_.error(Code::wrong_kind, v.name.span, fmt::format("`{}` is a column that every table has", v.name.text),
                   "give it another name");
    if (v.value) q.value = lang::clone(*v.value);
    if (v.lowest) q.lowest = lang::clone(*v.lowest);
    if (v.highest) q.highest = lang::clone(*v.highest);
    if (v.kind != lang::VarKind::param) return q;
    if (v.value)
      check_.error(Code::unexpected, v.value->span, "a column has no value of its own: each row has one",
                   "what follows from other columns is a `let`");
    if (!v.type) {
      check_.error(
          Code::missing, v.name.span, fmt::format("nothing says what stands in column `{}`", v.name.text),
          fmt::format("param {0} : int, : 1/h, : bool, or a choice; a text needs no declaration", v.name.text));
      return q;
    }
    Unit unit;
    const Type type = check_.type_of(*v.type, unit);
    if (type.valid()) q.value = v.lowest ? lang::clone(*v.lowest) : nothing_of(*program_, type, v.name.span);
    return q;
  }

  FailureModes::Column column(const lang::VarDecl& v) {
    FailureModes::Column c;
    c.name = v.name.text;
    c.id = program_->find(c.name);
    c.computed = v.kind == lang::VarKind::let;
    std::vector<VarId> todo{c.id};
    std::set<VarId> met;
    while (c.computed && !todo.empty()) {
      const VarId id = todo.back();
      todo.pop_back();
      if (!met.insert(id).second) continue;
      if (program_->variable(id).role == Role::param) c.computed_from.push_back(id);
      for (const Assignment& e : program_->equations) {
        if (e.target != id) continue;
        const auto reads = program_->reads(e.value);
        todo.insert(todo.end(), reads.begin(), reads.end());
      }
    }
    return c;
  }

  /// What stands in typed columns of a row that is written here.
  void cells(FailureModes::Row& row) {
    const auto decl = std::find_if(f_.rows.begin(), f_.rows.end(),
                                   [&](const FailureModesDecl::Row& r) { return r.name.span.begin == row.span.begin; });
    for (const FailureModesDecl::Cell& c : decl->cells) {
      const auto known = std::find_if(f_.columns.variables.begin(), f_.columns.variables.end(),
                                      [&](const lang::VarDecl& v) { return v.name.text == c.column.text; });
      if (known == f_.columns.variables.end()) {
        if (c.value)
          check_.error(
              Code::unknown_name, c.column.span, fmt::format("there is no column `{}` of values", c.column.text),
              fmt::format("declare it, as in `param {0} : int`; a text stands in quotes: {0} \"…\"", c.column.text));
        continue;
      }
      if (known->kind == lang::VarKind::let) {
        check_.error(Code::not_settable, c.column.span, fmt::format("column `{}` is computed", c.column.text));
      } else if (!c.value) {
        check_.error(Code::type_mismatch, c.column.span,
                     fmt::format("in column `{}` stands {}, and not a text", c.column.text,
                                 describe(*program_, type_of(c.column.text))),
                     fmt::format("{} = …", c.column.text));
      } else {
        value(c);
      }
    }
  }

  const Type& type_of(const std::string& column) const {
    return program_->variable(check_.root.variables.at(column)).type;
  }

  void value(const FailureModesDecl::Cell& c) {
    const VarId id = check_.root.variables.at(c.column.text);
    const Variable& v = program_->variable(id);
    const std::string what = fmt::format("what stands in column `{}`", c.column.text);
    const NodeId node = expressions_.check_as(*c.value, {&check_.root, nullptr}, v.type, what);
    const auto number = node == kNone ? std::nullopt : check_.constant(node, c.value->span, what.c_str());
    if (!number || !v.limits || (*number >= v.limits->first && *number <= v.limits->second)) return;
    check_.error(Code::out_of_limits, c.value->span,
                 fmt::format("`{}` can be {} to {}", v.name, program_->format(id, v.limits->first),
                             program_->format(id, v.limits->second)));
  }

  Check& bench_;
  const FailureModesDecl& f_;
  std::shared_ptr<Program> program_;
  Diagnostics own_;  ///< so that a mistake elsewhere does not hide those of the columns
  Check check_;
  Expressions expressions_;
};

template <typename T, typename Text>
std::string joined(const std::vector<T>& all, Text text) {
  std::string line;
  for (const T& one : all) list_on(line, text(one));
  return line;
}
const auto kText = [](const lang::Name& n) { return n.text; };

}  // namespace

void FailureTables::define() {
  for (const FailureModesDecl& f : check_.document.failure_modes) table(f);
}

void FailureTables::table(const FailureModesDecl& f) {
  if (named_.twice(f, check_.document.failure_modes, "table of failure modes")) return;
  FailureModes made;
  made.name = f.name.text, made.doc = f.doc, made.file = f.file, made.span = f.name.span;
  made.scenario = one_scenario(f.scenarios).value_or(kNone);
  made.requirements = named_.requirements(f.requirements);
  made.noticed = truths(f.noticed);
  if (f.rows.empty() && f.file.empty())
    check_.error(Code::missing, f.name.span, fmt::format("table `{}` has no rows", f.name.text),
                 fmt::format("row R1 {{ … }}, or failure_modes {} from \"FILE.csv\" {{ … }}", f.name.text));
  for (const FailureModesDecl::Row& r : f.rows) {
    FailureModes::Row row;
    row.name = r.name.text, row.span = r.name.span;
    for (const FailureModes::Row& other : made.rows) {
      if (other.name == row.name)
        check_.error(Code::duplicate, r.name.span, fmt::format("row {} is there twice", row.name))
            .notes.push_back({other.span, "the first is here"});
    }
    names_of_row(r, row);
    made.rows.push_back(std::move(row));
  }
  Columns(check_, f).make(made);
  check_.program.failure_modes.push_back(std::move(made));
}

void FailureTables::names_of_row(const FailureModesDecl::Row& r, FailureModes::Row& row) {
  for (const lang::Name& name : r.faults) (void)named_.fault(name);
  (void)one_scenario(r.scenarios);
  (void)named_.requirements(r.requirements);
  (void)truths(r.noticed);
  const Sources& sources = *check_.program.sources;
  const auto cell = [&](const char* column, const std::string& text) {
    if (!text.empty()) row.cells.emplace_back(column, text);
  };
  for (std::size_t i = 0; i < r.cells.size(); ++i) {
    const FailureModesDecl::Cell& c = r.cells[i];
    for (std::size_t k = 0; k < i; ++k) {
      if (r.cells[k].column.text == c.column.text)
        check_.error(Code::duplicate, c.column.span, fmt::format("`{}` stands in this row twice", c.column.text));
    }
    for (const char* own : kOwn) {
      if (c.column.text != own && c.column.text != own + std::string("s") && c.column.text != own + std::string("_by"))
        continue;
      check_.error(Code::unexpected, c.column.span,
                   fmt::format("`{}` would be a text of people, and no link", c.column.text),
                   "fault NAME, scenario NAME, requirement NAME and noticed by NAME have no quotes");
    }
    row.cells.emplace_back(c.column.text, c.value ? sources.in_one_line(c.value->span) : c.text);
  }
  cell("fault", joined(r.faults, kText));
  cell("scenario", joined(r.scenarios, kText));
  cell("requirement", joined(r.requirements, kText));
  cell("noticed by", joined(r.noticed, [](const lang::Path& p) { return p.text(); }));
}

std::vector<VarId> FailureTables::truths(const std::vector<lang::Path>& paths) {
  std::vector<VarId> ids;
  for (const lang::Path& path : paths) {
    const VarId id = check_.resolve_one(check_.root, path);
    if (id == kNone) continue;
    if (check_.program.variable(id).type.kind == Type::Kind::boolean) {
      ids.push_back(id);
      continue;
    }
    check_.error(Code::type_mismatch, path.span,
                 fmt::format("`{}` is {}, and what tells of a failure is a truth", path.text(),
                             describe(check_.program, check_.program.variable(id).type)),
                 "give what you mean a name: condition NAME = …");
  }
  return ids;
}

std::optional<std::int32_t> FailureTables::one_scenario(const std::vector<lang::Name>& names) {
  if (names.size() > 1)
    check_.error(Code::unexpected, names[1].span, "a row is run in one scenario", "make a second row for the other");
  return names.empty() ? std::nullopt : named_.scenario(names[0]);
}

}  // namespace isodyne::check
