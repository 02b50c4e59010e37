#include "isodyne/ports/frame_header.h"

#include <algorithm>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/ports/struct_layout.h"

namespace isodyne::ports {

namespace {

using program::Frame;
using program::FrameField;
using program::Program;

/// How a raw number becomes the quantity that the channel is about.
struct Scaled {
  program::Linear to_counts;
  double per_second = 1;  ///< of pulses: the time in which they were counted, s
  const program::Variable* quantity = nullptr;
};

std::optional<Scaled> scale_of(const Program& p, const FrameField& f) {
  for (const program::Sensor& s : p.sensors) {
    if (s.counts != program::kNone && s.counts == f.of)
      return Scaled{*s.to_counts, s.pulses ? to_seconds(s.period) : 1.0, &p.variable(s.value)};
  }
  if (f.actuator == program::kNone) return std::nullopt;
  const program::Actuator& a = p.actuators[static_cast<std::size_t>(f.actuator)];
  if (!a.to_counts) return std::nullopt;
  return Scaled{*a.to_counts, 1, &p.variable(a.value)};
}

/// A constant that C reads back as the same double.
std::string c_double(double x) {
  std::string text = format_exact(x);
  if (text.find_first_of(".e") == std::string::npos) text += ".0";
  return text;
}

/// The bytes of a word, most significant first, as indices behind its first byte.
int byte_index(const Frame& f, int significance) {
  return f.bytes_from_high ? 7 - significance : significance;
}

/// What all fields of a frame share: bits out of a word, and into it.
std::string bit_functions(const Frame& f, const std::string& name) {
  std::string get, set;
  for (int s = 7; s >= 0; --s) {
    get += fmt::format("{}(uint64_t)b[{}] << {}",
                       s == 7   ? ""
                       : s == 3 ? " |\n                         "
                                : " | ",
                       byte_index(f, s), 8 * s);
    set += fmt::format("  b[{}] = (uint8_t)(word >> {});\n", byte_index(f, s), 8 * s);
  }
  return fmt::format(
      "static inline uint64_t {0}_bits(const {0}_frame *frame, unsigned n, unsigned shift, uint64_t mask) {{\n"
      "  const uint8_t *b = frame->byte + 8u * n;\n"
      "  const uint64_t word = {1};\n  return word >> shift & mask;\n}}\n"
      "static inline void {0}_put({0}_frame *frame, unsigned n, unsigned shift, uint64_t mask, uint64_t bits) {{\n"
      "  uint8_t *b = frame->byte + 8u * n;\n"
      "  const uint64_t word = ({0}_bits(frame, n, 0, UINT64_MAX) & ~(mask << shift)) | (bits & mask) << shift;\n"
      "{2}}}\n",
      name, get, set);
}

struct FieldText {
  std::string frame, name;  // in C
  std::string type;         // of the raw number
  std::string lowest, highest;
  std::string mask;
};

std::string getter(const FieldText& t, const program::BitRange& b, bool is_signed) {
  std::string value = fmt::format("{}_bits(frame, {}, {}, {})", t.frame, b.word, b.shift, t.mask);
  if (t.type == "bool") value += " != 0";
  if (is_signed)  // the sign bit counts negative
    value = fmt::format("(int64_t)({0} ^ UINT64_C(1) << {1}) - (INT64_C(1) << {1})", value, b.width - 1);
  return fmt::format("static inline {0} {1}_get_{2}(const {1}_frame *frame) {{\n  return {3};\n}}\n", t.type, t.frame,
                     t.name, value);
}

/// What the field cannot hold becomes the nearest number that it can.
std::string setter(const FieldText& t, const program::BitRange& b, bool is_signed) {
  std::string text =
      fmt::format("static inline void {0}_set_{1}({0}_frame *frame, {2} value) {{\n", t.frame, t.name, t.type);
  if (is_signed) text += fmt::format("  if (value < {0}) value = {0};\n", t.lowest);
  if (b.width < 64 && t.type != "bool") text += fmt::format("  if (value > {0}) value = {0};\n", t.highest);
  return text + fmt::format("  {}_put(frame, {}, {}, {}, (uint64_t)value);\n}}\n", t.frame, b.word, b.shift, t.mask);
}

std::string scaled_functions(const FieldText& t, const Scaled& s) {
  const program::Linear& l = s.to_counts;
  const double per_count = (l.high_from - l.low_from) / (l.high_to - l.low_to) / s.per_second;
  const double at_zero = (l.low_from - l.low_to * (l.high_from - l.low_from) / (l.high_to - l.low_to)) / s.per_second;
  std::string unit = s.quantity->type.dimension.none() ? "1" : si_text(s.quantity->type.dimension);
  return fmt::format(
      "/* The quantity in {2}, and the number nearest to it. What is no number becomes the lowest. */\n"
      "static inline double {0}_get_{1}_value(const {0}_frame *frame) {{\n"
      "  return {3} + {4} * (double){0}_get_{1}(frame);\n}}\n"
      "static inline void {0}_set_{1}_value({0}_frame *frame, double value) {{\n"
      "  const double counts = (value - {3}) / {4};\n"
      "  const double least = (double){6}, most = (double){7};\n"
      "  {0}_set_{1}(frame, !(counts > least) ? {6} : counts > most ? {7}\n"
      "                     : ({5})(counts < 0 ? counts - 0.5 : counts + 0.5));\n}}\n",
      t.frame, t.name, unit, fmt::format("({})", c_double(at_zero)), fmt::format("({})", c_double(per_count)), t.type,
      t.lowest, t.highest);
}

std::string field_functions(const Program& p, const Frame& frame, const FrameField& f) {
  const bool line = f.kind == FrameField::Kind::value && p.variable(f.raw).type.kind == program::Type::Kind::boolean;
  FieldText t{c_name(frame.name), c_name(f.name), line ? "bool" : f.is_signed ? "int64_t" : "uint64_t", "", "", ""};
  const int w = f.bits.width;
  t.mask = w == 64 ? "UINT64_MAX" : fmt::format("UINT64_C(0x{:x})", (std::uint64_t{1} << w) - 1);
  t.lowest = f.is_signed ? fmt::format("-INT64_C({})", std::uint64_t{1} << (w - 1)) : "UINT64_C(0)";
  t.highest = f.is_signed ? fmt::format("INT64_C({})", (std::uint64_t{1} << (w - 1)) - 1) : t.mask;
  const std::string doc = p.variable(f.raw).doc;
  std::string text = "\n" +
                     c_comment(fmt::format("{}{}{}{}", frame.text(f.bits), f.is_signed ? ", signed" : "",
                                           doc.empty() ? "" : ": ", doc)) +
                     "\n";
  text += getter(t, f.bits, f.is_signed) + setter(t, f.bits, f.is_signed);
  if (const auto scaled = scale_of(p, f)) text += scaled_functions(t, *scaled);
  return text;
}

/// What the number of a field means, for the identity.
std::string meaning(const Program& p, const FrameField& f) {
  const program::Variable& v = p.variable(f.raw);
  switch (f.kind) {
    case FrameField::Kind::constant:
      return fmt::format("constant {}", format_exact(f.constant));
    case FrameField::Kind::time:
      return fmt::format("time {}", f.unit.count());
    case FrameField::Kind::counter:
      return "counter";
    case FrameField::Kind::value:
      break;
  }
  std::string text = p.type_text(v);
  if (const auto s = scale_of(p, f)) {
    const program::Linear& l = s->to_counts;
    text +=
        fmt::format(" {} {} {} {} {} {}", format_exact(l.low_from), format_exact(l.high_from), format_exact(l.low_to),
                    format_exact(l.high_to), format_exact(s->per_second), si_text(s->quantity->type.dimension));
  }
  return text;
}

}  // namespace

std::string frame_text(const Program& p, const Frame& frame) {
  const std::string name = c_name(frame.name);
  const int bytes = frame.words * 8;
  std::string text = fmt::format(
      "/* Frame {0}: {1}, the {2} byte of each first. Bits are numbered from the {3} significant one. */\n"
      "typedef struct {0}_frame {{\n  uint8_t byte[{4}];\n}} {0}_frame;\n"
      "static_assert(sizeof({0}_frame) == {4}, \"layout of {0}_frame\");\n\n",
      name, counted(static_cast<std::size_t>(frame.words), "word"),
      frame.bytes_from_high ? "most significant" : "least significant", frame.bits_from_high ? "most" : "least", bytes);
  text += bit_functions(frame, name);
  for (const FrameField& f : frame.fields) text += field_functions(p, frame, f);
  for (const program::FramePort& port : frame.ports) {
    const FieldText t{name,       c_name(port.name),
                      "uint64_t", "",
                      "",         fmt::format("UINT64_C(0x{:x})", (std::uint64_t{1} << port.bits.width) - 1)};
    text += "\n" +
            c_comment(fmt::format("{}: several fields as one number{}{}", frame.text(port.bits),
                                  port.doc.empty() ? "" : ": ", port.doc)) +
            "\n" + getter(t, port.bits, false);
  }
  return text + "\n";
}

std::string frame_identity(const Program& p, const Frame& frame) {
  std::string text = fmt::format("frame {} {} {}\n", frame.name, frame.words, frame.bytes_from_high);
  for (const FrameField& f : frame.fields) {
    text +=
        fmt::format("{} {} {} {} {} {}\n", f.name, f.bits.word, f.bits.shift, f.bits.width, f.is_signed, meaning(p, f));
  }
  return text;
}

}  // namespace isodyne::ports
