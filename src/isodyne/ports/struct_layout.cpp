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

constexpr std::size_t kGateBytes = 4 + 4 * program::kMostAnswerEdges;

std::size_t alignment_of(const Field& f) {
  switch (f.kind) {
    case Field::Kind::frame:
    case Field::Kind::boolean:
      return 1;
    case Field::Kind::real:
      return 8;
    default:
      return 4;
  }
}
/// Of one element.
std::size_t element_bytes(const Field& f) {
  return f.kind == Field::Kind::frame  ? f.frame->codec.bytes()
         : f.kind == Field::Kind::gate ? kGateBytes
                                       : alignment_of(f);
}
std::size_t bytes_of(const Field& f) {
  return element_bytes(f) * std::max<std::size_t>(1, f.count);
}

std::string c_type(const Field& f) {
  switch (f.kind) {
    case Field::Kind::frame:
      return f.name + "_frame";
    case Field::Kind::gate:
      return "isodyne_gate";
    case Field::Kind::real:
      return "double";
    case Field::Kind::boolean:
      return "bool";
    default:
      return "int32_t";
  }
}
/// "[3]" behind the name of a vector.
std::string c_size(const Field& f) {
  return f.count == 0 ? std::string{} : fmt::format("[{}]", f.count);
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

/// One member per value, and one per frame or vector.
template <typename IdOf>
std::vector<Field> members(const program::Program& program, const std::vector<program::FrameUse>& frames,
                           const std::vector<program::VectorUse>& vectors, std::size_t values, const std::string& strip,
                           IdOf id_of) {
  std::vector<Field> fields;
  std::size_t next_frame = 0, next_vector = 0;
  for (std::size_t i = 0; i < values;) {
    Field field;
    std::size_t count = 1;
    if (next_frame < frames.size() && frames[next_frame].first == i) {
      field = frame_member(program, frames[next_frame++].frame);
      count = field.frame->names.size();
    } else {
      field = field_of(program, id_of(i), strip);
      if (next_vector < vectors.size() && vectors[next_vector].first == i) {
        field.name = c_name(vectors[next_vector].name);
        field.count = count = vectors[next_vector++].count;
      }
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
  if (f.kind == Field::Kind::gate) type = "gate";
  return c_comment(fmt::format("{}{}{}", type, v.doc.empty() ? "" : ": ", v.doc));
}

std::string struct_text(const program::Program& program, const std::string& name, const std::vector<Field>& fields,
                        std::size_t bytes) {
  std::string text = fmt::format("typedef struct {} {{\n", name);
  for (const Field& f : fields)
    text += fmt::format("  {} {}{}; {}\n", c_type(f), f.name, c_size(f), comment_of(program, f));
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
  std::string text;  // "load[2].power" → "load_2_power"
  for (const char c : name) {
    if (c != ']') text += c == '.' || c == '[' ? '_' : c;
  }
  return kWords.contains(text) ? text + "_" : text;
}

Layout layout_of(const program::Program& program, const program::Controller& controller) {
  Layout layout;
  const std::string strip = controller.name + ".";
  layout.reads = members(program, controller.read_frames, controller.read_vectors, controller.reads.size(), strip,
                         [&](std::size_t i) { return controller.reads[i]; });
  layout.writes = members(program, controller.write_frames, controller.write_vectors, controller.writes.size(), strip,
                          [&](std::size_t i) { return controller.writes[i].value; });
  for (Field& f : layout.writes) {
    f.edges = f.kind == Field::Kind::frame ? 0 : controller.writes[f.first].edges;
    if (f.edges != 0) f.kind = Field::Kind::gate;
    f.period = controller.period;
  }
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
      identity += fmt::format("{}{} {} {}\n", f.name, c_size(f), c_type(f), type);
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

namespace {

std::int32_t whole_of(double value) {
  return static_cast<std::int32_t>(std::clamp(value, -2147483648.0, 2147483647.0));
}

/// Of element `i`.
void pack_element(const Field& f, std::size_t i, std::span<const double> values, std::byte* to) {
  const double value = f.first + i < values.size() ? values[f.first + i] : 0;
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
    case Field::Kind::gate:  // only what a controller writes has edges, and that is only read here
      *to = value != 0 ? std::byte{1} : std::byte{0};
      std::memset(to + 1, 0, kGateBytes - 1);
      break;
    case Field::Kind::integer:
    case Field::Kind::choice: {
      const std::int32_t whole = whole_of(value);
      std::memcpy(to, &whole, 4);
    }
  }
}

/// The edges of a gate: up to 16, in order, within the period. Index of the first number that cannot be, or -1.
int unpack_gate(const Field& f, std::size_t i, const std::byte* from, std::span<double> values) {
  const std::size_t place = f.edges + i * program::kEdgeNumbers;
  values[f.first + i] = from[0] != std::byte{0} ? 1 : 0;
  const auto count = static_cast<std::size_t>(from[1]);
  values[place] = static_cast<double>(count);
  if (count > program::kMostAnswerEdges) return static_cast<int>(place);
  double before = 0;
  for (std::size_t k = 0; k < count; ++k) {
    std::int32_t at = 0;
    std::memcpy(&at, from + 4 + 4 * k, 4);
    double& edge = values[place + 1 + k];
    edge = at;
    if (edge < before || edge > static_cast<double>(f.period.count())) return static_cast<int>(place + 1 + k);
    before = edge;
  }
  return -1;
}

/// Of one element: index of the first value that cannot be, or -1.
int unpack_element(const Field& f, std::size_t i, const std::byte* from, std::span<double> values) {
  double& value = values[f.first + i];
  std::int32_t whole = 0;
  switch (f.kind) {
    case Field::Kind::frame: {
      f.frame->codec.unpack(from, values.subspan(f.first, f.frame->names.size()));
      for (std::size_t k = 0; k < f.frame->labels.size(); ++k) {
        if (f.frame->labels[k] > 0 && values[f.first + k] >= f.frame->labels[k]) return static_cast<int>(f.first + k);
      }
      return -1;
    }
    case Field::Kind::real:
      std::memcpy(&value, from, 8);
      return std::isfinite(value) ? -1 : static_cast<int>(f.first + i);
    case Field::Kind::boolean:
      value = *from != std::byte{0} ? 1 : 0;
      return -1;
    case Field::Kind::gate:
      return unpack_gate(f, i, from, values);
    case Field::Kind::integer:
    case Field::Kind::choice:
      std::memcpy(&whole, from, 4);
      value = whole;
      return f.kind == Field::Kind::choice && (whole < 0 || whole >= f.labels) ? static_cast<int>(f.first + i) : -1;
  }
  return -1;
}

}  // namespace

void pack(const std::vector<Field>& fields, std::span<const double> values, std::byte* bytes) {
  for (const Field& f : fields) {
    for (std::size_t i = 0; i < std::max<std::size_t>(1, f.count); ++i)
      pack_element(f, i, values, bytes + f.offset + i * element_bytes(f));
  }
}

int unpack(const std::vector<Field>& fields, const std::byte* bytes, std::span<double> values) {
  for (const Field& f : fields) {
    if (f.kind == Field::Kind::frame && f.frame->names.empty()) continue;
    for (std::size_t i = 0; i < std::max<std::size_t>(1, f.count); ++i) {
      const int wrong = unpack_element(f, i, bytes + f.offset + i * element_bytes(f), values);
      if (wrong >= 0) return wrong;
    }
  }
  return -1;
}

/// `number`: 0 is how many they are, others are instants.
static std::string why_edges_are_wrong(const std::string& gate, std::size_t number, double value, Time period) {
  if (number == 0)
    return fmt::format("it wrote {:.0f} edges to the gate `{}`, which takes {} a period at most", value, gate,
                       program::kMostAnswerEdges);
  if (value < 0 || value > static_cast<double>(period.count()))
    return fmt::format("edge {} that it wrote to the gate `{}` is at {:.0f} ns of a period of {}", number, gate, value,
                       format_span(period));
  return fmt::format("edge {} that it wrote to the gate `{}` is at {:.0f} ns, before the one in front of it", number,
                     gate, value);
}

std::string why_wrong(const std::vector<Field>& fields, std::size_t index, double value) {
  std::string name;
  std::int32_t labels = 0;
  for (const Field& f : fields) {
    const std::size_t elements = std::max<std::size_t>(1, f.count);
    const auto element = [&](std::size_t i) { return f.count == 0 ? f.name : fmt::format("{}[{}]", f.name, i); };
    if (f.edges != 0 && index >= f.edges && index < f.edges + elements * program::kEdgeNumbers)
      return why_edges_are_wrong(element((index - f.edges) / program::kEdgeNumbers),
                                 (index - f.edges) % program::kEdgeNumbers, value, f.period);
    const std::size_t count = f.kind == Field::Kind::frame ? f.frame->names.size() : elements;
    if (index < f.first || index >= f.first + count) continue;
    name = f.kind == Field::Kind::frame ? f.frame->names[index - f.first] : element(index - f.first);
    labels = f.kind == Field::Kind::frame ? f.frame->labels[index - f.first] : f.labels;
  }
  return fmt::format("it wrote {} to `{}`, which takes {}", value, name,
                     labels > 0 ? fmt::format("0 to {}", labels - 1) : "finite numbers");
}

namespace {

nlohmann::ordered_json struct_json(const program::Program& program, const std::vector<Field>& fields,
                                   std::size_t bytes) {
  static constexpr const char* kKinds[] = {"real", "integer", "boolean", "choice", "gate", "frame"};
  nlohmann::ordered_json j{{"bytes", bytes}, {"fields", nlohmann::ordered_json::array()}};
  for (const Field& f : fields) {
    nlohmann::ordered_json field{
        {"name", f.name}, {"kind", kKinds[static_cast<std::size_t>(f.kind)]}, {"offset", f.offset}};
    if (f.count > 0) field["count"] = f.count;
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
      "ISODYNE_EXPORT void isodyne_close(void *self);\n"
      "/* Not needed; see isodyne/controller.h. */\n"
      "ISODYNE_EXPORT int isodyne_copied(void *self);\n\n"
      "#endif\n",
      upper(name), controller.period.count(), name, layout.identity);
  return text;
}

}  // namespace isodyne::ports
