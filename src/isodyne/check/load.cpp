#include "isodyne/check/load.h"

#include <algorithm>
#include <filesystem>
#include <set>

#include <fmt/format.h>

#include "isodyne/check/io/channels.h"
#include "isodyne/check/io/frames.h"
#include "isodyne/check/io/racks.h"
#include "isodyne/check/io/wiring.h"
#include "isodyne/check/judged/campaigns.h"
#include "isodyne/check/judged/failure_modes.h"
#include "isodyne/check/judged/hazards.h"
#include "isodyne/check/judged/panels.h"
#include "isodyne/check/judged/recording_plan.h"
#include "isodyne/check/judged/requirements.h"
#include "isodyne/check/lint.h"
#include "isodyne/check/plant/flatten.h"
#include "isodyne/check/plant/gate_faults.h"
#include "isodyne/check/plant/gates.h"
#include "isodyne/check/plant/groups.h"
#include "isodyne/check/plant/networks.h"
#include "isodyne/check/plant/sort.h"
#include "isodyne/check/plant/table_loader.h"
#include "isodyne/check/stimulus/harness.h"
#include "isodyne/check/stimulus/rated_cases.h"
#include "isodyne/check/watch.h"
#include "isodyne/core/text.h"
#include "isodyne/lang/parser.h"
#include "isodyne/program/elements.h"
#include "isodyne/program/numbering.h"

namespace isodyne::check {

namespace {

/// Reads the main file and, breadth first, every file in `use`; each once, so cycles end by themselves.
class FileReader {
 public:
  FileReader(const std::string& folder, const Reader& reader, Loaded& loaded, lang::Document& document)
      : folder_(folder), reader_(reader), loaded_(loaded), document_(document) {}

  /// A file that a text names while it is checked.
  std::optional<std::int32_t> read(const std::string& path, Span where) {
    const std::string relative = beside(loaded_.relative[static_cast<std::size_t>(where.source)], path, false);
    const auto [known, fresh] = data_.try_emplace(relative, -1);
    if (fresh) known->second = take({relative, where}).value_or(-1);
    return known->second < 0 ? std::nullopt : std::optional(known->second);
  }

  void run(const std::string& main) {
    want(main, {});
    take_wanted();
  }

  /// One more text, with what it uses.
  void also(const Rules& rules) {
    loaded_.relative.push_back(rules.name);
    parsed(rules.name, loaded_.sources->add(rules.name, rules.text));
    take_wanted();
  }

 private:
  static constexpr std::size_t kMostFiles = 1000;

  void take_wanted() {
    for (; taken_ < wanted_.size() && taken_ < kMostFiles; ++taken_) {
      const Wanted file = wanted_[taken_];
      const auto source = take(file);
      if (source) parsed(file.relative, *source);
    }
  }

  struct Wanted {
    std::string relative;
    Span use;
  };

  void want(const std::string& relative, Span use) {
    if (known_.insert(relative).second) wanted_.push_back({relative, use});
  }

  std::optional<std::int32_t> take(const Wanted& file) {
    const Result<std::string> text = reader_(file.relative);
    if (!text) {
      loaded_.diagnostics.error(Code::cannot_read, file.use, text.failure().text());
      return std::nullopt;
    }
    const bool library = file.relative.starts_with(kLibraryMark);
    loaded_.relative.push_back(file.relative);
    return loaded_.sources->add(
        library ? "library/" + file.relative.substr(kLibraryMark.size()) : folder_ + file.relative, *text, library);
  }

  void parsed(const std::string& relative, std::int32_t source) {
    const std::size_t uses = document_.uses.size(), tables = document_.tables.size(),
                      failures = document_.failure_modes.size();
    lang::parse(*loaded_.sources, source, loaded_.diagnostics, document_);
    place_failure_modes(relative, failures);
    for (std::size_t u = uses; u < document_.uses.size(); ++u) {
      const lang::UseDecl& use = document_.uses[u];
      want(beside(relative, use.path, use.library), use.span);
    }
    for (std::size_t t = tables; t < document_.tables.size(); ++t) {
      lang::TableDecl& table = document_.tables[t];
      if (table.file.empty()) continue;
      const Wanted file{beside(relative, table.file, false), table.file_span};
      const auto [known, fresh] = data_.try_emplace(file.relative, -1);
      if (fresh) known->second = take(file).value_or(-1);
      table.data = known->second;
    }
  }

  /// Files that no check reads are named as all others are: beside the text that speaks of them.
  void place_failure_modes(const std::string& relative, std::size_t first) {
    for (std::size_t i = first; i < document_.failure_modes.size(); ++i) {
      std::string& file = document_.failure_modes[i].file;
      if (!file.empty()) file = beside(relative, file, false);
    }
  }

  /// A path as it is written in a file, relative to the main file's folder; library files stay in the library.
  static std::string beside(const std::string& file, const std::string& path, bool library) {
    namespace fs = std::filesystem;
    const bool inside = file.starts_with(kLibraryMark);
    const fs::path base = fs::path(inside ? file.substr(kLibraryMark.size()) : file).parent_path();
    const std::string relative = ((library ? fs::path() : base) / path).lexically_normal().string();
    return library || inside ? std::string(kLibraryMark) + relative : relative;
  }

  const std::string& folder_;
  const Reader& reader_;
  Loaded& loaded_;
  lang::Document& document_;
  std::vector<Wanted> wanted_;
  std::size_t taken_ = 0;
  std::set<std::string> known_;
  std::map<std::string, std::int32_t> data_;
};

/// File-level names: functions, models and choices, each of which may exist once.
template <typename Decl>
void file_level(Check& check, const std::vector<Decl>& decls, std::map<std::string, const Decl*>& table,
                const char* what) {
  for (const Decl& d : decls) {
    const auto [first, fresh] = table.try_emplace(d.name.text, &d);
    if (fresh) continue;
    check
        .error(Code::duplicate, d.name.span, fmt::format("{} `{}` is defined twice", what, d.name.text),
               "rename one of them")
        .notes.push_back({first->second->name.span, "the first is here"});
  }
}

/// What a bench declares goes before what the library has under the same name, which the library itself goes on to
/// mean.
void declare_models(Check& check) {
  std::map<std::string, const lang::ModelDecl*> own, library;
  for (const lang::ModelDecl& m : check.document.models) {
    auto& table = check.program.sources->in_library(m.name.span) ? library : own;
    const auto [first, fresh] = table.try_emplace(m.name.text, &m);
    if (fresh) continue;
    check
        .error(Code::duplicate, m.name.span, fmt::format("model `{}` is defined twice", m.name.text),
               "rename one of them")
        .notes.push_back({first->second->name.span, "the first is here"});
  }
  check.models = std::move(own);
  for (const auto& [name, decl] : library) {
    if (!check.models.try_emplace(name, decl).second) check.shadowed_models.emplace(name, decl);
  }
}

void declare_choices(Check& check) {
  std::map<std::string, const lang::ChoiceDecl*> first;
  file_level(check, check.document.choices, first, "choice");
  for (const auto& [name, decl] : first) {
    Choice choice;
    choice.name = name;
    for (const lang::Name& label : decl->labels) {
      const bool twice = std::find(choice.labels.begin(), choice.labels.end(), label.text) != choice.labels.end();
      if (twice) check.error(Code::duplicate, label.span, fmt::format("label `{}` is given twice", label.text));
      choice.labels.push_back(label.text);
    }
    check.choices[name] = static_cast<std::int32_t>(check.program.choices.size());
    check.program.choices.push_back(std::move(choice));
  }
}

}  // namespace

void declare_file_level(Check& check) {
  file_level(check, check.document.functions, check.functions, "function");
  file_level(check, check.document.tables, check.table_decls, "table");
  declare_models(check);
  for (const auto& [name, table] : check.table_decls) {
    const auto function = check.functions.find(name);
    if (function == check.functions.end()) continue;
    check
        .error(Code::duplicate, table->name.span, fmt::format("`{}` is a function and a table", name),
               "rename one of them")
        .notes.push_back({function->second->name.span, "the function is here"});
  }
  declare_choices(check);
  check_elements(check);
}

namespace {

lang::BenchDecl* the_bench(Check& check, lang::Document& document, bool needed) {
  if (document.benches.empty()) {
    const bool models_alone = !needed && !(document.models.empty() && document.modules.empty());
    if (models_alone) return nullptr;
    check.error(Code::missing, {0, 0, 0}, "this file and what it uses declare no bench", "add `bench Name { … }`");
    return nullptr;
  }
  for (std::size_t i = 1; i < document.benches.size(); ++i) {
    check
        .error(Code::duplicate, document.benches[i].name.span, "there is a second bench",
               "keep one bench in a file and what it uses")
        .notes.push_back({document.benches[0].name.span, "the first is here"});
  }
  return &document.benches[0];
}

class Periods {
 public:
  Periods(Check& check, Expressions& expressions, const lang::BenchDecl& bench)
      : check_(check), x_(expressions), bench_(bench) {}

  void run() {
    Program& p = check_.program;
    step();
    if (p.step.count() == 0) return;
    for (const Sensor& s : p.sensors) {
      const Time step = std::min(p.step, p.group_of(s.value).step);  // of a quick part it may sample more often
      multiple(s.period, s.span, "the sampling period", step);
      if (s.offset.count() > 0) multiple(s.offset, s.span, "the offset", step);
    }
    for (const Controller& c : p.controllers) multiple(c.period, c.span, "the period of the controller");
    for (const PeriodicTask& s : p.periodic_tasks) {
      const Time step = p.groups[static_cast<std::size_t>(s.group)].step;
      multiple(s.period, s.span, "this period", step);
      if (s.offset.count() > 0) multiple(s.offset, s.span, "this offset", step);
    }
  }

 private:
  void step() {
    if (!bench_.step) {
      check_.error(Code::missing, bench_.name.span, "the bench has no step", "add `step 1 ms  method rk4`");
      return;
    }
    const auto step = x_.check_span(*bench_.step, {&check_.root, nullptr}, "the step");
    if (step && step->count() == 0) check_.error(Code::bad_period, bench_.step->span, "the step must be at least 1 ns");
    check_.program.step = step.value_or(Time{});
    resolve_groups(check_, bench_.method ? method_of(check_, *bench_.method) : std::nullopt);
    join_quick_groups(check_);
  }

  void multiple(Time period, Span span, const char* what) { multiple(period, span, what, check_.program.step); }

  void multiple(Time period, Span span, const char* what, Time step) {
    if (period.count() > 0 && period.count() % step.count() == 0) return;
    if (period.count() == 0 && what == std::string("the sampling period") && check_.diagnostics.has_errors()) return;
    check_.error(
        Code::bad_period, span,
        fmt::format("{} ({}) is not a whole multiple of the step ({})", what, format_span(period), format_span(step)),
        fmt::format("for example {}", format_span(step * std::max<std::int64_t>(1, period / step))));
  }

  Check& check_;
  Expressions& x_;
  const lang::BenchDecl& bench_;
};

/// A scenario may begin with another value of a fixed parameter, unless that has decided something before: it would be
/// heard in some places and not in others.
void check_starts(Check& check) {
  for (const Scenario& s : check.program.scenarios) {
    const auto tied = [](const Network& n) { return element_kind(n.elements.front().model)->tie != Tie::none; };
    if (s.settled.known() && std::none_of(check.program.networks.begin(), check.program.networks.end(), tied))
      check.error(Code::wrong_kind, s.settled, "there is no network here that could settle",
                  "`start settled` is about parts with terminals; other values are given: `start tank.level = 2 m`");
    for (const Scenario::Start& start : s.start) {
      const Variable& v = check.program.variable(start.target);
      if (v.role != Role::fixed_param || !check.decided.contains(start.target)) continue;
      check.error(
          Code::not_settable, start.span,
          fmt::format("`{}` cannot begin with another value: what it was has decided something before the run", v.name),
          "sizes, periods, longest lags and other constants are made of it; change it in the text");
    }
  }
}

void check_bench(Check& check, lang::BenchDecl& bench, const Wish& wish, const Loaded& loaded) {
  Expressions expressions(check);
  Flattener flattener(check, expressions);
  Racks racks(check, bench);
  ChannelCheck channels(check, expressions, bench);
  Frames frames(check, expressions, bench);
  Requirements judged(check, expressions);
  load_tables(check, expressions);
  for (const lang::FunctionDecl& f : check.document.functions) expressions.check_function(f);
  racks.place();
  flattener.declare(bench);
  step_places(check);
  channels.declare();
  frames.declare();
  judged.declare();
  flattener.define();
  channels.define();
  racks.define();
  frames.define();
  channels.define_controllers();
  Wirings(check, expressions).define();
  flattener.check_complete();
  judged.define();
  Panels(check, expressions).define();
  Campaigns(check, expressions).define();
  FailureTables(check).define();
  Hazards(check, expressions).define();
  Periods(check, expressions, bench).run();
  define_networks(check);
  put_gate_faults(check);
  define_gates(check);
  define_recording(check, expressions, bench, wish.harness.empty());
  check_starts(check);
  if (check.overflow || check.diagnostics.has_errors()) return;
  sort_program(check);
  if (wish.lint && !check.diagnostics.has_errors()) lint(check, loaded.relative);
}

std::set<std::string> models_in_use(const lang::Document& document) {
  std::set<std::string> used;
  const std::function<void(const lang::Members&)> collect = [&](const lang::Members& m) {
    for (const lang::PartDecl& p : m.parts) used.insert(p.model.text);
    for (const lang::VariantDecl& v : m.variants) {
      collect(*v.yes);
      if (v.no != nullptr) collect(*v.no);
    }
  };
  for (const lang::ModelDecl& m : document.models) collect(m);
  for (const lang::BenchDecl& b : document.benches) collect(b);
  return used;
}

/// Models that no part of the bench is made of may have mistakes too: each is checked on its own. Without a
/// bench the functions and tables have not been looked at yet either.
void check_unused_models(const lang::Document& document, Loaded& loaded, bool all) {
  const std::set<std::string> used = models_in_use(document);
  bool functions_too = all;
  for (const lang::ModelDecl& m : document.models) {
    if (used.contains(m.name.text)) continue;
    Program scratch;
    scratch.sources = loaded.sources;
    Check alone(scratch, loaded.diagnostics, document);
    declare_file_level(alone);  // a second report of the same place is dropped
    alone.alone = true;
    Expressions expressions(alone);
    load_tables(alone, expressions);
    if (functions_too) {
      for (const lang::FunctionDecl& f : document.functions) expressions.check_function(f);
    }
    functions_too = false;
    Flattener flattener(alone, expressions);
    flattener.declare(m);
    flattener.define();
    if (all && !loaded.diagnostics.has_errors()) sort_program(alone);
  }
}

void describe_models(const lang::Document& document, Loaded& loaded) {
  const auto text = [&](const lang::ExprPtr& e) { return e ? loaded.sources->in_one_line(e->span) : std::string{}; };
  for (const lang::ModelDecl& m : document.models) {
    ModelInfo info{m.name.text, m.doc, m.name.span, {}, {}, false};
    for (const lang::PlaceDecl& p : m.places) {
      if (!p.terminal) continue;
      const std::string size = p.size ? "[" + loaded.sources->in_one_line(p.size->span) + "]" : std::string{};
      info.items.push_back({"terminal", p.name.text, p.kind.text + size, p.open ? "open" : "", "", p.doc});
    }
    for (const lang::UnitDecl& u : m.units) info.items.push_back({"unit", u.name.text, u.usual.text, "", "", u.doc});
    for (const lang::TableDecl& t : m.tables) {
      std::string from;
      for (const auto& p : t.params) from += (from.empty() ? "" : ", ") + p.type.text;
      info.items.push_back({"table", t.name.text, fmt::format("{} -> {}", from, t.result.text), "", "", t.doc});
    }
    for (const lang::VarDecl& v : m.variables) {
      if (v.is_private) continue;
      const char* kind = v.kind == lang::VarKind::param         ? "parameter"
                         : v.kind == lang::VarKind::fixed_param ? "fixed parameter"
                         : v.kind == lang::VarKind::input       ? "input"
                         : v.is_output                          ? "output"
                                                                : nullptr;
      if (kind == nullptr) continue;
      ModelInfo::Item item{kind,          v.name.text, v.type ? loaded.sources->in_one_line(v.type->span) : "",
                           text(v.value), "",          v.doc};
      if (v.lowest && v.highest) item.limits = text(v.lowest) + " .. " + text(v.highest);
      info.items.push_back(std::move(item));
    }
    for (const lang::RatedDecl& r : m.rated) info.rated.push_back(r.source);
    loaded.models.push_back(std::move(info));
  }
  for (const lang::ModuleDecl& m : document.modules) {
    ModelInfo info{m.name.text, m.doc, m.name.span, {}, {}, true};
    for (const auto& c : m.channels) {
      const Span form{c.span.source, c.count->span.end, c.span.end};
      info.items.push_back(
          {c.inputs ? "inputs" : "outputs", text(c.count), loaded.sources->in_one_line(form), "", "", ""});
    }
    loaded.models.push_back(std::move(info));
  }
}

}  // namespace

/// What rules declare takes the place of what the bench declares under the same name.
template <typename Decl>
static void replace_older(std::vector<Decl>& decls, std::size_t older) {
  std::set<std::string> fresh;
  for (std::size_t i = older; i < decls.size(); ++i) fresh.insert(decls[i].name.text);
  const auto end = decls.begin() + static_cast<std::ptrdiff_t>(older);
  decls.erase(std::remove_if(decls.begin(), end, [&](const Decl& d) { return fresh.contains(d.name.text); }), end);
}

Loaded load_bench(const std::string& folder, const std::string& main, const Reader& reader, const Wish& wish) {
  renew_suggestions();
  Loaded loaded;
  loaded.sources = std::make_shared<Sources>();
  lang::Document document;
  FileReader files(folder, reader, loaded, document);
  files.run(main);
  if (wish.rules && wish.rules->instead) {
    document.requirements.clear();
    document.expectations.clear();
    document.failure_modes.clear();
    document.hazards.clear();
  }
  if (wish.rules) {
    const std::size_t conditions = document.conditions.size(), measures = document.measures.size(),
                      figures = document.figures.size();
    files.also(*wish.rules);
    if (document.figures.size() > figures)  // a layout: its figures are meant, not those of the bench
      document.figures.erase(document.figures.begin(), document.figures.begin() + static_cast<std::ptrdiff_t>(figures));
    replace_older(document.conditions, conditions);
    replace_older(document.measures, measures);
  }
  describe_models(document, loaded);
  for (const lang::HarnessDecl& h : document.harnesses)
    loaded.harnesses.push_back({h.name.text, h.of.text, h.doc, h.name.span});
  if (!wish.harness.empty() && !loaded.diagnostics.has_errors())
    apply_harness(document, wish.harness, loaded.diagnostics, loaded.left_out);
  loaded.only_read = loaded.diagnostics.has_errors();
  if (loaded.only_read) return loaded;

  auto program = std::make_shared<Program>();
  program->sources = loaded.sources;
  program->live = wish.live;
  Check check(*program, loaded.diagnostics, document);
  check.read_file = [&](const std::string& path, Span where) { return files.read(path, where); };
  declare_file_level(check);
  lang::BenchDecl* bench = the_bench(check, document, wish.bench_needed);
  if (bench != nullptr) {
    program->name = bench->name.text;
    program->doc = bench->doc;
    check_bench(check, *bench, wish, loaded);
  }
  check_unused_models(document, loaded, bench == nullptr);
  if (loaded.diagnostics.has_errors()) return loaded;
  if (wish.rated) loaded.rated = rated_cases(document, loaded, bench != nullptr ? &check : nullptr);
  if (bench == nullptr || loaded.diagnostics.has_errors()) return loaded;
  add_watches(*program);
  number_variables(*program);
  loaded.program = std::move(program);
  return loaded;
}

}  // namespace isodyne::check
