#include "isodyne/engine/c_export.h"

#include <set>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/core/version.h"
#include "isodyne/engine/c_code.h"
#include "isodyne/engine/c_expressions.h"
#include "isodyne/engine/interpreter.h"

namespace isodyne::engine {

namespace {

constexpr std::uint64_t kUsualSeed = 1;  ///< of a run that names none
constexpr const char* kHead = "/* Bench {}, written by isodyne {}. Values are SI; time is whole nanoseconds. */\n";

std::string header(const program::Plant& p, const Plan& plan, const CCode& code) {
  const CNames names(p);
  std::string text = fmt::format(fmt::runtime(kHead), p.name, kVersion);
  text += "#ifndef PLANT_H\n#define PLANT_H\n\n";
  text += kMemoryText;
  text += "\n/* Places of the quantities in iso_memory.v */\nenum {\n";
  for (std::size_t i = 0; i < p.variables.size(); ++i) {
    const program::Variable& v = p.variables[i];
    const std::string unit = v.type.kind == program::Type::Kind::real ? si_text(v.type.dimension) : p.type_text(v);
    text += fmt::format("  i_{} = {}, /* {} : {} */\n", names.of(static_cast<program::VarId>(i)), i, v.name, unit);
  }
  const auto rings = rings_of(p);
  const std::int64_t history = rings.empty() ? 0 : rings.back().begin + rings.back().size;
  text += fmt::format(
      "  plant_quantities = {}\n}};\n\n/* Everything that changes, in one piece that can be copied. */\n"
      "typedef struct plant {{\n  iso_memory memory;\n  int64_t now;\n  double v[plant_quantities];\n  double "
      "next[{}];\n"
      "  double history[{}];\n  int64_t remembered[{}];\n  int32_t reversals[{}];\n  char event_was[{}], "
      "event_late[{}];\n"
      "  int32_t unsolved, entered, endless, change_count;\n  iso_change changes[{}];\n  double known[{}], "
      "work[{}], doubt[5];\n}} "
      "plant;\n\n",
      p.variables.size(), p.states.size() + 1, history + 1, rings.size() + 1, p.machines.size() + 1,
      p.events.size() + 1, p.events.size() + 1,
      2 * p.machines.size() * static_cast<std::size_t>(plan.instants_per_step) + 1, code.known + 1, code.work + 1);
  text += fmt::format(
      "#define PLANT_STEP_NS INT64_C({})\n\n"
      "/* All quantities at their start values, time 0. Call again after copying a plant: it holds pointers to itself. "
      "*/\n"
      "void plant_start(plant *p);\nvoid plant_connect(plant *p);\n"
      "/* Equations, transitions, events and sampled parts at the present instant. Set inputs before. Sensors are "
      "ideal:\n"
      " * at their instants they give what they measure, unless memory.sample does something else. */\n"
      "void plant_settle(plant *p);\n"
      "/* To the next instant; kind 0: it went well. */\n"
      "iso_trouble plant_step(plant *p);\n\n#endif\n",
      p.step.count());
  return text;
}

std::string source(const std::shared_ptr<const program::Plant>& program, const Plan& plan, const CCode& code) {
  const program::Plant& p = *program;
  PlantState start = Interpreter(program, plan).start({});
  start.values[program::kSeed] = random_key(kUsualSeed);
  std::string text = fmt::format(fmt::runtime(kHead), p.name, kVersion);
  text += "#include \"plant.h\"\n\n";
  text += kNumericsText;
  // The enumeration of places stands in the header.
  const std::size_t begin = code.text.find("/* Places of"), end = code.text.find("};\n\n", begin) + 4;
  text += code.text.substr(0, begin) + code.text.substr(end);
  text += "\n/* Start values. */\nstatic const double first[] = {\n";
  for (std::size_t i = 0; i < p.variables.size(); ++i)
    text += fmt::format("  {}, /* {}{} */\n", c_number(start.values[i]), p.variables[i].name,
                        i == static_cast<std::size_t>(program::kSeed) ? ": the key of `--seed 1`" : "");
  text +=
      "};\n\nvoid plant_connect(plant *p) {\n"
      "  iso_memory *m = &p->memory;\n  m->now = &p->now;\n  m->v = p->v;\n  m->next = p->next;\n  m->history = "
      "p->history;\n"
      "  m->remembered = p->remembered;\n  m->reversals = p->reversals;\n  m->event_was = p->event_was;\n"
      "  m->event_late = p->event_late;\n  m->unsolved = &p->unsolved;\n  m->entered = &p->entered;\n"
      "  m->endless = &p->endless;\n  m->changes = p->changes;\n  m->change_count = &p->change_count;\n"
      "  m->known = p->known;\n  m->work = p->work;\n  m->doubt = p->doubt;\n  m->sensing = 1;\n}\n\n"
      "void plant_start(plant *p) {\n  memset(p, 0, sizeof *p);\n  memcpy(p->v, first, sizeof first);\n  p->unsolved = "
      "-1;\n"
      "  plant_connect(p);\n}\n\n"
      "void plant_settle(plant *p) {\n  p->change_count = 0;\n  iso_plant_settle(&p->memory);\n}\n\n"
      "iso_trouble plant_step(plant *p) {\n  p->change_count = 0;\n  return iso_plant_step(&p->memory);\n}\n";
  return text;
}

std::string main_program(const program::Plant& p) {
  const CNames names(p);
  std::string heads, values, formats;
  for (const program::State& s : p.states) {
    heads += "," + p.variable(s.value).name;
    formats += ",%.17g";
    values += fmt::format(",\n           p.v[i_{}]", names.of(s.value));
  }
  return fmt::format(fmt::runtime(kHead), p.name, kVersion) +
         fmt::format(
             "#include <stdio.h>\n#include <stdlib.h>\n\n#include \"plant.h\"\n\nstatic plant p;\n\n"
             "/* main SECONDS [LINES]: runs the plant with its inputs at rest and prints its states as CSV. */\n"
             "int main(int argc, char **argv) {{\n  const double seconds = argc > 1 ? atof(argv[1]) : 10;\n"
             "  const int64_t lines = argc > 2 ? atoll(argv[2]) : 100;\n"
             "  const int64_t steps = (int64_t)(seconds * 1e9 / (double)PLANT_STEP_NS + 0.5);\n"
             "  const int64_t every = lines > 0 && steps > lines ? steps / lines : 1;\n"
             "  plant_start(&p);\n  puts(\"time{}\");\n  for (int64_t k = 0; k <= steps; ++k) {{\n    "
             "plant_settle(&p);\n"
             "    if (k % every == 0)\n      printf(\"%.9f{}\\n\", (double)p.now / 1e9{});\n    if (k == steps) "
             "break;\n"
             "    const iso_trouble trouble = plant_step(&p);\n    if (trouble.kind != 0) {{\n"
             "      fprintf(stderr, \"trouble %d with %d at %.9f s\\n\", trouble.kind, trouble.index, (double)p.now / "
             "1e9);\n"
             "      return 1;\n    }}\n  }}\n  return 0;\n}}\n",
             heads, formats, values);
}

constexpr const char* kMakefile =
    "# Any C11 compiler will do. Without the first flag some fuse multiplications and round in another way.\n"
    "CFLAGS = -std=c11 -O2 -ffp-contract=off -fno-math-errno\n\nmain: main.c plant.c plant.h\n\t$(CC) $(CFLAGS) -o $@ "
    "main.c plant.c -lm\n\n"
    "clean:\n\trm -f main\n.PHONY: clean\n";

std::size_t quick_cores(const program::Plant& p) {
  std::set<std::int32_t> cores;
  for (const program::Group& g : p.groups) {
    if (g.step < p.step) cores.insert(g.core);
  }
  return cores.size();
}

}  // namespace

Result<std::vector<std::pair<std::string, std::string>>> c_export(
    const std::shared_ptr<const program::Plant>& benched) {
  if (!benched->networks.empty())
    return Failure{"cannot put this bench into C", "", "it has a network, whose solver is no C"};
  if (quick_cores(*benched) > 1)
    return Failure{
        "cannot put this bench into one piece of C", "",
        fmt::format("parts on {} cores have steps quicker than {}, and see of each other what was at the last "
                    "instant of the bench; put them on one core (leave out `on core`)",
                    quick_cores(*benched), format_span(benched->step))};
  // Otherwise cores see of each other just what groups do.
  const auto program = on_one_core(*benched);
  const Plan plan(*program);
  CStyle style;
  style.comments = true;
  style.taps = false;
  const CCode code = c_code(*program, plan, style);
  return std::vector<std::pair<std::string, std::string>>{{"plant.h", header(*program, plan, code)},
                                                          {"plant.c", source(program, plan, code)},
                                                          {"main.c", main_program(*program)},
                                                          {"Makefile", kMakefile}};
}

}  // namespace isodyne::engine
