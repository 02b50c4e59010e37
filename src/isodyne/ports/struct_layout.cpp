#include "isodyne/ports/struct_layout.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/ports/frame_header.h"

namespace isodyne::ports {

namespace {

std::size_t bytes_of(const Field& f) {
  if (f.kind == Field::Kind::frame) return f.frame->codec.bytes();
  return f.kind == Field::Kind::real ? 8 : f.kind == Field::Kind::boolean ? 1 : 4;
}
std::size_t alignment_of(const Field& f) {
  return f.kind == Field::Kind::frame ? 1 : bytes_of(f);
}

std::string c_type(const Field& f) {
  if (f.kind == Field::Kind::frame) return f.name + "_frame";
  return f.kind == Field::Kind::real ? "double" : f.kind == Field::Kind::boolean ? "bool" : "int32_t";
}

std::int32_t labels_of(const program::Program& program, program::VarId id) {
  const program::Type& type = program.variable(id).type;
  if (type.kind != program::Type::Kind::choice) return 0;
  return static_cast<std::int32_t>(program.choices[static_cast<std::size_t>(type.choice)].labels.size());
}

Field field_of(const program::Program& program, program::VarId id, const std::string& strip) {
  const program::Variable& v = program.variable(id);
  Field field;
  field.variable = id;
  field.name = c_name(v.name.starts_with(strip) ? v.name.substr(strip.size()) : v.name);
  switch (v.type.kind) {
    case program::Type::Kind::boolean:
      field.kind = Field::Kind::boolean;
      break;
    case program::Type::Kind::integer:
      field.kind = Field::Kind::integer;
      break;
    case program::Type::Kind::choice:
      field.kind = Field::Kind::choice;
      field.labels = labels_of(program, id);
      break;
    case program::Type::Kind::real:
    case program::Type::Kind::invalid:
      break;
  }
  return field;
}

Field frame_member(const program::Program& program, std::int32_t index) {
  const program::Frame& frame = program.frames[static_cast<std::size_t>(index)];
  FrameMember member{io::FrameCodec(frame), {}, {}};
  for (const program::FrameField& f : frame.fields) {
    member.names.push_back(program.variable(f.raw).name);
    member.labels.push_back(labels_of(program, f.raw));
  }
  Field field;
  field.name = c_name(frame.name);
  field.kind = Field::Kind::frame;
  field.frame = std::make_shared<const FrameMember>(std::move(member));
  field.frame_index = index;
  return field;
}

/// One member per value, and one per frame.
template <typename IdOf>
std::vector<Field> members(const program::Program& program, const std::vector<program::FrameUse>& frames,
                           std::size_t values, const std::string& strip, IdOf id_of) {
  std::vector<Field> fields;
  std::size_t next_frame = 0;
  for (std::size_t i = 0; i < values;) {
    Field field;
    std::size_t count = 1;
    if (next_frame < frames.size() && frames[next_frame].first == i) {
      field = frame_member(program, frames[next_frame++].frame);
      count = field.frame->names.size();
    } else {
      field = field_of(program, id_of(i), strip);
    }
    field.first = i;
    fields.push_back(std::move(field));
    i += count;
  }
  return fields;
}

std::size_t place(std::vector<Field>& fields) {
  std::size_t at = 0, widest = 1;
  for (Field& f : fields) {
    const std::size_t alignment = alignment_of(f);
    at = (at + alignment - 1) / alignment * alignment;
    f.offset = at;
    at += bytes_of(f);
    widest = std::max(widest, alignment);
  }
  return std::max<std::size_t>(1, (at + widest - 1) / widest * widest);
}

std::string upper(std::string text) {
  for (char& c : text) {
    if (c >= 'a' && c <= 'z') c = static_cast<char>(c - 'a' + 'A');
  }
  return text;
}

std::string comment_of(const program::Program& program, const Field& f) {
  if (f.kind == Field::Kind::frame) {
    const program::Frame& frame = program.frames[static_cast<std::size_t>(f.frame_index)];
    return c_comment(fmt::format("{} of 64 bits{}{}", counted(static_cast<std::size_t>(frame.words), "word"),
                                 frame.doc.empty() ? "" : ": ", frame.doc));
  }
  const program::Variable& v = program.variable(f.variable);
  std::string type = program.type_text(v);
  if (f.kind == Field::Kind::real) type = v.type.dimension.none() ? "1" : si_text(v.type.dimension);
  return c_comment(fmt::format("{}{}{}", type, v.doc.empty() ? "" : ": ", v.doc));
}

std::string struct_text(const program::Program& program, const std::string& name, const std::vector<Field>& fields,
                        std::size_t bytes) {
  std::string text = fmt::format("typedef struct {} {{\n", name);
  for (const Field& f : fields) text += fmt::format("  {} {}; {}\n", c_type(f), f.name, comment_of(program, f));
  if (fields.empty()) text += "  bool unused; /* a C struct needs a member */\n";
  text += fmt::format("}} {};\n", name);
  text += fmt::format("static_assert(sizeof({}) == {}, \"layout of {}\");\n", name, bytes, name);
  for (const Field& f : fields) {
    text += fmt::format("static_assert(offsetof({}, {}) == {}, \"layout of {}\");\n", name, f.name, f.offset, name);
  }
  return text + "\n";
}

/// One enum per choice that any member uses.
std::string enums_text(const program::Program& program, const program::Controller& controller, const Layout& layout) {
  std::set<std::int32_t> used;
  for (const program::SharedParameter& s : controller.shares) {
    const program::Type& type = program.variable(s.id).type;
    if (type.kind == program::Type::Kind::choice) used.insert(type.choice);
  }
  for (const auto* fields : {&layout.reads, &layout.writes}) {
    for (const Field& f : *fields) {
      if (f.kind == Field::Kind::choice) used.insert(program.variable(f.variable).type.choice);
      if (f.kind != Field::Kind::frame) continue;
      for (const program::FrameField& inner : program.frames[static_cast<std::size_t>(f.frame_index)].fields) {
        const program::Type& type = program.variable(inner.raw).type;
        if (type.kind == program::Type::Kind::choice) used.insert(type.choice);
      }
    }
  }
  std::string text;
  for (const std::int32_t choice : used) {
    const program::Choice& c = program.choices[static_cast<std::size_t>(choice)];
    text += fmt::format("/* {} */\nenum {{\n", c.name);
    for (std::size_t i = 0; i < c.labels.size(); ++i) {
      text += fmt::format("  {}_{} = {}{}\n", upper(c_name(c.name)), upper(c.labels[i]), i,
                          i + 1 < c.labels.size() ? "," : "");
    }
    text += "};\n\n";
  }
  return text;
}

/// The shared parameters: a struct, its values, and each of them by itself.
std::string parameters_text(const program::Program& program, const program::Controller& controller,
                            const std::string& name) {
  if (controller.shares.empty()) return "";
  std::vector<Field> fields;
  std::string values, defines;
  for (const program::SharedParameter& s : controller.shares) {
    Field f = field_of(program, s.id, "");
    const std::string value = f.kind == Field::Kind::real      ? format_exact(s.value)
                              : f.kind == Field::Kind::boolean ? (s.value != 0 ? "true" : "false")
                                                               : fmt::format("{:.0f}", s.value);
    const bool whole = f.kind == Field::Kind::real && value.find_first_of(".e") == std::string::npos;
    list_on(values, fmt::format("{}{}", value, whole ? ".0" : ""));
    defines += fmt::format("#define {}_{} {}{} {}\n", upper(name), upper(f.name), s.value < 0 ? "(" : "",
                           value + (whole ? ".0" : "") + (s.value < 0 ? ")" : ""), comment_of(program, f));
    fields.push_back(std::move(f));
  }
  const std::size_t bytes = place(fields);
  return "/* Parameters of the plant that the bench shares with this controller. */\n" + defines + "\n" +
         struct_text(program, name + "_parameters", fields, bytes) +
         fmt::format("#define {}_PARAMETERS {{{}}}\n\n", upper(name), values);
}

}  // namespace

std::string c_comment(std::string text) {
  for (std::size_t at = text.find("*/"); at != std::string::npos; at = text.find("*/")) text.replace(at, 2, "* /");
  return "/* " + text + " */";
}

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

Layout layout_of(const program::Program& program, const program::Controller& controller) {
  Layout layout;
  const std::string strip = controller.name + ".";
  layout.reads = members(program, controller.read_frames, controller.reads.size(), strip,
                         [&](std::size_t i) { return controller.reads[i]; });
  layout.writes = members(program, controller.write_frames, controller.writes.size(), strip,
                          [&](std::size_t i) { return controller.writes[i].value; });
  layout.reads_bytes = place(layout.reads);
  layout.writes_bytes = place(layout.writes);
  std::string identity;
  for (const auto* fields : {&layout.reads, &layout.writes}) {
    for (const Field& f : *fields) {
      if (f.kind == Field::Kind::frame) {
        identity += frame_identity(program, program.frames[static_cast<std::size_t>(f.frame_index)]);
        continue;
      }
      const program::Variable& v = program.variable(f.variable);
      const std::string type = f.kind == Field::Kind::real ? si_text(v.type.dimension) : program.type_text(v);
      identity += fmt::format("{} {} {}\n", f.name, c_type(f), type);
    }
    identity += "--\n";
  }
  // Code that was built with other parameters is code for another plant.
  for (const program::SharedParameter& s : controller.shares)
    identity += fmt::format("{} {} {}\n", program.variable(s.id).name, program.type_text(program.variable(s.id)),
                            format_exact(s.value));
  layout.identity = fnv1a(identity);
  return layout;
}

void pack(const std::vector<Field>& fields, std::span<const double> values, std::byte* bytes) {
  for (const Field& f : fields) {
    std::byte* to = bytes + f.offset;
    const double value = f.first < values.size() ? values[f.first] : 0;
    switch (f.kind) {
      case Field::Kind::frame:
        f.frame->codec.pack(values.subspan(f.first, f.frame->names.size()), to);
        break;
      case Field::Kind::real:
        std::memcpy(to, &value, 8);
        break;
      case Field::Kind::boolean:
        *to = value != 0 ? std::byte{1} : std::byte{0};
        break;
      case Field::Kind::integer:
      case Field::Kind::choice: {
        const auto whole = static_cast<std::int32_t>(std::clamp(value, -2147483648.0, 2147483647.0));
        std::memcpy(to, &whole, 4);
      }
    }
  }
}

namespace {

/// Of one member: index of the first value that cannot be, or −1.
int unpack_member(const Field& f, const std::byte* from, std::span<double> values) {
  double& value = values[f.first];
  std::int32_t whole = 0;
  switch (f.kind) {
    case Field::Kind::frame: {
      f.frame->codec.unpack(from, values.subspan(f.first, f.frame->names.size()));
      for (std::size_t i = 0; i < f.frame->labels.size(); ++i) {
        if (f.frame->labels[i] > 0 && values[f.first + i] >= f.frame->labels[i]) return static_cast<int>(f.first + i);
      }
      return -1;
    }
    case Field::Kind::real:
      std::memcpy(&value, from, 8);
      return std::isfinite(value) ? -1 : static_cast<int>(f.first);
    case Field::Kind::boolean:
      value = *from != std::byte{0} ? 1 : 0;
      return -1;
    case Field::Kind::integer:
    case Field::Kind::choice:
      std::memcpy(&whole, from, 4);
      value = whole;
      return f.kind == Field::Kind::choice && (whole < 0 || whole >= f.labels) ? static_cast<int>(f.first) : -1;
  }
  return -1;
}

}  // namespace

int unpack(const std::vector<Field>& fields, const std::byte* bytes, std::span<double> values) {
  for (const Field& f : fields) {
    const bool empty_frame = f.kind == Field::Kind::frame && f.frame->names.empty();
    const int wrong = empty_frame ? -1 : unpack_member(f, bytes + f.offset, values);
    if (wrong >= 0) return wrong;
  }
  return -1;
}

std::string why_wrong(const std::vector<Field>& fields, std::size_t index, double value) {
  std::string name;
  std::int32_t labels = 0;
  for (const Field& f : fields) {
    const std::size_t count = f.kind == Field::Kind::frame ? f.frame->names.size() : 1;
    if (index < f.first || index >= f.first + count) continue;
    name = f.kind == Field::Kind::frame ? f.frame->names[index - f.first] : f.name;
    labels = f.kind == Field::Kind::frame ? f.frame->labels[index - f.first] : f.labels;
  }
  return fmt::format("it wrote {} to `{}`, which takes {}", value, name,
                     labels > 0 ? fmt::format("0 to {}", labels - 1) : "finite numbers");
}

namespace {

nlohmann::ordered_json struct_json(const program::Program& program, const std::vector<Field>& fields,
                                   std::size_t bytes) {
  static constexpr const char* kKinds[] = {"real", "integer", "boolean", "choice", "frame"};
  nlohmann::ordered_json j{{"bytes", bytes}, {"fields", nlohmann::ordered_json::array()}};
  for (const Field& f : fields) {
    nlohmann::ordered_json field{
        {"name", f.name}, {"kind", kKinds[static_cast<std::size_t>(f.kind)]}, {"offset", f.offset}};
    if (f.kind == Field::Kind::frame) field["bytes"] = bytes_of(f);
    if (f.kind == Field::Kind::real) {
      const program::Type& type = program.variable(f.variable).type;
      field["unit"] = type.dimension.none() ? "1" : si_text(type.dimension);
    }
    if (f.kind == Field::Kind::choice)
      field["labels"] = program.choices[static_cast<std::size_t>(program.variable(f.variable).type.choice)].labels;
    j["fields"].push_back(std::move(field));
  }
  return j;
}

}  // namespace

std::string layout_json(const program::Program& program, const program::Controller& controller) {
  const Layout layout = layout_of(program, controller);
  nlohmann::ordered_json j{{"format", "isodyne layout"},
                           {"format_version", 1},
                           {"bench", program.name},
                           {"controller", controller.name},
                           {"period_ns", controller.period.count()},
                           {"identity", fmt::format("{:016x}", layout.identity)}};
  j["reads"] = struct_json(program, layout.reads, layout.reads_bytes);
  j["writes"] = struct_json(program, layout.writes, layout.writes_bytes);
  return j.dump(2) + "\n";
}

std::string header_text(const program::Program& program, const program::Controller& controller) {
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
  text += enums_text(program, controller, layout);
  for (const auto* fields : {&layout.reads, &layout.writes}) {
    for (const Field& f : *fields) {
      if (f.kind == Field::Kind::frame)
        text += frame_text(program, program.frames[static_cast<std::size_t>(f.frame_index)]);
    }
  }
  text += struct_text(program, name + "_reads", layout.reads, layout.reads_bytes);
  text += struct_text(program, name + "_writes", layout.writes, layout.writes_bytes);
  text += parameters_text(program, controller, name);
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
