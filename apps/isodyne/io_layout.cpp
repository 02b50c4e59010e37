#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "isodyne/core/text.h"
#include "isodyne/present/frame_layout.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

using Json = nlohmann::ordered_json;

namespace {

std::string hex(double raw, const program::BitRange& bits) {
  const auto number = static_cast<std::uint64_t>(static_cast<std::int64_t>(raw));
  const std::uint64_t mask = bits.width == 64 ? ~std::uint64_t{0} : (std::uint64_t{1} << bits.width) - 1;
  return fmt::format("0x{:0{}x}", number & mask, (bits.width + 3) / 4);
}

std::string bytes_text(const present::FrameExample& example, int word) {
  std::string text;
  for (std::size_t i = 0; i < 8; ++i)
    text += fmt::format("{}{:02x}", i == 0 ? "" : " ", example.bytes[8 * static_cast<std::size_t>(word) + i]);
  return text;
}

void say_frame(const program::Program& p, const program::Frame& frame) {
  const present::FrameExample example = present::frame_example(p, frame);
  say(fmt::format("{}: {}", colours_on(stdout) ? "\x1b[1m" + frame.name + "\x1b[0m" : frame.name,
                  present::frame_title(p, frame)));
  if (!frame.doc.empty()) say(frame.doc);
  say(fmt::format("Bit 0 is the {} significant one; of each word the {} significant byte is sent first.\n",
                  frame.bits_from_high ? "most" : "least", frame.bytes_from_high ? "most" : "least"));
  put(stdout, present::frame_drawing(frame, example) + "\n");
  TextTable table({{""},
                   {"Field"},
                   {"Bits"},
                   {"Kind"},
                   {"Example", TextTable::Align::right},
                   {"Number", TextTable::Align::right},
                   {"Hex", TextTable::Align::right},
                   {"Holds"}});
  for (const present::FieldRow& r : example.rows)
    table.row({std::string(1, r.key), r.name, r.bits, r.kind, r.value, fmt::format("{:.0f}", r.raw),
               hex(r.raw, r.range), r.holds});
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  say("\nThe numbers of the example give these bytes, in the order in which they are sent:");
  for (int w = 0; w < frame.words; ++w)
    say(fmt::format("  byte {:>4}  {}   (word {})", 8 * w, bytes_text(example, w), w));
}

Json frame_json(const program::Program& p, const program::Frame& frame) {
  const present::FrameExample example = present::frame_example(p, frame);
  Json j{{"frame", frame.name},
         {"words", frame.words},
         {"bits_from", frame.bits_from_high ? "high" : "low"},
         {"bytes_from", frame.bytes_from_high ? "high" : "low"},
         {"to_controller", frame.to_controller},
         {"fields", Json::array()}};
  for (const present::FieldRow& r : example.rows) {
    j["fields"].push_back({{"name", r.name},
                           {"bits", r.bits},
                           {"word", r.range.word},
                           {"shift", r.range.shift},
                           {"width", r.range.width},
                           {"kind", r.kind},
                           {"holds", r.holds},
                           {"example", r.value},
                           {"number", r.raw}});
  }
  j["bytes"] = example.bytes;
  return j;
}

/// The frames that were asked for: one, or all.
std::vector<const program::Frame*> asked_for(const program::Program& p, const Arguments& arguments) {
  std::vector<const program::Frame*> frames;
  std::vector<std::string> names;
  for (const program::Frame& f : p.frames) {
    names.push_back(f.name);
    if (arguments.words.size() < 2 || arguments.words[1] == f.name) frames.push_back(&f);
  }
  if (p.frames.empty()) {
    say_error(fmt::format("bench {} has no frame; declare one: `frame name {{ words 1 … }}`", p.name));
  } else if (frames.empty()) {
    const auto meant = did_you_mean(arguments.words[1], names);
    std::string all;
    for (const std::string& n : names) list_on(all, n);
    say_error(
        fmt::format("bench {} has no frame `{}`; {}", p.name, arguments.words[1], meant.value_or("it has: " + all)));
  }
  return frames;
}

}  // namespace

int run_io_layout(const Arguments& arguments) {
  const std::string& file = arguments.words[0];
  const check::Loaded loaded = load_file(file);
  print_diagnostics(loaded, file);
  if (loaded.program == nullptr) return kWrongInput;
  const auto frames = asked_for(*loaded.program, arguments);
  if (frames.empty()) return kWrongInput;
  if (const auto out = arguments.value(Option::out)) {
    std::error_code error;
    std::filesystem::create_directories(*out, error);
    for (const program::Frame* f : frames) {
      const std::string base = (std::filesystem::path(*out) / f->name).string();
      const Status drawn = present::draw_frame(*loaded.program, *f, base);
      if (!drawn) {
        say_error(drawn.failure().text());
        return kNotCompleted;
      }
      say_aside(fmt::format("drew {0}.svg and {0}.png", base));
    }
  }
  if (arguments.has(Option::json)) {
    Json all = Json::array();
    for (const program::Frame* f : frames) all.push_back(frame_json(*loaded.program, *f));
    say(all.dump(2));
    return kHeld;
  }
  for (std::size_t i = 0; i < frames.size(); ++i) {
    if (i > 0) say("");
    say_frame(*loaded.program, *frames[i]);
  }
  return kHeld;
}

}  // namespace isodyne::app
