// The logic of a controller, written in the language, as a program of its own.
//
// It is a small bench around one part. So it cannot see the plant, runs with the controller's period whatever the
// step of the bench is, and gets and gives what any other controller would.

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/check/io/settings.h"
#include "isodyne/check/load.h"
#include "isodyne/check/plant/flatten.h"
#include "isodyne/check/plant/gates.h"
#include "isodyne/check/plant/groups.h"
#include "isodyne/check/plant/networks.h"
#include "isodyne/check/plant/sort.h"
#include "isodyne/check/plant/table_loader.h"
#include "isodyne/core/text.h"
#include "isodyne/program/numbering.h"

namespace isodyne::check {

namespace {

constexpr const char* kLogicPart = "it";

class LogicMaker {
 public:
  LogicMaker(const Check& bench, const lang::ControllerDecl::Setting& s, const Controller& controller,
             std::optional<double> index)
      : bench_(bench),
        s_(s),
        controller_(controller),
        index_(index),
        program_(std::make_shared<Program>()),
        check_(*program_, own_, bench.document) {}

  std::shared_ptr<const Program> run() {
    const std::shared_ptr<const Program> made = make();
    for (const Diagnostic& d : own_.list()) {
      if (d.severity == Severity::error) bench_.diagnostics.error(d.code, d.span, d.message, d.advice).notes = d.notes;
    }
    return made;
  }

 private:
  std::shared_ptr<const Program> make() {
    const lang::ModelDecl* const model = bench_.model_named(s_.logic.model);
    if (model == nullptr) {
      std::vector<std::string> names;
      for (const auto& [name, decl] : bench_.models) names.push_back(name);
      const auto meant = did_you_mean(s_.logic.model.text, names);
      check_.error(Code::unknown_name, s_.logic.model.span, fmt::format("there is no model `{}`", s_.logic.model.text),
                   meant.value_or(""));
      return nullptr;
    }
    program_->sources = bench_.program.sources;
    program_->name = controller_.name;
    declare_file_level(check_);
    Expressions expressions(check_);
    load_tables(check_, expressions);
    const lang::BenchDecl bench = bench_of(*model);
    if (check_.diagnostics.has_errors()) return nullptr;
    Flattener flattener(check_, expressions);
    flattener.declare(bench);
    step_places(check_);
    flattener.define();
    flattener.check_complete();
    if (check_.diagnostics.has_errors()) return nullptr;
    outputs();
    inputs();
    program_->step = controller_.period;
    program_->recorded.front().period = program_->step;
    resolve_groups(check_, std::nullopt);
    for (const PeriodicTask& x : program_->periodic_tasks) {
      if (x.period.count() % program_->step.count() == 0) continue;
      check_.error(Code::bad_period, x.span,
                   fmt::format("{} is not a whole multiple of the controller's period ({})", format_span(x.period),
                               format_span(program_->step)));
    }
    if (check_.diagnostics.has_errors()) return nullptr;
    define_networks(check_);
    define_gates(check_);
    if (check_.diagnostics.has_errors()) return nullptr;
    sort_program(check_);
    if (check_.diagnostics.has_errors()) return nullptr;
    number_variables(*program_);
    return program_;
  }

  lang::ExprPtr expression(lang::ExprKind kind, double value, const std::string& word) const {
    return simple_expression(kind, value, word, s_.span);
  }
  /// A value to begin with; the first exchange comes before it is used.
  lang::ExprPtr nothing(const Variable& v) const { return nothing_of(bench_.program, v.type, s_.span); }

  /// bench plc { input level : m = 0 m … part it : LockLogic(…) ; it.level = level … }
  lang::BenchDecl bench_of(const lang::ModelDecl& m) {
    lang::BenchDecl b;
    b.name = {controller_.name, s_.span};
    for (const lang::UnitDecl& u : m.units) b.units.push_back({u.name, u.usual, u.doc});
    lang::PartDecl part;
    part.name = {kLogicPart, s_.span};
    part.model = s_.logic.model;
    for (const lang::PartDecl::Arg& a : s_.logic.args) {
      lang::PartDecl::Arg same;
      same.target = a.target;
      same.unit = a.unit;
      if (a.value) same.value = index_ ? lang::clone_with(*a.value, "index", *index_) : lang::clone(*a.value);
      part.args.push_back(std::move(same));
    }
    b.parts.push_back(std::move(part));
    for (const lang::VarDecl& v : m.variables) {
      if (v.kind != lang::VarKind::input) continue;
      const VarId read = read_named(v.name.text);
      if (read == kNone && v.value == nullptr) {
        check_
            .error(Code::undriven_input, s_.logic.model.span,
                   fmt::format("`{}` has an input `{}`, which controller `{}` does not read", m.name.text, v.name.text,
                               controller_.name),
                   fmt::format("add `{}` to what the controller reads, or give the input a default", v.name.text))
            .notes.push_back({v.name.span, "it is declared here"});
      }
      if (read == kNone) continue;
      lang::VarDecl& input = b.variables.emplace_back();
      input.kind = lang::VarKind::input;
      input.name = {v.name.text, s_.span};
      input.type = v.type;
      input.value = nothing(bench_.program.variable(read));
      lang::Equation& e = b.equations.emplace_back();
      e.target = lang::Path(lang::Name{kLogicPart, s_.span});
      e.target.parts.push_back({v.name.text, s_.span, nullptr, false});
      e.value = expression(lang::ExprKind::name, 0, v.name.text);
    }
    return b;
  }

  /// The value of this name, or the first of a vector.
  VarId read_named(const std::string& name) const {
    for (const VarId id : controller_.reads) {
      const std::string own = own_name(controller_, id, bench_.program.variable(id).name);
      if (own == name || own == name + "[1]") return id;
    }
    return kNone;
  }

  /// How many elements what the controller exchanges under this name has; 0: it is no vector.
  static std::size_t elements(const std::vector<VectorUse>& vectors, const std::string& name) {
    for (const VectorUse& v : vectors) {
      if (v.name == name) return v.count;
    }
    return 0;
  }

  /// Whether a vector inside has as many elements as the one outside. `name` is that of one value, or of an element.
  bool same_size(const std::vector<VectorUse>& vectors, const std::string& name, const Instance& inside) {
    const std::string base = name.substr(0, name.find('['));
    const std::size_t outside = elements(vectors, base);
    const auto vector = inside.vectors.find(base);
    const auto within = vector == inside.vectors.end() ? 0 : static_cast<std::size_t>(vector->second.size);
    if (outside == within) return true;
    const bool unknown = within == 0 && !inside.variables.contains(base);
    if (unknown) return true;  // told elsewhere, or nobody looks at it
    const auto described = [](std::size_t n) {
      return n == 0 ? std::string("one value") : fmt::format("a vector of {}", n);
    };
    check_.error(Code::type_mismatch, s_.logic.model.span,
                 fmt::format("`{}` is {} on the bench, but {} in `{}`", base, described(outside), described(within),
                             s_.logic.model.text),
                 "give both the same number of elements");
    return false;
  }

  void same_type(const Variable& outside, const Variable& inside) {
    const bool same = outside.type.kind == inside.type.kind && outside.type.dimension == inside.type.dimension &&
                      outside.type.choice == inside.type.choice && outside.type.absolute == inside.type.absolute &&
                      inside.type.size == 0;
    if (same) return;
    check_
        .error(Code::type_mismatch, s_.logic.model.span,
               fmt::format("`{}` is {} on the bench, but {} in `{}`", outside.name, bench_.program.type_text(outside),
                           program_->type_text(inside), s_.logic.model.text))
        .notes.push_back({inside.span, "it is declared here"});
  }

  void inputs() {
    for (const VarId id : controller_.reads) {
      const Variable& outside = bench_.program.variable(id);
      const std::string name = own_name(controller_, id, outside.name);
      if (!same_size(controller_.read_vectors, name, check_.root)) return;
      const auto found = check_.root.variables.find(name);
      if (found != check_.root.variables.end()) same_type(outside, program_->variable(found->second));
    }
  }

  void outputs() {
    const Instance& it = *check_.root.parts.at(kLogicPart);
    for (const ControllerWrite& w : controller_.writes) {
      const Variable& outside = bench_.program.variable(w.value);
      const std::string name = own_name(controller_, w.value, outside.name);
      if (!same_size(controller_.write_vectors, name, it)) return;
      const auto found = it.variables.find(name);
      if (found == it.variables.end()) {
        check_.error(Code::missing, s_.logic.model.span,
                     fmt::format("`{}` has no output `{}`, which the controller writes", s_.logic.model.text, name),
                     fmt::format("add `output {} : {}` to the model", name, bench_.program.type_text(outside)));
        continue;
      }
      same_type(outside, program_->variable(found->second));
    }
  }

  const Check& bench_;
  const lang::ControllerDecl::Setting& s_;
  const Controller& controller_;
  std::optional<double> index_;  ///< of an element of an array
  std::shared_ptr<Program> program_;
  Diagnostics own_;  ///< so that a mistake elsewhere does not hide those of the logic
  Check check_;
};

}  // namespace

std::shared_ptr<const Program> logic_program(const Check& bench, const lang::ControllerDecl::Setting& s,
                                             const Controller& controller, std::optional<double> index) {
  if (controller.period.count() <= 0) return nullptr;
  return LogicMaker(bench, s, controller, index).run();
}

}  // namespace isodyne::check
