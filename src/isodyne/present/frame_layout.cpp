#include "isodyne/present/frame_layout.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/io/frame.h"
#include "isodyne/present/plot.h"

namespace isodyne::present {

namespace {

using program::BitRange;
using program::Frame;
using program::FrameField;
using program::Program;

constexpr const char* kKeys = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789";

/// The channel whose counts a field holds: its scale, its word and its quantity.
struct Channel {
  const program::Linear* scale = nullptr;
  const program::Word* word = nullptr;
  program::VarId value = program::kNone;
  const char* what = "";
  bool pulses = false;
};

Channel channel_of(const Program& p, const FrameField& f) {
  for (const program::Sensor& s : p.sensors) {
    if (f.of != program::kNone && (s.counts == f.of || s.value == f.of))
      return {s.to_counts ? &*s.to_counts : nullptr, &s.word, s.value, "sensor", s.pulses};
  }
  if (f.actuator != program::kNone) {
    const program::Actuator& a = p.actuators[static_cast<std::size_t>(f.actuator)];
    return {a.to_counts ? &*a.to_counts : nullptr, &a.word, a.value, "actuator", false};
  }
  return {nullptr, nullptr, f.of != program::kNone ? f.of : f.raw, f.of != program::kNone ? "input" : "value", false};
}

/// A number that says something: neither an end nor the middle, negative where that can be.
double telling(double lowest, double highest) {
  return lowest < 0 ? std::round(0.3 * lowest) : std::round(lowest + 0.4 * (highest - lowest));
}

void example_value(const Program& p, const FrameField& f, std::size_t index, FieldRow& row) {
  switch (f.kind) {
    case FrameField::Kind::constant:
      row.raw = f.constant;
      row.holds = "constant";
      return;
    case FrameField::Kind::time:
      row.holds = "time, counted in " + format_span(f.unit);
      row.raw = std::min(std::floor(1.5e9 / static_cast<double>(f.unit.count())), f.highest);
      row.value = format_span(f.unit * static_cast<std::int64_t>(row.raw));
      return;
    case FrameField::Kind::counter:
      row.holds = "counter of exchanges";
      row.raw = std::min(42.0, f.highest);
      return;
    case FrameField::Kind::value:
      break;
  }
  const Channel c = channel_of(p, f);
  const program::Variable& v = p.variable(c.value);
  row.holds = c.what;
  if (!v.doc.empty()) row.holds += ": " + v.doc;
  if (c.scale != nullptr) {
    const program::Linear& l = *c.scale;
    row.raw = telling(c.word->lowest, c.word->highest);
    const double x = l.low_from + (row.raw - l.low_to) * (l.high_from - l.low_from) / (l.high_to - l.low_to);
    row.value = c.pulses ? "" : p.format(c.value, x);
    return;
  }
  if (v.type.kind == program::Type::Kind::boolean) row.raw = index % 2 == 0 ? 1 : 0;
  if (v.type.kind == program::Type::Kind::choice)
    row.raw = static_cast<double>(p.choices[static_cast<std::size_t>(v.type.choice)].labels.size()) - 1;
  if (v.type.kind == program::Type::Kind::integer) row.raw = telling(f.lowest, f.highest);
  if (v.type.kind != program::Type::Kind::integer) row.value = p.format(c.value, row.raw);
}

const char* kind_word(const Program& p, const FrameField& f) {
  if (f.kind == FrameField::Kind::value) {
    const auto kind = p.variable(f.raw).type.kind;
    if (kind == program::Type::Kind::boolean) return "bool";
    if (kind == program::Type::Kind::choice) return "choice";
  }
  return f.is_signed ? "signed" : "unsigned";
}

/// The cells of one word, most significant bit first.
std::string cells(int word, const FrameExample& example) {
  std::string row(64, '.');
  for (const FieldRow& r : example.rows) {
    if (r.is_port || r.range.word != word) continue;
    const auto width = static_cast<std::size_t>(r.range.width);
    const auto begin = static_cast<std::size_t>(64 - r.range.shift - r.range.width);
    std::string text(width, r.key);
    if (width >= 3) {
      text = std::string(width, '-');
      text.front() = '[';
      text.back() = ']';
      // A name that does not fit whole would be another name.
      const std::string name = r.name.size() + 2 <= width ? r.name : std::string(1, r.key);
      text.replace(1 + (width - 2 - name.size()) / 2, name.size(), name);
    }
    row.replace(begin, width, text);
  }
  return row;
}

std::string ruler(const Frame& frame) {
  std::string text(66, ' ');
  for (int column = 0; column < 64; column += 8) {
    const int bit = frame.bits_from_high ? column : 63 - column;
    const std::string number = std::to_string(bit);
    text.replace(static_cast<std::size_t>(column), number.size(), number);
  }
  text.replace(62, 2, frame.bits_from_high ? "63" : " 0");
  return text.substr(0, 64);
}

}  // namespace

FrameExample frame_example(const Program& p, const Frame& frame) {
  FrameExample example;
  std::vector<double> values;
  for (std::size_t i = 0; i < frame.fields.size(); ++i) {
    const FrameField& f = frame.fields[i];
    FieldRow row;
    row.key = kKeys[i % std::string_view(kKeys).size()];
    row.name = f.name;
    row.bits = frame.text(f.bits);
    row.kind = kind_word(p, f);
    row.range = f.bits;
    example_value(p, f, i, row);
    values.push_back(row.raw);
    example.rows.push_back(std::move(row));
  }
  const io::FrameCodec codec(frame);
  std::vector<std::byte> bytes(codec.bytes());
  codec.pack(values, bytes.data());
  for (const std::byte b : bytes) example.bytes.push_back(static_cast<unsigned>(b));
  for (const program::FramePort& port : frame.ports) {
    FieldRow row{' ', port.name, frame.text(port.bits), "port", "", "", 0, port.bits, true};
    std::uint64_t word = 0;
    for (std::size_t b = 0; b < 8; ++b) {
      const std::size_t at = 8 * static_cast<std::size_t>(port.bits.word) + b;
      const std::size_t significance = frame.bytes_from_high ? 7 - b : b;
      word |= std::uint64_t{example.bytes[at]} << (8 * significance);
    }
    row.raw = static_cast<double>(word >> port.bits.shift & ((std::uint64_t{1} << port.bits.width) - 1));
    for (const std::int32_t i : port.fields) list_on(row.holds, frame.fields[static_cast<std::size_t>(i)].name);
    example.rows.push_back(std::move(row));
  }
  return example;
}

std::string frame_title(const Program& p, const Frame& frame) {
  int used = 0;
  for (const FrameField& f : frame.fields) used += f.bits.width;
  std::string who;
  for (const program::Controller& c : p.controllers) {
    const auto& uses = frame.to_controller ? c.read_frames : c.write_frames;
    for (const program::FrameUse& u : uses) {
      if (&p.frames[static_cast<std::size_t>(u.frame)] == &frame) who = c.name;
    }
  }
  return fmt::format("{} of 64 bits {} {}; {} of {} bits used", counted(static_cast<std::size_t>(frame.words), "word"),
                     frame.to_controller ? "to" : "from",
                     who.empty() ? "a controller (none exchanges it yet)" : "controller " + who, used,
                     64 * frame.words);
}

std::string frame_drawing(const Frame& frame, const FrameExample& example) {
  std::string text = fmt::format("{:<8} {}\n", "bit", ruler(frame));
  for (int w = 0; w < frame.words; ++w) text += fmt::format("{:<8} {}\n", fmt::format("word {}", w), cells(w, example));
  return text;
}

// ---- the picture
namespace {

constexpr double kLeft = 80, kCell = 18.2, kTop = 86, kPitch = 78, kHigh = 30;

const char* tint(const Program& p, const FrameField& f) {
  if (f.kind != FrameField::Kind::value) return "#E8E8E8";
  const auto kind = p.variable(f.raw).type.kind;
  if (kind == program::Type::Kind::boolean || kind == program::Type::Kind::choice) return "#FBE3C0";
  return f.is_signed ? "#F3D3E4" : "#CFE5F4";
}

class Picture {
 public:
  Picture(const Program& program, const Frame& frame)
      : p_(program), f_(frame), example_(frame_example(program, frame)) {}

  int height() const { return static_cast<int>(kTop + kPitch * f_.words + 14); }

  std::string script() {
    text_ = fmt::format(
        "unset border\nunset tics\nunset key\nset margins 0,0,0,0\nset xrange [0:1280]\nset yrange [{}:0]\n", height());
    label(24, 28, fmt::format("{}: {}", f_.name, frame_title(p_, f_)), "left", 13);
    label(24, 52,
          fmt::format("bit 0 is the {} significant one; of each word the {} significant byte is sent first; signed "
                      "fields are pink, bool and choices orange",
                      f_.bits_from_high ? "most" : "least", f_.bytes_from_high ? "most" : "least"),
          "left", 9);
    for (int w = 0; w < f_.words; ++w) word(w);
    return text_ + "plot NaN notitle\n";
  }

 private:
  void label(double x, double y, const std::string& text, const char* side, int size, const char* colour = "#222222") {
    text_ += fmt::format("set label {} at {:.1f},{:.1f} {} font \",{}\" tc rgb \"{}\" front\n", quoted(text), x, y,
                         side, size, colour);
  }
  void box(double x, double y, double width, const char* fill, const char* line) {
    text_ += fmt::format(
        "set object rectangle from {:.1f},{:.1f} to {:.1f},{:.1f} fc rgb \"{}\" fs solid border lc rgb \"{}\"\n", x, y,
        x + width, y + kHigh, fill, line);
  }

  void word(int w) {
    const double y = kTop + kPitch * w;
    label(kLeft - 12, y + kHigh / 2, fmt::format("word {}", w), "right", 10);
    for (int column = 0; column < 64; ++column) box(kLeft + kCell * column, y, kCell, "#FFFFFF", "#DDDDDD");
    std::string small;
    for (std::size_t i = 0; i < f_.fields.size(); ++i) {
      if (f_.fields[i].bits.word == w) field(i, y, small);
    }
    for (const program::FramePort& port : f_.ports) {
      if (port.bits.word == w)
        small += (small.empty() ? "" : "   ") + fmt::format("{} = port {}", bits_of(port.bits), port.name);
    }
    if (!small.empty()) label(kLeft, y + kHigh + 13, cut(small), "left", 9, "#555555");
  }

  /// "16–31", or "3".
  std::string bits_of(const BitRange& b) const {
    const int first = f_.bits_from_high ? 64 - b.shift - b.width : b.shift;
    return b.width == 1 ? std::to_string(first) : fmt::format("{}–{}", first, first + b.width - 1);
  }

  static std::string cut(const std::string& text) {
    constexpr std::size_t kMost = 190;
    return text.size() <= kMost ? text : text.substr(0, text.rfind("   ", kMost)) + "   …";
  }

  void field(std::size_t i, double y, std::string& small) {
    const FrameField& f = f_.fields[i];
    const double x = kLeft + kCell * (64 - f.bits.shift - f.bits.width), width = kCell * f.bits.width;
    box(x, y, width, tint(p_, f), "#555555");
    const bool fits = static_cast<double>(f.name.size()) * 7.2 + 6 < width;
    label(x + width / 2, y + kHigh / 2, fits ? f.name : std::string(1, example_.rows[i].key), "center", fits ? 10 : 9);
    if (!fits) small += fmt::format("{}{} = {}", small.empty() ? "" : "   ", example_.rows[i].key, f.name);
    numbers(f, x, y, width);
  }

  /// The numbers of the first and last bit above a field.
  void numbers(const FrameField& f, double x, double y, double width) {
    const int left = f_.bits_from_high ? 64 - f.bits.shift - f.bits.width : f.bits.shift + f.bits.width - 1;
    const int right = f_.bits_from_high ? left + f.bits.width - 1 : f.bits.shift;
    label(x + kCell / 2, y - 7, std::to_string(left), "center", 7, "#777777");
    if (f.bits.width > 1) label(x + width - kCell / 2, y - 7, std::to_string(right), "center", 7, "#777777");
  }

  const Program& p_;
  const Frame& f_;
  FrameExample example_;
  std::string text_;
};

}  // namespace

Status draw_frame(const Program& program, const Frame& frame, const std::string& base) {
  Picture picture(program, frame);
  return plot(picture.script(), picture.height(), base);
}

}  // namespace isodyne::present
