#include "isodyne/model/load.h"

#include <algorithm>
#include <filesystem>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/lang/parser.h"
#include "isodyne/model/channels.h"
#include "isodyne/model/flatten.h"
#include "isodyne/model/judged.h"
#include "isodyne/model/sort.h"

namespace isodyne::model {

namespace {

/// Reads the main file and, breadth first, every file in `use`; each once, so cycles end by themselves.
void read_all(const std::string& folder, const std::string& main, const Reader& reader, Loaded& loaded,
              lang::Document& document) {
  struct Wanted {
    std::string relative;
    Span use;
  };
  constexpr std::size_t kMostFiles = 1000;
  std::vector<Wanted> wanted{{main, {}}};
  for (std::size_t i = 0; i < wanted.size() && i < kMostFiles; ++i) {
    const Wanted file = wanted[i];
    const Result<std::string> text = reader(file.relative);
    if (!text) {
      loaded.diagnostics.error(Code::cannot_read, file.use, text.failure().text());
      continue;
    }
    const std::int32_t source = loaded.sources->add(folder + file.relative, *text);
    loaded.relative.push_back(file.relative);
    const std::size_t uses_before = document.uses.size();
    lang::parse(*loaded.sources, source, loaded.diagnostics, document);
    for (std::size_t u = uses_before; u < document.uses.size(); ++u) {
      const auto base = std::filesystem::path(file.relative).parent_path();
      const std::string relative = (base / document.uses[u].path).lexically_normal().string();
      const bool known =
          std::any_of(wanted.begin(), wanted.end(), [&](const Wanted& w) { return w.relative == relative; });
      if (!known) wanted.push_back({relative, document.uses[u].span});
    }
  }
}

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

void declare_file_level(Check& check) {
  file_level(check, check.document.functions, check.functions, "function");
  file_level(check, check.document.models, check.models, "model");
  declare_choices(check);
}

const lang::BenchDecl* the_bench(Check& check, const lang::Document& document) {
  if (document.benches.empty()) {
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
    record();
    for (const Sensor& s : p.sensors) multiple(s.period, s.span, "the sampling period");
    for (const Controller& c : p.controllers) multiple(c.period, c.span, "the period of the controller");
    for (const Sampler& s : p.samplers) multiple(s.period, s.span, "this period");
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
    if (bench_.method && bench_.method->text != "rk4") {
      check_.error(Code::unknown_name, bench_.method->span,
                   fmt::format("there is no integration method `{}`", bench_.method->text),
                   "the method is `rk4`: the classic Runge-Kutta method of order 4");
    }
  }

  void record() {
    Program& p = check_.program;
    p.record_period = p.step * std::max<std::int64_t>(1, std::chrono::milliseconds(100) / p.step);
    if (!bench_.record) return;
    const auto period = x_.check_span(*bench_.record, {&check_.root, nullptr}, "the recording period");
    if (!period) return;
    multiple(*period, bench_.record->span, "the recording period");
    p.record_period = *period;
  }

  void multiple(Time period, Span span, const char* what) {
    const Time step = check_.program.step;
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

void check_bench(Check& check, const lang::BenchDecl& bench) {
  Expressions expressions(check);
  Flattener flattener(check, expressions);
  Channels channels(check, expressions, bench);
  Judged judged(check, expressions);
  for (const lang::FunctionDecl& f : check.document.functions) expressions.check_function(f);
  flattener.declare(bench);
  channels.declare();
  judged.declare();
  flattener.define();
  channels.define();
  flattener.check_complete();
  judged.define();
  Periods(check, expressions, bench).run();
  if (!check.overflow && !check.diagnostics.has_errors()) sort_program(check);
}

/// Models that no part of the bench is made of may have mistakes too: each is checked on its own.
void check_unused_models(const lang::Document& document, Loaded& loaded) {
  std::set<std::string> used;
  const auto collect = [&](const lang::ModelDecl& m) {
    for (const lang::PartDecl& p : m.parts) used.insert(p.model.text);
  };
  for (const lang::ModelDecl& m : document.models) collect(m);
  for (const lang::BenchDecl& b : document.benches) collect(b);
  for (const lang::ModelDecl& m : document.models) {
    if (used.contains(m.name.text)) continue;
    Program scratch;
    scratch.sources = loaded.sources;
    Diagnostics repeated;  // the names at file level have been checked
    Check check(scratch, repeated, document);
    declare_file_level(check);
    Check alone(scratch, loaded.diagnostics, document);
    alone.functions = check.functions;
    alone.models = check.models;
    alone.choices = check.choices;
    alone.alone = true;
    Expressions expressions(alone);
    Flattener flattener(alone, expressions);
    flattener.declare(m);
    flattener.define();
  }
}

}  // namespace

Loaded load_bench(const std::string& folder, const std::string& main, const Reader& reader) {
  Loaded loaded;
  loaded.sources = std::make_shared<Sources>();
  lang::Document document;
  read_all(folder, main, reader, loaded, document);
  if (loaded.diagnostics.has_errors()) return loaded;

  auto program = std::make_shared<Program>();
  program->sources = loaded.sources;
  Check check(*program, loaded.diagnostics, document);
  declare_file_level(check);
  const lang::BenchDecl* bench = the_bench(check, document);
  if (bench == nullptr) return loaded;
  program->name = bench->name.text;
  program->doc = bench->doc;
  check_bench(check, *bench);
  check_unused_models(document, loaded);
  if (!loaded.diagnostics.has_errors()) loaded.program = std::move(program);
  return loaded;
}

}  // namespace isodyne::model
