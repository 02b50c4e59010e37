#include <filesystem>
#include <sstream>

#include <catch2/catch.hpp>

#include "isodyne/io/frame.h"
#include "isodyne/ports/struct_layout.h"
#include "isodyne/present/frame_layout.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

std::shared_ptr<const program::Program> with_frames(const std::string& ends, const std::string& extra = "") {
  return program_of(R"(
choice Gear { first, second, third }
bench B { step 1 ms
  input gear : Gear = first
  input count : int = 3
  sensor level { of 2 m  counts 100 per m  word 12 bit signed  every 1 ms }
  sensor wet   { of true  every 1 ms }
  actuator gap : mm { counts 10 per mm  word 12 bit }
  actuator open : bool
  frame up { words 2  )" +
                    ends + R"(
    time         word 1 in ms
    field level  bits 0 .. 15 of word 0 signed
    field wet    bit 16 of word 0
    field gear   bits 17 .. 18 of word 0
    field count  bits 19 .. 26 of word 0 signed
    field mark   bits 56 .. 63 of word 0 = 165
    spare        bits 27 .. 55 of word 0
    port  lines  bits 16 .. 18 of word 0
  }
  frame down { words 1  bits from low  bytes from low
    field gap          bits 0 .. 11 of word 0
    field open         bit 12 of word 0
    field shift : Gear bits 13 .. 14 of word 0
    spare              bits 15 .. 63 of word 0
  }
  controller c { every 1 ms  reads up, gear  writes open2 : bool, down)" +
                    extra + R"(  setting x = library "x" }
})");
}

std::vector<std::string> lines_of(const std::string& text) {
  std::istringstream in(text);
  std::vector<std::string> lines;
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

}  // namespace

TEST_CASE("Every bit of a frame is drawn where it is, the most significant one at the left") {
  for (const bool high : {false, true}) {
    const auto p = with_frames(high ? "bits from high  bytes from low" : "bits from low  bytes from low");
    const program::Frame& frame = p->frames[0];
    const auto example = present::frame_example(*p, frame);
    const auto lines = lines_of(present::frame_drawing(frame, example));
    REQUIRE(lines.size() == 3);
    CHECK(lines[0].substr(9, 2) == (high ? "0 " : "63"));
    for (const program::FrameField& f : frame.fields) {
      const std::string& row = lines[1 + static_cast<std::size_t>(f.bits.word)];
      REQUIRE(row.size() == 9 + 64);
      const auto begin = static_cast<std::size_t>(9 + 64 - f.bits.shift - f.bits.width);
      const std::string cell = row.substr(begin, static_cast<std::size_t>(f.bits.width));
      INFO(f.name << ": " << cell);
      CHECK(cell.find('.') == std::string::npos);
      if (f.bits.width >= 3) CHECK((cell.front() == '[' && cell.back() == ']'));
    }
    const std::string spare(29, '.');
    CHECK(lines[1].substr(9 + (high ? 27 : 8), 29) == spare);
  }
}

TEST_CASE("The worked example can be unpacked again, and tells signs and bytes apart") {
  const auto p = with_frames("bits from low  bytes from high");
  const program::Frame& frame = p->frames[0];
  const auto example = present::frame_example(*p, frame);
  std::vector<std::byte> bytes;
  for (const unsigned b : example.bytes) bytes.push_back(static_cast<std::byte>(b));
  std::vector<double> values(frame.fields.size());
  io::FrameCodec(frame).unpack(bytes.data(), values);
  for (std::size_t i = 0; i < values.size(); ++i) {
    INFO(frame.fields[i].name);
    CHECK(values[i] == example.rows[i].raw);
    CHECK(values[i] >= frame.fields[i].lowest);
    CHECK(values[i] <= frame.fields[i].highest);
    if (frame.fields[i].is_signed) CHECK(values[i] < 0);
  }
  const present::FieldRow& port = example.rows.back();
  CHECK(port.is_port);
  CHECK(port.holds == "wet, gear");
  CHECK(port.raw == values[2] + 2 * values[3]);
  CHECK(present::frame_title(*p, frame) == "2 words of 64 bits to controller c; 99 of 128 bits used");
}

TEST_CASE("`io layout` draws pictures, and names the frames there are") {
  const TestFolder folder;
  const std::string bridge = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/swing-bridge/bridge.dyne";
  const Output drawn = run_isodyne("io layout " + bridge + " box_out --out pictures", folder.path());
  CHECK(drawn.status == 0);
  CHECK(drawn.out.find("[--drive---]") != std::string::npos);
  CHECK(drawn.out.find("byte    0  00 00 00 06 0d 9a 00 25   (word 0)") != std::string::npos);
  CHECK(std::filesystem::file_size(folder / "pictures/box_out.png") > 5000);
  CHECK(slurp(folder / "pictures/box_out.svg").find("drive") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(folder / "pictures/box_in.png"));
  const Output meant = run_isodyne("io layout " + bridge + " box_ou");
  CHECK(meant.status == 2);
  CHECK(meant.err.find("did you mean `box_out`?") != std::string::npos);
}

TEST_CASE("A frame is a member of the struct like any other, at its own place") {
  const auto p = with_frames("bits from low  bytes from high");
  const ports::Layout layout = ports::layout_of(*p, p->controllers[0]);
  REQUIRE(layout.reads.size() == 2);
  CHECK(layout.reads[0].kind == ports::Field::Kind::frame);
  CHECK(layout.reads[0].offset == 0);
  CHECK(layout.reads[1].offset == 16);
  CHECK(layout.reads_bytes == 20);
  REQUIRE(layout.writes.size() == 2);
  CHECK(layout.writes[1].offset == 1);  // bytes need no alignment
  CHECK(layout.writes_bytes == 9);
  std::vector<std::byte> bytes(layout.writes_bytes);
  std::vector<double> back(4);
  ports::pack(layout.writes, std::vector<double>{1, 1234, 1, 2}, bytes.data());
  CHECK(ports::unpack(layout.writes, bytes.data(), back) == -1);
  CHECK(back == std::vector<double>{1, 1234, 1, 2});
  ports::pack(layout.writes, std::vector<double>{1, 1234, 1, 3}, bytes.data());
  CHECK(ports::unpack(layout.writes, bytes.data(), back) == 3);
  CHECK(ports::why_wrong(layout.writes, 3, 3) == "it wrote 3 to `down.shift`, which takes 0 to 2");
}

TEST_CASE("The identity of a layout changes with the bits of its frames, and with shared parameters") {
  const auto identity = [](const std::shared_ptr<const program::Program>& p) {
    return ports::layout_of(*p, p->controllers[0]).identity;
  };
  const auto low = identity(with_frames("bits from low  bytes from low"));
  CHECK(low == identity(with_frames("bits from low  bytes from low")));
  CHECK(low != identity(with_frames("bits from low  bytes from high")));
  CHECK(low != identity(with_frames("bits from high  bytes from low")));
  const auto shared = [&](const std::string& area) {
    return identity(
        program_of("bench B { step 1 ms\n  param area : m^2 = " + area +
                   "\n  controller c { every 1 ms  writes a : bool  shares area  setting x = library \"x\" }\n}"));
  };
  CHECK(shared("3 m^2") == shared("30000 cm^2"));
  CHECK(shared("3 m^2") != shared("4 m^2"));
}

TEST_CASE("Frames and racks are listed, and their numbers explained") {
  const std::string bridge = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/swing-bridge/bridge.dyne";
  const Output list = run_isodyne("list " + bridge + " frames controllers");
  CHECK(list.out.find("wedges_in, wedges_clear") != std::string::npos);
  CHECK(list.out.find("frame box_in") != std::string::npos);
  CHECK(list.out.find("frame box_out") != std::string::npos);
  const Output name = run_isodyne("list " + bridge + " box_in.turn turn drive");
  CHECK(name.out.find("number in a frame") != std::string::npos);
  CHECK(name.out.find("controller box") != std::string::npos);   // who reads the sensor
  CHECK(name.out.find("box every 10 ms") != std::string::npos);  // who writes the actuator
  const Output modules = run_isodyne("list " + std::string(ISODYNE_SOURCE_FOLDER) + "/library/modules.dyne");
  CHECK(modules.status == 0);
  CHECK(modules.out.find("CurrentIn8") != std::string::npos);
  CHECK(modules.out.find("as 4 mA .. 20 mA") != std::string::npos);
  const Output draw = run_isodyne("draw " + bridge + " --out /dev/null");
  CHECK(draw.err.find("internal") == std::string::npos);
}
