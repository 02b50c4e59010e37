#include <cmath>
#include <fstream>

#include <fmt/format.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "isodyne/core/random.h"
#include "isodyne/io/frame.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

const std::string kBridge = std::string(ISODYNE_SOURCE_FOLDER) + "/examples/swing-bridge/bridge.dyne";

/// A frame with fields of any width at any place. For every other seed their order is that of the words, which is what
/// wide processors want.
program::Frame random_frame(std::uint64_t seed) {
  RandomStream random(seed, "frames");
  const auto upto = [&](int n) { return static_cast<int>(random.uniform() * n); };
  program::Frame frame;
  frame.words = 1 + upto(13);
  frame.bytes_from_high = upto(2) == 1;
  for (int w = 0; w < frame.words; ++w) {
    for (int bit = upto(4); bit < 64;) {
      program::FrameField f;
      const int width = std::min(1 + upto(upto(seed % 4 == 0 ? 20 : 3) == 0 ? 52 : 8), 64 - bit);
      f.bits = {w, bit, width};
      f.is_signed = width > 1 && upto(2) == 1;
      const int place = upto(static_cast<int>(frame.fields.size()) + 1);
      frame.fields.insert(seed % 2 == 0 ? frame.fields.end() : frame.fields.begin() + place, f);
      bit += width + (upto(3) == 0 ? upto(9) : 0);
    }
  }
  return frame;
}

/// Bit by bit, slowly, without a shift: the numbers of the standard's definition.
int bit_of(const program::Frame& frame, const std::vector<std::byte>& bytes, int word, int bit) {
  const int byte = frame.bytes_from_high ? 7 - bit / 8 : bit / 8;
  const int value = static_cast<int>(bytes[static_cast<std::size_t>(8 * word + byte)]);
  return value / (1 << (bit % 8)) % 2;
}

double slowly(const program::Frame& frame, const program::FrameField& f, const std::vector<std::byte>& bytes) {
  double sum = 0;
  for (int b = 0; b < f.bits.width; ++b) {
    const bool negative = f.is_signed && b == f.bits.width - 1;
    sum += bit_of(frame, bytes, f.bits.word, f.bits.shift + b) * std::ldexp(negative ? -1.0 : 1.0, b);
  }
  return sum;
}

const program::Frame& frame_named(const program::Program& p, const std::string& name) {
  for (const program::Frame& f : p.frames) {
    if (f.name == name) return f;
  }
  FAIL("no frame " << name);
  return p.frames.front();
}

}  // namespace

TEST_CASE("Packed fields are where an account bit by bit finds them, and come back unchanged") {
  for (std::uint64_t seed = 1; seed <= 600; ++seed) {
    INFO("seed " << seed);
    const program::Frame frame = random_frame(seed);
    RandomStream random(seed, "values");
    std::vector<double> values, back(frame.fields.size());
    for (const program::FrameField& f : frame.fields) {
      const double span = std::ldexp(1.0, f.bits.width);
      const double x = std::floor(random.uniform() * span) - (f.is_signed ? span / 2 : 0);
      const double ends[] = {f.is_signed ? -span / 2 : 0, (f.is_signed ? span / 2 : span) - 1};
      values.push_back(random.uniform() < 0.3 ? ends[random.uniform() < 0.5 ? 0 : 1] : x);
    }
    const io::FrameCodec codec(frame);
    std::vector<std::byte> bytes(codec.bytes(), std::byte{0xa5});
    codec.pack(values, bytes.data());
    std::vector<std::vector<bool>> used(static_cast<std::size_t>(frame.words), std::vector<bool>(64, false));
    for (std::size_t i = 0; i < values.size(); ++i) {
      const program::BitRange& b = frame.fields[i].bits;
      CHECK(slowly(frame, frame.fields[i], bytes) == values[i]);
      for (int k = 0; k < b.width; ++k)
        used[static_cast<std::size_t>(b.word)][static_cast<std::size_t>(b.shift + k)] = true;
    }
    for (int w = 0; w < frame.words; ++w) {
      for (int b = 0; b < 64; ++b) {
        if (!used[static_cast<std::size_t>(w)][static_cast<std::size_t>(b)]) CHECK(bit_of(frame, bytes, w, b) == 0);
      }
    }
    codec.unpack(bytes.data(), back);
    CHECK(back == values);
  }
}

TEST_CASE("A frame of more fields than fit between is packed in pieces") {
  program::Frame frame;
  frame.words = 20;
  for (int w = 0; w < 20; ++w) {
    for (int b = 0; b < 64; ++b) {
      frame.fields.push_back({});
      frame.fields.back().bits = {w, b, 1};
    }
  }
  const io::FrameCodec codec(frame);
  std::vector<double> values, back(frame.fields.size());
  for (std::size_t i = 0; i < frame.fields.size(); ++i) values.push_back(i % 3 == 0 ? 1 : 0);
  std::vector<std::byte> bytes(codec.bytes());
  codec.pack(values, bytes.data());
  codec.unpack(bytes.data(), back);
  CHECK(back == values);
}

TEST_CASE("A time of 64 bits is whole in its word") {
  program::Frame frame;
  frame.words = 1;
  frame.bytes_from_high = true;
  frame.fields.resize(1);
  frame.fields[0].kind = program::FrameField::Kind::time;
  const io::FrameCodec codec(frame);
  std::vector<std::byte> bytes(8);
  std::vector<double> back(1);
  codec.pack(std::vector<double>{0x1p62}, bytes.data());
  CHECK(bytes[0] == std::byte{0x40});
  codec.unpack(bytes.data(), back);
  CHECK(back[0] == 0x1p62);
}

TEST_CASE("Bits are numbered from either end, bytes sent from either end") {
  const auto bytes_of = [](const std::string& ends) {
    const auto p = program_of("bench B { step 1 ms\n  input n : int = 0\n  frame f { words 1  " + ends + R"(
    field n  bits 0 .. 11 of word 0
    spare    bits 12 .. 63 of word 0
  }
})");
    std::vector<std::byte> bytes(8);
    io::FrameCodec(p->frames[0]).pack(std::vector<double>{0xabc}, bytes.data());
    std::string text;
    for (const std::byte b : bytes) text += fmt::format("{:02x}", static_cast<int>(b));
    return text;
  };
  CHECK(bytes_of("bits from low  bytes from low") == "bc0a000000000000");
  CHECK(bytes_of("bits from low  bytes from high") == "0000000000000abc");
  CHECK(bytes_of("bits from high  bytes from high") == "abc0000000000000");
  CHECK(bytes_of("bits from high  bytes from low") == "000000000000c0ab");
}

TEST_CASE("The worked example of `io layout` is what Python reads in its bytes") {
  const Output output = run_isodyne("io layout " + kBridge + " --json");
  REQUIRE(output.status == 0);
  const TestFolder folder;
  folder.write("frames.json", output.out);
  folder.write("read.py", R"(
import json
for f in json.load(open('frames.json')):
    order = 'big' if f['bytes_from'] == 'high' else 'little'
    data = bytes(f['bytes'])
    assert len(data) == 8 * f['words']
    for x in f['fields']:
        word = int.from_bytes(data[8 * x['word']:8 * x['word'] + 8], order)
        n = (word >> x['shift']) & ((1 << x['width']) - 1)
        if x['kind'] == 'signed' and n >> (x['width'] - 1): n -= 1 << x['width']
        assert n == x['number'], x
        print(x['name'])
)");
  const Output read = shell("/usr/bin/python3 read.py", folder.path());
  INFO(read.err);
  CHECK(read.status == 0);
  CHECK(read.out.find("turn\n") != std::string::npos);
  CHECK(read.out.find("switches\n") != std::string::npos);
}

TEST_CASE("What the C header sets is what the frame holds, and what it gets is what was packed") {
  const TestFolder folder;
  REQUIRE(run_isodyne("export header " + kBridge + " --out " + (folder / "box.h")).status == 0);
  folder.write("use.c", R"(
#include "box.h"
#include <math.h>
#include <stdio.h>
int main(void) {
  box_in_frame in = {{0}};
  box_in_set_time(&in, 1500000);
  box_in_set_wedges_clear(&in, true);
  box_in_set_barriers_open(&in, true);
  box_in_set_counter(&in, 42);
  box_in_set_motor_current_value(&in, 12.76);
  box_in_set_wind_torque(&in, -614);
  box_in_set_turn(&in, -2516582);
  box_in_set_version(&in, 3);
  for (unsigned i = 0; i < sizeof in.byte; ++i) printf("%d ", in.byte[i]);
  printf("\n%lld %lld %.6f %d\n", (long long)box_in_get_turn(&in), (long long)box_in_get_wind_torque(&in),
         box_in_get_motor_current_value(&in), (int)box_in_get_switches(&in));
  box_out_frame out = {{0}};
  box_out_set_drive_value(&out, 1e9); printf("%lld ", (long long)box_out_get_drive(&out));
  box_out_set_drive_value(&out, -1e9); printf("%lld ", (long long)box_out_get_drive(&out));
  box_out_set_drive_value(&out, NAN); printf("%lld ", (long long)box_out_get_drive(&out));
  box_out_set_drive_value(&out, -0.0506); printf("%lld ", (long long)box_out_get_drive(&out));
  box_out_set_lamp(&out, 9); printf("%d ", (int)box_out_get_lamp(&out));
  return 0;
}
)");
  const Output built =
      shell(fmt::format("{} -std=c11 -Wall -Wextra -Wpedantic -Wconversion -Werror -I{}/include -o use "
                        "use.c && ./use",
                        ISODYNE_C_COMPILER, ISODYNE_SOURCE_FOLDER),
            folder.path());
  INFO(built.err);
  REQUIRE(built.status == 0);
  const auto program = program_in("examples/swing-bridge/bridge.dyne");
  const program::Frame& frame = frame_named(*program, "box_in");
  std::vector<double> values;
  for (const program::FrameField& f : frame.fields) {
    const std::pair<const char*, double> given[] = {{"time", 1500000},  {"wedges_clear", 1},     {"barriers_open", 1},
                                                    {"counter", 42},    {"motor_current", 1638}, {"wind_torque", -614},
                                                    {"turn", -2516582}, {"version", 3}};
    double value = 0;
    for (const auto& [name, x] : given) value = f.name == name ? x : value;
    values.push_back(value);
  }
  std::vector<std::byte> bytes(24);
  io::FrameCodec(frame).pack(values, bytes.data());
  std::string expected;
  for (const std::byte b : bytes) expected += fmt::format("{} ", static_cast<int>(b));
  CHECK(built.out == expected + "\n-2516582 -614 12.760000 10\n2047 -2048 -2048 -51 3 ");
}

namespace {
/// A bench whose controller answers what it reads: each field of `out` is that of `in`.
constexpr const char* kEcho = R"(
choice Gear { first, second, third }
bench Echo {
  step 1 ms
  record every 1 ms
  let truth : m = if time < 50 ms then 2 m else -3 m
  input many : int = 5
  input gear : Gear = second
  sensor level { of truth  counts 100 per m  word 12 bit signed  every 1 ms }
  sensor wet   { of truth > 0 m  every 1 ms }
  actuator gap : m { counts 100 per m  word 12 bit signed  start 1 m  lost 4 m }
  actuator open : bool { lost true }
  actuator drive : Gear { }
  frame up { words 2  bits from high  bytes from high
    time         bits 32 .. 63 of word 1 in us
    counter      bits 24 .. 31 of word 1
    field gear   bits 20 .. 21 of word 1
    field many   bits 22 .. 23 of word 1
    spare        bits 0 .. 19 of word 1
    field level  bits 0 .. 15 of word 0 signed
    field wet    bit 16 of word 0
    spare        bits 17 .. 63 of word 0
    port  both   bits 0 .. 16 of word 0
  }
  frame down { words 1  bits from low  bytes from low
    field gap    bits 0 .. 11 of word 0 signed
    field open   bit 12 of word 0
    field drive  bits 13 .. 15 of word 0
    field heard : int  bits 16 .. 23 of word 0
    spare        bits 24 .. 63 of word 0
  }
  controller c { every 2 ms  reads up  writes down  lost safe  setting here = library "echo" }
}
fault bit_lost { on up.level   offset 64    from 20 ms to 30 ms }
fault all_low  { on up.both    force 0      from 20 ms to 30 ms }
fault stuck    { on down.open  force false  from 20 ms to 30 ms }
fault wrong    { on down.drive force third  from 20 ms to 30 ms }
fault deaf     { on down.heard force 77     from 20 ms to 30 ms }
)";

struct Echo : ports::ControllerPort {
  Time lost_at = Time::max();
  Status open(Time) override { return Done{}; }
  Status exchange(Time now, std::span<const double> r, std::span<double> w) override {
    if (now >= lost_at) return Failure{"controller `c`", "", "went silent"};
    w[0] = r[4];  // gap = level
    w[1] = r[5];  // open = wet
    w[2] = r[2];  // drive = gear
    w[3] = r[1];  // heard = counter
    return Done{};
  }
  void close() override {}
};

/// Values at an instant of a run of the echo.
struct EchoRun {
  Seen seen;
  bench::RunResult result;
  explicit EchoRun(const std::string& fault, Time lost_at = Time::max())
      : seen(program_of(kEcho), {"gap", "open", "up.level", "up.both", "up.counter", "up.time", "down.heard", "drive",
                                 "up.many", "gap.counts", "down.gap"}) {
    bench::RunPlan plan;
    plan.longest = std::chrono::milliseconds(100);
    for (std::size_t i = 0; i < seen.program->faults.size(); ++i) {
      if (seen.program->faults[i].name == fault) plan.faults.push_back(static_cast<std::int32_t>(i));
    }
    const bench::PortMaker maker = [&](const program::Controller&, const program::Setting&) {
      auto port = std::make_unique<Echo>();
      port->lost_at = lost_at;
      return port;
    };
    bench::Run run(seen.program, plan, maker, seen);
    const std::atomic<bool> stop{false};
    result = run.execute(stop);
  }
  double at(const char* name, std::size_t ms) const {
    for (std::size_t i = 0; i < seen.names.size(); ++i) {
      if (seen.names[i] == name) return seen.values[i][ms];
    }
    return std::nan("");
  }
};
}  // namespace

TEST_CASE("Quantities go through the fields of frames there and back, one period later") {
  const EchoRun run("");
  CHECK(run.at("gap", 0) == 1);
  CHECK(run.at("gap", 1) == 1);
  CHECK(run.at("gap", 2) == 2);
  CHECK(run.at("up.level", 10) == 200);
  CHECK(run.at("gap", 51) == 2);
  CHECK(run.at("gap", 52) == -3);
  CHECK(run.at("down.gap", 60) == -300);
  CHECK(run.at("gap.counts", 60) == -300);
  CHECK(run.at("up.both", 10) == 200 * 2 + 1);
  CHECK(run.at("up.both", 60) == ((1 << 16) - 300) * 2);
  CHECK(run.at("open", 10) == 1);
  CHECK(run.at("drive", 10) == 1);
  CHECK(run.at("up.time", 61) == 60000);
  CHECK(run.at("up.counter", 61) == 30);
  CHECK(run.at("down.heard", 61) == 29);
  // 5 does not fit into two bits: it is told, once for all exchanges.
  CHECK(run.at("up.many", 10) == 3);
  REQUIRE(run.result.saturated.size() == 1);
  CHECK(run.result.saturated[0].channel == "up.many");
  CHECK(run.result.saturated[0].samples == 51);
}

TEST_CASE("Faults act on fields and on ports, in both directions") {
  CHECK(EchoRun("bit_lost").at("gap", 24) == 2.64);
  CHECK(EchoRun("bit_lost").at("gap", 40) == 2);
  const EchoRun low("all_low");
  CHECK(low.at("up.level", 24) == 0);
  CHECK(low.at("gap", 24) == 0);
  CHECK(low.at("open", 24) == 0);
  CHECK(low.at("open", 40) == 1);
  CHECK(EchoRun("stuck").at("open", 24) == 0);
  CHECK(EchoRun("wrong").at("drive", 24) == 2);
  CHECK(EchoRun("deaf").at("down.heard", 24) == 77);
  CHECK(EchoRun("deaf").at("down.heard", 41) == 19);
}

TEST_CASE("Actuators in a frame take their safe values when the controller is lost") {
  const EchoRun run("", std::chrono::milliseconds(60));
  CHECK(run.result.ending == observe::Ending::completed);
  CHECK(run.at("gap", 61) == -3);
  CHECK(run.at("gap", 62) == 4);
  CHECK(run.at("open", 62) == 1);
  CHECK(run.at("gap.counts", 62) == 400);
  REQUIRE(run.result.remarks.size() == 1);
  CHECK(run.result.remarks[0].find("gap takes 4 m, open takes true, drive holds second") != std::string::npos);
}
