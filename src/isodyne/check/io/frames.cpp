#include "isodyne/check/io/frames.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

namespace {

constexpr int kMostWords = 1024;
constexpr int kMostFieldBits = 52;  // whole numbers that a double holds exactly

const Type kWhole{Type::Kind::integer, {}, kNone};

double power_of_two(int n) {
  return std::ldexp(1.0, n);
}

void limits_of(FrameField& field) {
  const int w = field.bits.width;
  field.lowest = field.is_signed ? -power_of_two(w - 1) : 0;
  field.highest = (field.is_signed ? power_of_two(w - 1) : power_of_two(w)) - 1;
}

/// What a declaration became; null for a duplicate.
Frame* made_from(Program& p, const lang::FrameDecl& f) {
  for (Frame& frame : p.frames) {
    if (frame.span.source == f.name.span.source && frame.span.begin == f.name.span.begin) return &frame;
  }
  return nullptr;
}

/// A field is called after an element as it is written down: `level[2]`.
lang::Path path_of(const lang::Name& name) {
  const std::size_t bracket = name.text.find('[');
  if (bracket == std::string::npos) return lang::Path(name);
  auto number = std::make_shared<lang::Expr>();
  number->value = std::atof(name.text.c_str() + bracket + 1);
  number->span = name.span;
  return lang::path_of_element({name.text.substr(0, bracket), name.span}, number);
}

}  // namespace

void Frames::declare() {
  for (const lang::FrameDecl& f : bench_.frames) {
    if (check_.root.parts.contains(f.name.text) || check_.root.variables.contains(f.name.text)) {
      check_.error(Code::duplicate, f.name.span, fmt::format("`{}` is defined twice", f.name.text),
                   "rename one of them");
      continue;
    }
    auto& inside = check_.root.parts[f.name.text];
    inside = std::make_unique<Instance>();
    inside->prefix = f.name.text + ".";
    inside->parent = &check_.root;
    Frame frame;
    frame.name = f.name.text;
    frame.doc = f.doc;
    frame.span = f.name.span;
    for (const auto& field : f.fields) declare_field(field, *inside, frame);
    check_.program.frames.push_back(std::move(frame));
  }
}

void Frames::declare_field(const lang::FrameDecl::Field& field, Instance& inside, Frame& frame) {
  if (field.kind == Kind::spare) return;
  Variable v;
  v.role = field.type ? Role::controller_output : Role::field;
  v.doc = field.doc;
  v.type = kWhole;
  if (field.type) v.type = check_.type_of(*field.type, v.unit);
  if (field.type && v.type.valid() && (v.type.kind == Type::Kind::real || v.type.size > 0)) {
    check_.error(
        Code::type_mismatch, field.type->span,
        fmt::format("a field holds a whole number, a choice or a bool, not {}", describe(check_.program, v.type)),
        "declare an `actuator` with counts and put it into the field");
    v.type = {};
  }
  const std::size_t before = check_.program.variables.size();
  const VarId raw = check_.define(inside, field.name, v);
  if (check_.program.variables.size() == before) return;
  if (field.kind == Kind::port) {
    frame.ports.push_back({field.name.text, field.doc, {}, raw, {}, kNone, field.name.span});
    return;
  }
  FrameField made;
  made.name = field.name.text;
  made.doc = field.doc;
  made.raw = raw;
  made.is_signed = field.is_signed;
  made.span = field.name.span;
  made.kind = field.kind == Kind::time      ? FrameField::Kind::time
              : field.kind == Kind::counter ? FrameField::Kind::counter
              : field.constant              ? FrameField::Kind::constant
                                            : FrameField::Kind::value;
  frame.fields.push_back(made);
  // Lines and choices keep their type, so that they read as words; everything else is a number.
  const bool named = made.kind == FrameField::Kind::value && !field.type;
  if (!named) return;
  check_.pending[raw] = [this, name = field.name.text, raw] {
    const auto found = check_.root.variables.find(name);
    if (found == check_.root.variables.end()) return;
    check_.demand(found->second, {});
    const Variable& of = check_.program.variable(found->second);
    Variable& own = check_.program.variables[static_cast<std::size_t>(raw)];
    if (of.type.kind == Type::Kind::boolean || of.type.kind == Type::Kind::choice) own.type = of.type;
    if (own.doc.empty()) own.doc = of.doc;
  };
}

void Frames::define() {
  check_.demand_all();
  for (const lang::FrameDecl& f : bench_.frames) {
    if (Frame* frame = made_from(check_.program, f)) define_frame(f, *frame);
  }
}

std::optional<int> Frames::whole(const lang::Expr& e, const char* what) {
  const auto value = check_.constant(x_.check_as(e, scope(), kWhole, what), e.span, what);
  if (!value) return std::nullopt;
  return static_cast<int>(std::clamp(*value, -1e9, 1e9));
}

void Frames::head(const lang::FrameDecl& f, Frame& frame) {
  std::string lacking, cure;
  const auto lacks = [&](bool lack, const char* what, const char* example) {
    if (!lack) return;
    list_on(lacking, std::string(what));
    cure += (cure.empty() ? "" : "  ") + std::string(example);
  };
  lacks(f.words == nullptr, "how many words of 64 bits it has", "words 4");
  lacks(!f.bits_from_high, "which bit is bit 0", "bits from low");
  lacks(!f.bytes_from_high, "which byte of a word is sent first", "bytes from low");
  if (!lacking.empty())
    check_.error(Code::missing, f.name.span, fmt::format("frame `{}` does not say {}", f.name.text, lacking),
                 fmt::format("add `{}`; `low` is the least significant end, `high` the most significant one", cure));
  if (const auto words = f.words ? whole(*f.words, "the number of words") : std::nullopt) {
    if (*words >= 1 && *words <= kMostWords)
      frame.words = *words;
    else
      check_.error(Code::out_of_limits, f.words->span, fmt::format("a frame has 1 to {} words", kMostWords));
  }
  frame.bits_from_high = f.bits_from_high.value_or(false);
  frame.bytes_from_high = f.bytes_from_high.value_or(false);
}

void Frames::define_frame(const lang::FrameDecl& f, Frame& frame) {
  const std::size_t before = check_.diagnostics.errors();
  head(f, frame);
  if (frame.words == 0 || !f.bits_from_high) return;
  filled_.assign(static_cast<std::size_t>(frame.words), {});
  directed_ = {};
  std::size_t next_field = 0, next_port = 0;
  for (const auto& field : f.fields) {
    const auto bits = place(field.place, frame);
    if (field.kind == Kind::spare) {
      if (bits && fill(field, *bits, frame, kSpare)) frame.spare.push_back(*bits);
      continue;
    }
    if (field.kind == Kind::port) {
      const bool kept = next_port < frame.ports.size() && frame.ports[next_port].span.begin == field.name.span.begin;
      if (kept && bits) frame.ports[next_port].bits = *bits;
      if (kept) ++next_port;
      continue;
    }
    const bool kept = next_field < frame.fields.size() && frame.fields[next_field].span.begin == field.name.span.begin;
    if (!kept) continue;
    FrameField& made = frame.fields[next_field++];
    if (!bits) continue;
    made.bits = *bits;
    limits_of(made);
    if (fill(field, *bits, frame, static_cast<int>(next_field) - 1)) content(field, frame, made);
  }
  if (check_.diagnostics.errors() == before) gaps(f, frame);
  if (check_.diagnostics.errors() != before) return;
  next_port = 0;
  for (const auto& field : f.fields) {
    if (field.kind == Kind::port && next_port < frame.ports.size()) port(field, frame.ports[next_port++], frame);
  }
}

std::optional<BitRange> Frames::place(const lang::BitPlace& place, const Frame& frame) {
  const auto word = whole(*place.word, "the number of the word");
  if (!word) return std::nullopt;
  if (*word < 0 || *word >= frame.words) {
    check_.error(Code::out_of_limits, place.word->span,
                 fmt::format("frame `{}` has {}", frame.name,
                             frame.words == 1 ? "one word, number 0" : fmt::format("words 0 .. {}", frame.words - 1)),
                 fmt::format("words are numbered from 0; or say `words {}`", std::max(*word, 0) + 1));
    return std::nullopt;
  }
  if (!place.first) return BitRange{*word, 0, 64};
  const auto first = whole(*place.first, "the number of the bit");
  const auto last = place.last ? whole(*place.last, "the number of the bit") : first;
  if (!first || !last) return std::nullopt;
  if (*first < 0 || *last > 63 || *first > *last) {
    check_.error(Code::out_of_limits, join(place.first->span, (place.last ? place.last : place.first)->span),
                 *first > *last ? fmt::format("bits are given from the smaller to the larger number: `bits {} .. {}`",
                                              *last, *first)
                                : std::string("a word has bits 0 .. 63"));
    return std::nullopt;
  }
  const int width = *last - *first + 1;
  return BitRange{*word, frame.bits_from_high ? 63 - *last : *first, width};
}

bool Frames::fill(const lang::FrameDecl::Field& field, const BitRange& bits, const Frame& frame, int by) {
  Filled& word = filled_[static_cast<std::size_t>(bits.word)];
  for (int b = bits.shift; b < bits.shift + bits.width; ++b) {
    const int other = word.by[static_cast<std::size_t>(b)];
    if (other == kFree) continue;
    BitRange both{bits.word, b, 1};
    while (both.shift + both.width < bits.shift + bits.width &&
           word.by[static_cast<std::size_t>(both.shift + both.width)] == other)
      ++both.width;
    const std::string first =
        other == kSpare ? "spare" : "`" + frame.fields[static_cast<std::size_t>(other)].name + "`";
    check_
        .error(Code::overlap, field.place.span,
               fmt::format("{} {} already {}", frame.text(both), both.width == 1 ? "is" : "are", first),
               "bits belong to one field; what shows several of them as one number is a `port`")
        .notes.push_back({word.span[static_cast<std::size_t>(b)], "the first is here"});
    return false;
  }
  for (int b = bits.shift; b < bits.shift + bits.width; ++b) {
    word.by[static_cast<std::size_t>(b)] = by;
    word.span[static_cast<std::size_t>(b)] = field.place.span;
  }
  return true;
}

void Frames::gaps(const lang::FrameDecl& f, const Frame& frame) {
  std::string all, cure;
  int count = 0;
  for (int w = 0; w < frame.words; ++w) {
    const Filled& word = filled_[static_cast<std::size_t>(w)];
    for (int b = 0; b < 64;) {
      if (word.by[static_cast<std::size_t>(b)] != kFree) {
        ++b;
        continue;
      }
      BitRange gap{w, b, 0};
      while (b < 64 && word.by[static_cast<std::size_t>(b)] == kFree) ++b, ++gap.width;
      if (++count > 6) continue;
      list_on(all, frame.text(gap));
      if (cure.empty()) cure = frame.text(gap);
    }
  }
  if (count == 0) return;
  if (count > 6) all += fmt::format(" and {} more", count - 6);
  check_.error(Code::gap, f.name.span, fmt::format("frame `{}` does not say what these bits are: {}", f.name.text, all),
               fmt::format("if they are empty, say so: `spare {}`", cure));
}

/// Nothing else decides which way a frame goes than what is in it.
void Frames::direction(const lang::FrameDecl::Field& field, bool to_controller, Frame& frame) {
  if (!directed_.known()) {
    directed_ = field.name.span;
    frame.to_controller = to_controller;
  } else if (frame.to_controller != to_controller) {
    check_
        .error(Code::wrong_kind, field.name.span,
               fmt::format("`{}` goes {} the controller, but this frame goes {} it", field.name.text,
                           to_controller ? "to" : "from", to_controller ? "from" : "to"),
               "put it into another frame")
        .notes.push_back({directed_, "decided here"});
  }
}

void Frames::content(const lang::FrameDecl::Field& field, Frame& frame, FrameField& made) {
  if (made.kind != FrameField::Kind::value) return counting(field, made);
  if (made.bits.width > kMostFieldBits) {
    check_.error(Code::out_of_limits, field.place.span,
                 fmt::format("a field has at most {} bits, this one has {}", kMostFieldBits, made.bits.width),
                 "whole numbers beyond 2^52 are not exact");
    return;
  }
  if (field.type) {
    direction(field, false, frame);
    const Type type = check_.program.variable(made.raw).type;
    if (type.valid()) line_fits(field, type, frame, made);
    return;
  }
  const auto found = check_.root.variables.find(field.name.text);
  if (found == check_.root.variables.end()) {
    check_.resolve_one(check_.root, path_of(field.name));  // says so
    return;
  }
  channel(field, frame, made, found->second);
}

void Frames::channel(const lang::FrameDecl::Field& field, Frame& frame, FrameField& made, VarId id) {
  Program& p = check_.program;
  const Variable& v = p.variable(id);
  if (!v.type.valid()) return;
  if (v.role == Role::input || v.given) {
    direction(field, true, frame);
    made.of = id;
    return line_fits(field, v.type, frame, made);
  }
  for (const Sensor& s : p.sensors) {
    if (s.value != id) continue;
    direction(field, true, frame);
    made.of = s.counts != kNone ? s.counts : s.value;
    return s.counts != kNone ? word_fits(field, s.word, frame, made) : line_fits(field, v.type, frame, made);
  }
  for (std::size_t i = 0; i < p.actuators.size(); ++i) {
    const Actuator& a = p.actuators[i];
    if (a.value != id) continue;
    direction(field, false, frame);
    made.of = id;
    made.actuator = static_cast<std::int32_t>(i);
    if (a.gate)
      check_.error(
          Code::wrong_kind, field.name.span,
          fmt::format("`{}` is a gate, whose edges have no place in a frame", field.name.text),
          "declare it as a `bool`: it then changes once a period; or let the controller write it outside frames");
    return a.counts != kNone ? word_fits(field, a.word, frame, made) : line_fits(field, v.type, frame, made);
  }
  check_.error(Code::wrong_kind, field.name.span,
               fmt::format("`{}` is neither a sensor, an actuator nor an input of the bench", field.name.text),
               "for a value of the controller itself give its type: `field alarm : bool …`");
}

/// Bits cut off or read with the wrong sign are the mistakes that take days to find on a bench.
void Frames::word_fits(const lang::FrameDecl::Field& field, const Word& word, const Frame& frame,
                       const FrameField& made) {
  if (word.lowest >= word.highest) return;  // not in order: said before
  if (word.lowest >= made.lowest && word.highest <= made.highest) return;
  const bool negative = word.lowest < 0 && !made.is_signed;
  const int bits = word.lowest < 0 ? 1 : 0;
  const int needed =
      bits + static_cast<int>(std::ceil(std::log2(std::max(word.highest + 1, std::max(-word.lowest, 1.0)))));
  const bool wide_enough = needed + (made.is_signed && bits == 0 ? 1 : 0) <= made.bits.width;
  const std::string who = fmt::format("`{}` counts {:.0f} .. {:.0f}", field.name.text, word.lowest, word.highest);
  if (negative) {
    check_.error(Code::does_not_fit, field.place.span,
                 fmt::format("{}, but {} are unsigned and hold {:.0f} .. {:.0f}", who, frame.text(made.bits),
                             made.lowest, made.highest),
                 wide_enough ? "add `signed`" : fmt::format("add `signed` and make it {} bits wide", needed));
    return;
  }
  if (made.is_signed && word.lowest >= 0) {
    check_.error(Code::does_not_fit, field.place.span,
                 fmt::format("{}, but {} as signed hold {:.0f} .. {:.0f}: {:.0f} would be read as {:.0f}", who,
                             frame.text(made.bits), made.lowest, made.highest, made.highest + 1, made.lowest),
                 "take `signed` away, or make the field wider");
    return;
  }
  check_.error(Code::does_not_fit, field.place.span,
               fmt::format("{}, but {} hold {:.0f} .. {:.0f}", who, frame.text(made.bits), made.lowest, made.highest),
               fmt::format("make it {} bits wide", needed));
}

void Frames::line_fits(const lang::FrameDecl::Field& field, const Type& type, const Frame& frame,
                       const FrameField& made) {
  if (type.kind == Type::Kind::integer) return;
  if (type.kind == Type::Kind::real) {
    check_.error(
        Code::does_not_fit, field.name.span,
        fmt::format("`{}` is {}, and a field holds whole numbers", field.name.text, describe(check_.program, type)),
        "give the channel counts: `counts 0 .. 4095  word 12 bit`");
    return;
  }
  if (made.is_signed) {
    check_.error(Code::does_not_fit, field.place.span,
                 fmt::format("`{}` is {}: it has no sign", field.name.text, describe(check_.program, type)),
                 "take `signed` away");
    return;
  }
  if (type.kind == Type::Kind::boolean) {
    if (made.bits.width == 1) return;
    check_.error(Code::does_not_fit, field.place.span,
                 fmt::format("`{}` is a bool, which is one bit; {} are {}", field.name.text, frame.text(made.bits),
                             made.bits.width),
                 "write `bit` and its number");
    return;
  }
  const auto labels = check_.program.choices[static_cast<std::size_t>(type.choice)].labels.size();
  if (static_cast<double>(labels) - 1 <= made.highest) return;
  check_.error(Code::does_not_fit, field.place.span,
               fmt::format("`{}` has {} labels, but {} hold 0 .. {:.0f}", field.name.text, labels,
                           frame.text(made.bits), made.highest));
}

void Frames::counting(const lang::FrameDecl::Field& field, FrameField& made) {
  if (made.kind == FrameField::Kind::time) {
    Unit unit;
    const Type type = check_.type_of(*field.unit, unit);
    if (!type.valid()) return;
    const auto ns = static_cast<std::int64_t>(std::llround(unit.factor * 1e9));
    if (type.kind != Type::Kind::real || unit.dimension != parse_unit("s")->dimension || ns < 1)
      check_.error(Code::unit_mismatch, field.unit->span, "time is counted in a unit of time from 1 ns on, such as us");
    made.unit = Time{std::max<std::int64_t>(1, ns)};
    return;
  }
  if (made.kind == FrameField::Kind::counter) return;
  const auto value = check_.constant(x_.check_as(*field.constant, scope(), kWhole, "the constant"),
                                     field.constant->span, "the constant");
  made.constant = value.value_or(0);
  if (value && (*value < made.lowest || *value > made.highest)) {
    check_.error(
        Code::does_not_fit, field.constant->span,
        fmt::format("{:.0f} does not fit: the field holds {:.0f} .. {:.0f}", *value, made.lowest, made.highest));
  }
}

/// A port shows whole fields: half of one would be another number.
void Frames::port(const lang::FrameDecl::Field& field, FramePort& made, const Frame& frame) {
  const auto bits = place(field.place, frame);
  if (!bits) return;
  made.bits = *bits;
  if (bits->width > kMostFieldBits) {
    check_.error(Code::out_of_limits, field.place.span,
                 fmt::format("a port has at most {} bits, this one has {}", kMostFieldBits, bits->width));
    return;
  }
  const int begin = bits->shift, end = bits->shift + bits->width;
  for (std::size_t i = 0; i < frame.fields.size(); ++i) {
    const BitRange& other = frame.fields[i].bits;
    if (other.word != bits->word || other.shift + other.width <= begin || other.shift >= end) continue;
    if (other.shift < begin || other.shift + other.width > end) {
      check_
          .error(Code::overlap, field.place.span,
                 fmt::format("this port cuts through `{}`, which is {}", frame.fields[i].name, frame.text(other)),
                 "a port shows whole fields")
          .notes.push_back({frame.fields[i].span, "the field is here"});
      return;
    }
    made.fields.push_back(static_cast<std::int32_t>(i));
  }
  if (made.fields.empty())
    check_.error(Code::missing, field.place.span, fmt::format("there is no field in {}", frame.text(*bits)),
                 "a port shows fields as one number: declare them first");
}

}  // namespace isodyne::check
