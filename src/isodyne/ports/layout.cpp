#include "isodyne/ports/layout.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::ports {

namespace {

std::size_t bytes_of(Field::Kind kind) {
  return kind == Field::Kind::real ? 8 : kind == Field::Kind::boolean ? 1 : 4;
}

const char* c_type(Field::Kind kind) {
  return kind == Field::Kind::real ? "double" : kind == Field::Kind::boolean ? "bool" : "int32_t";
}

Field field_of(const model::Program& program, model::VarId id, const std::string& strip) {
  const model::Variable& v = program.variable(id);
  Field field;
  field.variable = id;
  field.name = c_name(v.name.starts_with(strip) ? v.name.substr(strip.size()) : v.name);
  switch (v.type.kind) {
    case model::Type::Kind::boolean:
      field.kind = Field::Kind::boolean;
      break;
    case model::Type::Kind::integer:
      field.kind = Field::Kind::integer;
      break;
    case model::Type::Kind::choice:
      field.kind = Field::Kind::choice;
      field.labels = static_cast<std::int32_t>(program.choices[static_cast<std::size_t>(v.type.choice)].labels.size());
      break;
    case model::Type::Kind::real:
    case model::Type::Kind::invalid:
      break;
  }
  return field;
}

std::size_t place(std::vector<Field>& fields) {
  std::size_t at = 0, widest = 1;
  for (Field& f : fields) {
    const std::size_t size = bytes_of(f.kind);
    at = (at + size - 1) / size * size;
    f.offset = at;
    at += size;
    widest = std::max(widest, size);
  }
  return std::max<std::size_t>(1, (at + widest - 1) / widest * widest);
}

std::string upper(std::string text) {
  for (char& c : text) {
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  }
  return text;
}

std::string comment_of(const model::Program& program, const Field& f) {
  const model::Variable& v = program.variable(f.variable);
  std::string type = program.type_text(v);
  if (f.kind == Field::Kind::real) type = fmt::format("{}", v.type.dimension.none() ? "1" : si_text(v.type.dimension));
  std::string text = v.doc;
  for (std::size_t at = text.find("*/"); at != std::string::npos; at = text.find("*/")) text.replace(at, 2, "* /");
  return fmt::format("/* {}{}{} */", type, text.empty() ? "" : ": ", text);
}

std::string struct_text(const model::Program& program, const std::string& name, const std::vector<Field>& fields,
                        std::size_t bytes) {
  std::string text = fmt::format("typedef struct {} {{\n", name);
  for (const Field& f : fields) text += fmt::format("  {} {}; {}\n", c_type(f.kind), f.name, comment_of(program, f));
  if (fields.empty()) text += "  bool unused; /* a C struct needs a member */\n";
  text += fmt::format("}} {};\n", name);
  text += fmt::format("static_assert(sizeof({}) == {}, \"layout of {}\");\n", name, bytes, name);
  for (const Field& f : fields) {
    text += fmt::format("static_assert(offsetof({}, {}) == {}, \"layout of {}\");\n", name, f.name, f.offset, name);
  }
  return text + "\n";
}

/// One enum per choice that any member uses.
std::string enums_text(const model::Program& program, const Layout& layout) {
  std::set<std::int32_t> used;
  for (const auto* fields : {&layout.reads, &layout.writes}) {
    for (const Field& f : *fields) {
      if (f.kind == Field::Kind::choice) used.insert(program.variable(f.variable).type.choice);
    }
  }
  std::string text;
  for (const std::int32_t choice : used) {
    const model::Choice& c = program.choices[static_cast<std::size_t>(choice)];
    text += fmt::format("/* {} */\nenum {{\n", c.name);
    for (std::size_t i = 0; i < c.labels.size(); ++i) {
      text += fmt::format("  {}_{} = {}{}\n", upper(c_name(c.name)), upper(c.labels[i]), i,
                          i + 1 < c.labels.size() ? "," : "");
    }
    text += "};\n\n";
  }
  return text;
}

}  // namespace

std::string c_name(const std::string& name) {
  static const std::set<std::string> kWords = {
      "auto",     "bool",     "break",  "case",     "char",   "const",  "continue", "default", "do",     "double",
      "else",     "enum",     "extern", "float",    "for",    "goto",   "if",       "inline",  "int",    "long",
      "register", "restrict", "return", "short",    "signed", "sizeof", "static",   "struct",  "switch", "typedef",
      "union",    "unsigned", "void",   "volatile", "while",  "true",   "false"};
  std::string text = name;
  std::replace(text.begin(), text.end(), '.', '_');
  return kWords.contains(text) ? text + "_" : text;
}

Layout layout_of(const model::Program& program, const model::Controller& controller) {
  Layout layout;
  for (const model::VarId id : controller.reads) layout.reads.push_back(field_of(program, id, controller.name + "."));
  for (const model::ControllerWrite& w : controller.writes)
    layout.writes.push_back(field_of(program, w.value, controller.name + "."));
  layout.reads_bytes = place(layout.reads);
  layout.writes_bytes = place(layout.writes);
  std::string identity;
  for (const auto* fields : {&layout.reads, &layout.writes}) {
    for (const Field& f : *fields) {
      const model::Variable& v = program.variable(f.variable);
      const std::string type = f.kind == Field::Kind::real ? si_text(v.type.dimension) : program.type_text(v);
      identity += fmt::format("{} {} {}\n", f.name, c_type(f.kind), type);
    }
    identity += "--\n";
  }
  layout.identity = fnv1a(identity);
  return layout;
}

void pack(const std::vector<Field>& fields, std::span<const double> values, std::byte* bytes) {
  for (std::size_t i = 0; i < fields.size(); ++i) {
    std::byte* to = bytes + fields[i].offset;
    if (fields[i].kind == Field::Kind::real) {
      std::memcpy(to, &values[i], 8);
    } else if (fields[i].kind == Field::Kind::boolean) {
      *to = values[i] != 0 ? std::byte{1} : std::byte{0};
    } else {
      const auto whole = static_cast<std::int32_t>(std::clamp(values[i], -2147483648.0, 2147483647.0));
      std::memcpy(to, &whole, 4);
    }
  }
}

int unpack(const std::vector<Field>& fields, const std::byte* bytes, std::span<double> values) {
  for (std::size_t i = 0; i < fields.size(); ++i) {
    const Field& f = fields[i];
    const std::byte* from = bytes + f.offset;
    if (f.kind == Field::Kind::real) {
      std::memcpy(&values[i], from, 8);
      if (!std::isfinite(values[i])) return static_cast<int>(i);
    } else if (f.kind == Field::Kind::boolean) {
      values[i] = *from != std::byte{0} ? 1 : 0;
    } else {
      std::int32_t whole = 0;
      std::memcpy(&whole, from, 4);
      values[i] = whole;
      if (f.kind == Field::Kind::choice && (whole < 0 || whole >= f.labels)) return static_cast<int>(i);
    }
  }
  return -1;
}

std::string header_text(const model::Program& program, const model::Controller& controller) {
  const Layout layout = layout_of(program, controller);
  const std::string name = c_name(controller.name);
  const std::string guard = upper(fmt::format("ISODYNE_{}_{}_H", c_name(program.name), name));
  std::string text = fmt::format(
      "/* Channels of controller `{0}` on bench {1}.\n"
      " * Written by `isodyne export header`; do not edit: change the bench and export again.\n"
      " * Real members are in the SI unit named behind them. */\n"
      "#ifndef {2}\n#define {2}\n\n"
      "#include <assert.h>\n#include <stddef.h>\n\n#include \"isodyne/controller.h\"\n\n",
      controller.name, program.name, guard);
  text += enums_text(program, layout);
  text += struct_text(program, name + "_reads", layout.reads, layout.reads_bytes);
  text += struct_text(program, name + "_writes", layout.writes, layout.writes_bytes);
  text += fmt::format(
      "#define {0}_PERIOD_NS INT64_C({1})\n\n"
      "/* Put this line into one C file: const isodyne_controller_info isodyne_info = {0}_INFO; */\n"
      "#define {0}_INFO \\\n"
      "  {{ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof({2}_reads), (uint32_t)sizeof({2}_writes), 0u, \\\n"
      "   UINT64_C(0x{3:016x})}}\n\n"
      "extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;\n"
      "ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);\n"
      "ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const {2}_reads *reads, {2}_writes *writes);\n"
      "ISODYNE_EXPORT void isodyne_close(void *self);\n\n"
      "#endif\n",
      upper(name), controller.period.count(), name, layout.identity);
  return text;
}

}  // namespace isodyne::ports
